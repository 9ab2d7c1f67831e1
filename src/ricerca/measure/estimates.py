"""Whether one round is faster than another, from plain runs alone."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

FASTER, SLOWER, NO_DIFFERENCE, UNKNOWN = "faster", "slower", "no difference", "unknown"
LEAST_RUNS = 3
CONFIDENCE = 0.95
RESAMPLES = 4000
RANK_P = 0.1
MOST_EXACT = 900


@dataclass(frozen=True)
class Speedup:
    """``ratio`` is base over new: above 1 is faster. ``interval`` is None where it cannot be told."""

    ratio: float
    interval: tuple[float, float] | None
    verdict: str
    why: str = ""
    """What the verdict rests on, or why there is none."""


def median_ns(times_ns: Sequence[int]) -> int | None:
    """Median of plain times, None without any.

    >>> median_ns([3, 1, 2])
    2
    """
    return int(np.median(times_ns)) if len(times_ns) else None


def spread(times_ns: Sequence[int]) -> float | None:
    """Half the range between the quartiles as a share of the median, None for fewer than two runs.

    >>> spread([100, 100, 100])
    0.0
    """
    if len(times_ns) < 2:
        return None
    low, middle, high = np.percentile(times_ns, [25, 50, 75])
    return float((high - low) / 2 / middle) if middle else None


def speedup(base_ns: Sequence[int], new_ns: Sequence[int]) -> Speedup:
    """Ratio of median plain times with its interval.

    The interval is a bootstrap (percentile method; Efron, 1979) of the ratio of medians. With
    fewer than three plain runs on a side there is no interval and the verdict is "unknown".
    """
    if not len(base_ns) or not len(new_ns):
        return Speedup(float("nan"), None, UNKNOWN)
    ratio = float(np.median(base_ns) / max(np.median(new_ns), 1))
    if min(len(base_ns), len(new_ns)) < LEAST_RUNS:
        return Speedup(ratio, None, UNKNOWN)
    low, high = _bootstrap(np.asarray(base_ns, float), np.asarray(new_ns, float))
    # Few runs make a bootstrap too sure of itself: their ranks must lie apart as well.
    apart = rank_sum_p(base_ns, new_ns) <= RANK_P
    verdict = FASTER if low > 1 and apart else SLOWER if high < 1 and apart else NO_DIFFERENCE
    return Speedup(ratio, (low, high), verdict)


def rank_sum_p(first: Sequence[int], second: Sequence[int]) -> float:
    """Two-sided probability that two sets of times lie so far apart by chance.

    The rank-sum test of Mann and Whitney (1947), its distribution counted out for small sets and
    taken as normal for large ones; ties count half.

    >>> round(rank_sum_p([1, 2, 3], [4, 5, 6]), 3)
    0.1
    """
    n, m = len(first), len(second)
    a, b = np.asarray(first)[:, None], np.asarray(second)[None, :]
    u = float((a > b).sum() + 0.5 * (a == b).sum())
    u = min(u, n * m - u)
    if n * m > MOST_EXACT:
        z = (u + 0.5 - n * m / 2) / math.sqrt(n * m * (n + m + 1) / 12)
        return min(1.0, math.erfc(-z / math.sqrt(2)))
    counts = [1] + [0] * (n * m)  # in how many of all orders each u comes up: a product of quotients of polynomials
    for i in range(1, n + 1):
        for k in range(n * m, m + i - 1, -1):
            counts[k] -= counts[k - m - i]
        for k in range(i, n * m + 1):
            counts[k] += counts[k - i]
    return min(1.0, 2 * sum(counts[: int(u) + 1]) / math.comb(n + m, n))


def _bootstrap(base: np.ndarray, new: np.ndarray) -> tuple[float, float]:
    """Interval of the ratio of medians. A few lines here, because a statistics package takes a second to load."""
    rng = np.random.default_rng(1)
    medians = [np.median(side[rng.integers(0, len(side), (RESAMPLES, len(side)))], axis=1) for side in (base, new)]
    tail = (1 - CONFIDENCE) / 2 * 100
    low, high = np.percentile(medians[0] / np.maximum(medians[1], 1), [tail, 100 - tail])
    return float(low), float(high)
