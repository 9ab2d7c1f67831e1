"""Many calls of a function that does next to nothing."""


def add(a, b):
    return a + b


total = 0
for number in range(1_500_000):
    total = add(total, number)
print(total)
