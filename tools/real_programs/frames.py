import pandas as pd

seen = 0


def widen(row):
    global seen
    seen += 1
    return row["a"] * 2 + row["b"]


frame = pd.DataFrame({"a": range(800), "b": [n % 7 for n in range(800)]})
frame["c"] = frame.apply(widen, axis=1)
table = frame.groupby("b")["c"].agg(["mean", "max"])
print(table.round(2).to_csv(), frame.merge(frame, on="b").shape)
print(f"COUNT widen={seen}")
