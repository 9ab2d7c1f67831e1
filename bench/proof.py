"""What our claims rest on, measured: blocks of known time, the cost of sparse runs, verdicts of a code against itself.

python bench/proof.py [PYTHON ...]
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import numpy as np
import truth

from ricerca.measure.estimates import LOOKS, NO_DIFFERENCE, ratio_of_pairs

Row = tuple[str, float, float, float, float | None]
"""Name, figure, lowest, highest, limit."""
TRIALS = 1000
MS = 1e6


def all_interpreters() -> list[str]:
    """Each interpreter that can be recorded, where it is there."""
    root = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv"), "versions")
    found = [sorted(root.glob(f"3.{minor}.*/bin/python3.{minor}"))[-1:] for minor in range(9, 14)]
    return [str(one[0]) for one in found if one] or [sys.executable]


def of_truth(python: str, runs: int) -> list[Row]:
    """How far the told times of known blocks are from the true ones."""
    one, name = truth.measure(python, runs), Path(python).name
    around = f" (plain runs differ by {one.swing:.0%})"
    share, block = round(one.worst_share, 2), round(abs(one.worst_block), 3)
    return [
        (f"known blocks, {name}: points that the worst share is off{around}", share, 0.0, share, 2.0),
        (f"known blocks, {name}: how far the worst block is off, {one.worst_name}", block, 0.0, block, 0.1),
        (f"known blocks, {name}: how far the total is off", round(abs(one.total), 3), 0.0, round(abs(one.total), 3), 0.05),
        (f"sparse run / plain, {name}, the least of each block", round(one.sparse_cost, 3), 0.0, round(one.sparse_cost, 3), 1.02),
        (f"known blocks, {name}: of 16 outside their interval", float(one.outside), 0.0, 16.0, None),
    ]  # fmt: skip


def restless(rng: np.random.Generator, runs: int) -> np.ndarray:
    """Logarithms of the slowness of runs on a machine with a drift, a neighbour that comes and goes, and heavy tails."""
    there = np.cumsum(rng.random(runs) < 0.3) % 2
    return rng.standard_t(3, runs) * 0.01 + np.cumsum(rng.normal(0, 0.01, runs)) + 0.3 * there


def in_turn(slowness: np.ndarray, base_ns: float, new_ns: float) -> list[tuple[int, int]]:
    """Times of pairs A B, B A, … by the slowness of each run in the order in which it was made."""
    both = np.exp(slowness).reshape(-1, 2).copy()
    both[1::2] = both[1::2, ::-1]
    return [(round(base_ns * a), round(new_ns * b)) for a, b in both]


def of_verdicts() -> list[Row]:
    """False verdicts of a code against itself, and how often intervals hold the truth, by simulation of a restless machine."""
    rng = np.random.default_rng(1)
    false = held = 0
    for _ in range(TRIALS):
        slowness = restless(rng, 2 * LOOKS[-1])
        for count in LOOKS:
            found = ratio_of_pairs(in_turn(slowness[: 2 * count], 100 * MS, 100 * MS), looked=True)
            if found.settled:
                false += found.verdict != NO_DIFFERENCE
                break
        five = ratio_of_pairs(in_turn(slowness[:10], 125 * MS, 100 * MS))
        assert five.interval is not None
        held += five.interval[0] <= 1.25 <= five.interval[1]
    return [
        ("verdicts: false ones of a code against itself, simulated", round(false / TRIALS, 3), 0.0, 1.0, 0.05),
        ("verdicts: intervals of five pairs that miss the truth, simulated", round(1 - held / TRIALS, 3), 0.0, 1.0, 0.07),
    ]


def figures(pythons: list[str], runs: int) -> list[Row]:
    """All of them."""
    found = of_verdicts()
    for python in pythons:
        found += of_truth(python, runs)
    return found


if __name__ == "__main__":
    for row in figures(sys.argv[1:] or all_interpreters(), 8):
        over = " OVER" if row[4] is not None and row[1] > row[4] else ""
        print(f"{row[0]}: {row[1]}" + (f" (limit {row[4]}{over})" if row[4] is not None else ""))
