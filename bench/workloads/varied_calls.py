"""Functions that call each other in many different ways: thousands of chains of calls, each short."""

import random


def number(tree):
    return tree[1]


def add(tree):
    return value(tree[1]) + value(tree[2])


def least(tree):
    return min(value(tree[1]), value(tree[2]))


def half(tree):
    return value(tree[1]) / 2


def choose(tree):
    if value(tree[1]) > 0:
        return value(tree[2])
    return value(tree[3])


def value(tree):
    return tree[0](tree)


def grown(source, depth):
    if depth == 0:
        return number, source.random() - 0.5
    kind, parts = source.choice(((add, 2), (least, 2), (half, 1), (choose, 3)))
    return kind, *(grown(source, depth - 1) for _ in range(parts))


source = random.Random(4)
trees = [grown(source, 8) for _ in range(40)]


def work():
    return sum(value(tree) for tree in trees)
