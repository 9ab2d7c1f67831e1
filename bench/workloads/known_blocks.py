"""Sixteen blocks of work of different kinds, each of which can say itself how long it took.

    known_blocks.py RESULTS.json [SCALE]

Writes the nanoseconds of each block, summed over its calls, by the monotonic clock. A block is one function, called a
few times.
"""

import json
import re
import sys
import time
from pathlib import Path

scale = float(sys.argv[2]) if len(sys.argv) > 2 else 1.0
took = {}


def times(count):
    return range(int(count * scale))


def tiny():
    pass


def tiny_calls():
    for _ in times(150000):
        tiny()


class Point:
    def __init__(self, x, y):
        self.x = x
        self.y = y

    def moved(self, by):
        return Point(self.x + by, self.y - by)


def small_objects():
    point = Point(1, 2)
    for _ in times(25000):
        point = point.moved(1)


def deep(n):
    return 1 if n == 0 else 1 + deep(n - 1)


def recursion():
    for _ in times(220):
        deep(300)


def arithmetic():
    total = 0.0
    for i in times(160000):
        total += i * 0.5 - i % 7
    return total


def nested_loops():
    total = 0
    for i in times(260):
        for j in range(500):
            if i ^ j & 3:
                total += j
    return total


DATA = [(i * 7919) % 100003 for i in range(60000)]


def long_native():
    for _ in times(6):
        sorted(DATA)


def builtin_calls():
    found = 0
    for row in times(120000):
        found += len("abc") + abs(row)
    return found


def key_of(value):
    return value % 1009


def sort_with_key():
    for _ in times(3):
        sorted(DATA[:25000], key=key_of)


def texts():
    parts = [f"{i:05d}" + str(i).upper() for i in times(40000)]
    return ",".join(parts).split(",")


def dictionaries():
    counts = {}
    for i in times(90000):
        key = i % 997
        counts[key] = counts.get(key, 0) + 1
    return counts


def numbers(count):
    for i in range(count):
        yield i * 3


def generators():
    return sum(value for value in numbers(int(110000 * scale)))


def exceptions():
    missed = 0
    for i in times(45000):
        try:
            if i % 2:
                raise KeyError(i)
        except KeyError:
            missed += 1
    return missed


def attributes():
    class Place:
        pass

    place = Place()
    place.a = place.b = 1
    for _ in times(130000):
        place.a = place.b + place.a % 5
    return place.a


def patterns():
    word = re.compile(r"(\w+)-(\d+)")
    for i in times(22000):
        word.match(f"row-{i}")


def closures():
    def adder(n):
        return lambda x: x + n

    total = 0
    for i in times(55000):
        total = adder(i)(total)
    return total


def waits():
    for _ in times(6):
        time.sleep(0.004)


BLOCKS = [tiny_calls, small_objects, recursion, arithmetic, nested_loops, long_native, builtin_calls, sort_with_key, texts, dictionaries,
          generators, exceptions, attributes, patterns, closures, waits]  # fmt: skip


def main():
    for _ in range(3):
        for block in BLOCKS:
            began = time.monotonic_ns()
            block()
            took[block.__name__] = took.get(block.__name__, 0) + time.monotonic_ns() - began
    with Path(sys.argv[1]).open("w") as file:
        json.dump(took, file)


main()
