"""Deep and wide recursion."""


def paths(right, down):
    if right == 0 or down == 0:
        return 1
    return paths(right - 1, down) + paths(right, down - 1)


def work():
    return paths(6, 7)
