"""How counts and times grow with the size of the input."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ricerca.measure.estimates import CONFIDENCE

LEAST_SIZES, LEAST_RANGE = 3, 3.5
MOST_ERROR, MOST_ERROR_OF_THREE = 0.01, 0.003
CLEARER = 3.0
RESOLUTION = 2e-3
"""Laws whose fits are both better than this cannot be told apart."""
CONSTANT = "1"

Array = np.ndarray
_LAWS: tuple[tuple[str, Callable[[Array], Array], Callable[[Array], Array] | None], ...] = (
    ("log n", np.log, None),
    ("n", lambda n: n, None),
    ("n log n", lambda n: n * np.log(n), lambda n: n),
    ("n^2", lambda n: n**2, lambda n: n),
    ("n^2 log n", lambda n: n**2 * np.log(n), lambda n: n**2),
    ("n^3", lambda n: n**3, lambda n: n**2),
    ("n^4", lambda n: n**4, lambda n: n**3),
)
"""Name, leading term, and the term that mostly comes with it (such as n² in the count of all pairs, n (n - 1) / 2)."""


@dataclass(frozen=True)
class Law:
    """How a count grows. ``law`` is None where the sizes do not support one; ``exponent`` is the slope between logarithms."""

    law: str | None
    exponent: float | None


@dataclass(frozen=True)
class GrowthRow:
    """A function at several sizes: calls and self times in the order of the sizes.

    ``working_ns`` is the self time without what others on the machine took of it; how the time grows is told from it.
    """

    function: str
    module: str
    file: str
    line: int
    sizes: tuple[float, ...]
    calls: tuple[int, ...]
    self_ns: tuple[int, ...]
    working_ns: tuple[int, ...]
    calls_law: Law
    time_exponent: float | None
    time_exponent_interval: tuple[float, float] | None

    def self_ns_at(self, factor: float) -> float:
        """What it would take at so many times the largest size: by the law of its calls, or by its time where that grows more."""
        largest = self.sizes[-1]
        by_calls = self.working_ns[-1] * growth_between(self.calls_law, largest, largest * factor)
        if self.time_exponent_interval is None or self.time_exponent is None:
            return by_calls
        by_time = self.working_ns[-1] * factor**self.time_exponent
        sure = self.working_ns[-1] * factor ** self.time_exponent_interval[0]
        return by_time if sure > by_calls else by_calls


def law_of_counts(sizes: Sequence[float], counts: Sequence[int]) -> Law:
    """The law that exact counts follow.

    Each law is fitted as a sum of its leading term, the term that mostly comes with it and a constant, by least squares of the
    relative error. A law is told where it fits within 1 %, its leading term makes up most of the largest count, and no other law
    fits nearly as well; and only from three sizes on whose largest is 3.5 times the smallest.

    >>> law_of_counts([100, 200, 400, 800], [4950, 19900, 79800, 319600]).law
    'n^2'
    >>> law_of_counts([100, 200, 300], [100, 200, 300]).law is None
    True
    """
    n, y = np.asarray(sizes, float), np.asarray(counts, float)
    exponent = slope(n, y)
    if len(n) < LEAST_SIZES or n.min() <= 1 or n.max() < LEAST_RANGE * n.min():
        return Law(None, exponent)
    if (y == y[0]).all():
        return Law(CONSTANT if y[0] else None, 0.0 if y[0] else None)
    if (y <= 0).any():
        return Law(None, exponent)
    errors = sorted((error, name) for name, leading, second in _LAWS if (error := _error(n, y, leading, second)) is not None)
    if not errors or errors[0][0] > (MOST_ERROR if len(n) > LEAST_SIZES else MOST_ERROR_OF_THREE):
        return Law(None, exponent)
    if len(errors) > 1 and errors[1][0] < max(CLEARER * errors[0][0], RESOLUTION):
        return Law(None, exponent)
    return Law(errors[0][1], exponent)


def _error(n: Array, y: Array, leading: Callable[[Array], Array], second: Callable[[Array], Array] | None) -> float | None:
    """The relative error of the best fit of a law, with as few terms as serve; None where the law is not what dominates it."""
    found: list[float] = []
    terms = [leading(n), np.ones_like(n)]
    candidates = [terms[:1], terms]
    if second is not None and len(n) > LEAST_SIZES + 1:
        candidates.append([leading(n), second(n), np.ones_like(n)])
    elif second is not None and len(n) > LEAST_SIZES:
        candidates.append([leading(n), second(n)])
    for columns in candidates:
        weighted = np.stack([column / y for column in columns], axis=1)
        scale = np.abs(weighted).max(axis=0)
        parts, *_ = np.linalg.lstsq(weighted / scale, np.ones_like(y), rcond=None)
        parts = parts / scale
        rest = weighted @ parts - 1
        share = parts[0] * columns[0][-1] / y[-1]
        if not 0.5 <= share <= 2:
            continue
        found.append(float(np.sqrt((rest**2).sum() / (len(n) - len(columns)))))
    return min(found, default=None)


def slope(sizes: Array, values: Array) -> float | None:
    """The exponent of a power law through all points; None where one of them is 0."""
    if len(sizes) < 2 or (sizes <= 0).any() or (values <= 0).any() or sizes.max() == sizes.min():
        return None
    return float(np.polyfit(np.log(sizes), np.log(values), 1)[0])


def time_exponent(sizes: Sequence[float], times_ns: Sequence[int]) -> tuple[float | None, tuple[float, float] | None]:
    """The exponent of a time, with its 95 % interval (Student's t of the regression between logarithms) from three sizes on."""
    n, y = np.asarray(sizes, float), np.asarray(times_ns, float)
    exponent = slope(n, y)
    if exponent is None or len(n) < LEAST_SIZES or n.max() < LEAST_RANGE * n.min():
        return exponent, None
    from scipy import stats

    fit = stats.linregress(np.log(n), np.log(y))
    half = float(fit.stderr * stats.t.ppf(0.5 + CONFIDENCE / 2, len(n) - 2))
    return exponent, (exponent - half, exponent + half)


def growth_between(law: Law, smaller: float, larger: float) -> float:
    """By what factor a count grows between two sizes: by its law, else by its exponent; 1 where neither is known."""
    if law.law == CONSTANT:
        return 1.0
    for name, leading, _second in _LAWS:
        if name == law.law:
            ends = leading(np.asarray([smaller, larger], float))
            return float(ends[1] / ends[0])
    return math.pow(larger / smaller, law.exponent) if law.exponent is not None else 1.0


def growth_row(
    names: tuple[str, str, str, int], sizes: Sequence[float], calls: Sequence[int], self_ns: Sequence[int],
    working_ns: Sequence[int] | None = None,
) -> GrowthRow:  # fmt: skip
    """How a function grows; the names are function, module, file and line."""
    worked = self_ns if working_ns is None else working_ns
    exponent, interval = time_exponent(sizes, worked)
    return GrowthRow(*names, tuple(sizes), tuple(calls), tuple(self_ns), tuple(worked), law_of_counts(sizes, calls), exponent, interval)
