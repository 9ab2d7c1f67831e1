"""Many calls of a function that does next to nothing."""


def add(a, b):
    return a + b


def work():
    total = 0
    for number in range(8000):
        total = add(total, number)
    return total
