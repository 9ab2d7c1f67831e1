"""Does the work of a workload again and again: python bench/least.py WORKLOAD SECONDS; prints the least ns it took.

A piece of work takes about a millisecond. On a machine whose speed changes from second to second, some
of many such pieces meet it at its best, and these can be compared with each other.
"""

import importlib
import sys
import time

WARM = 20


def main(workload, seconds):
    work = importlib.import_module("workloads." + workload).work
    clock = time.perf_counter_ns
    for _ in range(WARM):
        work()
    least, end = 1 << 62, clock() + seconds * 1e9
    while True:
        start = clock()
        work()
        now = clock()
        least = min(least, now - start)
        if now >= end:
            return least


print(main(sys.argv[1], float(sys.argv[2])))
