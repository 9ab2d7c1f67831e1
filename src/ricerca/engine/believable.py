"""Whether one round is faster than another, from plain runs alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

FASTER, SLOWER, NO_DIFFERENCE, UNKNOWN = "faster", "slower", "no difference", "unknown"
LEAST_RUNS = 3
CONFIDENCE = 0.95
RESAMPLES = 4000


@dataclass(frozen=True)
class Speedup:
    """``ratio`` is base over new: above 1 is faster. ``interval`` is None where it cannot be told."""

    ratio: float
    interval: tuple[float, float] | None
    verdict: str


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
    # Few runs make a bootstrap too sure of itself; the runs must also lie apart.
    apart_faster, apart_slower = min(base_ns) > max(new_ns), max(base_ns) < min(new_ns)
    small = min(len(base_ns), len(new_ns)) < 8
    if low > 1 and (apart_faster or not small):
        verdict = FASTER
    elif high < 1 and (apart_slower or not small):
        verdict = SLOWER
    else:
        verdict = NO_DIFFERENCE
    return Speedup(ratio, (low, high), verdict)


def _bootstrap(base: np.ndarray, new: np.ndarray) -> tuple[float, float]:
    """Interval of the ratio of medians. A few lines here, because a statistics package takes a second to load."""
    rng = np.random.default_rng(1)
    medians = [np.median(side[rng.integers(0, len(side), (RESAMPLES, len(side)))], axis=1) for side in (base, new)]
    tail = (1 - CONFIDENCE) / 2 * 100
    low, high = np.percentile(medians[0] / np.maximum(medians[1], 1), [tail, 100 - tail])
    return float(low), float(high)
