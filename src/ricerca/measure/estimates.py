"""How much faster one round is than another: ratios with intervals that hold what they say, and verdicts."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

FASTER, SLOWER, NO_DIFFERENCE, UNDECIDED = "faster", "slower", "no difference", "undecided"
LEAST_RUNS = 3
CONFIDENCE = 0.95
MARGIN = 0.02
"""A difference this small is none, unless a person says otherwise."""
LOOKS = (6, 12, 24, 48, 96)
"""Numbers of pairs at which a comparison that goes on until it is settled is judged."""
LOOKED_CONFIDENCE = 1 - 0.0158
"""Where there are five such looks, each at this level, all of them together hold 95 % (Pocock, 1977)."""
TRIMMED, LEAST_TRIMMED = 0.2, 10
DRIFT = 0.03
"""Half the width of the 95 % interval of what a machine's speed changes by between rounds that were made apart."""
MOST_MORE = 2000
BY_PAIRS, BY_RUNS = "pairs", "runs"


@dataclass(frozen=True)
class Speedup:
    """``ratio`` is base over new: above 1 is faster. ``interval`` is None where it cannot be told."""

    ratio: float
    interval: tuple[float, float] | None
    verdict: str
    why: str = ""
    """What the verdict rests on, or why there is none."""
    evidence: str = ""
    """BY_PAIRS, BY_RUNS, or empty without any."""
    pairs: int = 0
    more: int | None = None
    """How many more pairs would settle an undecided one, about; None where that cannot be told."""

    @property
    def settled(self) -> bool:
        """Whether more pairs would hardly change the verdict."""
        return self.verdict != UNDECIDED


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


def mean_interval(values: np.ndarray, confidence: float = CONFIDENCE) -> tuple[float, float]:
    """Middle of a sample and half the width of its interval.

    Student's t; from ten values on of the mean without the outer fifth on each side, with winsorised deviation
    (Yuen, 1974), so that a few runs that were held up do not widen it.

    >>> middle, half = mean_interval(np.array([1.0, 2.0, 3.0]))
    >>> round(middle, 3), round(half, 3)
    (2.0, 2.484)
    """
    from scipy import stats

    count = len(values)
    cut = int(TRIMMED * count) if count >= LEAST_TRIMMED else 0
    kept = count - 2 * cut
    middle = float(stats.trim_mean(values, TRIMMED)) if cut else float(values.mean())
    inner = np.asarray(stats.mstats.winsorize(values, (TRIMMED, TRIMMED))) if cut else values
    error = float(inner.std(ddof=1)) / (kept / count * math.sqrt(count))
    return middle, float(stats.t.ppf((1 + confidence) / 2, kept - 1)) * error


def ratio_of_pairs(pairs_ns: Sequence[tuple[int, int]], looked: bool = False, margin: float = MARGIN) -> Speedup:
    """Ratio of two rounds from plain runs that were made in pairs, [base, new] each.

    Parameters
    ----------
    looked : bool
        Whether more pairs were made until the verdict was settled: the interval is widened for all the looks at it.
    margin : float
        A whole interval within it means no difference.
    """
    if not pairs_ns:
        return Speedup(float("nan"), None, UNDECIDED)
    logs = np.log(np.maximum(np.asarray(pairs_ns, float), 1))
    differences = logs[:, 0] - logs[:, 1]
    count = len(differences)
    if count < LEAST_RUNS:
        return Speedup(float(np.exp(np.median(differences))), None, UNDECIDED, _few(count, "pair"), BY_PAIRS, count, LEAST_RUNS - count)
    middle, half = mean_interval(differences, LOOKED_CONFIDENCE if looked else CONFIDENCE)
    found = _judged(middle, half, margin)
    many = f"{count} pairs of runs, made in turn"
    return replace(found, why=many, evidence=BY_PAIRS, pairs=count, more=_more(middle, half, count, margin) if not found.settled else None)


def ratio_of_runs(base_ns: Sequence[int], new_ns: Sequence[int], margin: float = MARGIN) -> Speedup:
    """The same from runs of two rounds that were made apart: weaker evidence.

    Welch's interval of the difference of mean logarithms (Welch, 1947), widened by what a machine's speed may have
    changed by in between.
    """
    if not len(base_ns) or not len(new_ns):
        return Speedup(float("nan"), None, UNDECIDED)
    ratio = float(np.median(base_ns) / max(float(np.median(new_ns)), 1.0))
    if min(len(base_ns), len(new_ns)) < LEAST_RUNS:
        return Speedup(ratio, None, UNDECIDED, _few(min(len(base_ns), len(new_ns)), "plain run"), BY_RUNS)
    from scipy import stats

    base, new = (np.log(np.maximum(np.asarray(side, float), 1)) for side in (base_ns, new_ns))
    steady = base.std() == 0 and new.std() == 0
    own = 0.0 if steady else float(np.diff(stats.ttest_ind(base, new, equal_var=False).confidence_interval(CONFIDENCE))[0]) / 2
    found = _judged(float(base.mean() - new.mean()), math.hypot(own, DRIFT), margin)
    return replace(found, why=f"{len(base)} and {len(new)} runs made apart, not in pairs: a change of the machine's speed in between "
                   f"is allowed for by {DRIFT:.0%} only", evidence=BY_RUNS)  # fmt: skip


def _few(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'} {'is' if count == 1 else 'are'} too few: {LEAST_RUNS} are needed"


def _judged(middle: float, half: float, margin: float) -> Speedup:
    low, high = math.exp(middle - half), math.exp(middle + half)
    within = math.log1p(margin)
    if middle - half >= -within and middle + half <= within:
        verdict = NO_DIFFERENCE
    else:
        verdict = FASTER if low > 1 else SLOWER if high < 1 else UNDECIDED
    return Speedup(math.exp(middle), (low, high), verdict)


def _more(middle: float, half: float, count: int, margin: float) -> int | None:
    """About how many more pairs make the interval narrow enough: to leave 1 out, or to lie within the margin."""
    within = math.log1p(margin)
    wanted = max(abs(middle), within - abs(middle))
    needed = math.ceil(count * (half / wanted) ** 2)
    return max(needed - count, 1) if needed <= MOST_MORE else None
