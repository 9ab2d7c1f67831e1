"""Figures by function: self and inclusive time, calls, first-entry calls, resumes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ricerca.engine.doubts import MATTERS, are_uncertain
from ricerca.engine.profile import KIND_THREAD, Profile, group_sums

ORDERS = ("self", "inclusive", "calls", "per call")


@dataclass(frozen=True)
class FunctionFigures:
    """One entry a function of the profile, in the order of its function table. Times in ns."""

    calls: np.ndarray
    first_entry_calls: np.ndarray
    resumes: np.ndarray
    self_ns: np.ndarray
    inclusive_ns: np.ndarray
    raw_self_ns: np.ndarray
    waiting_ns: np.ndarray
    shown: np.ndarray
    """Whether the function is one of the program (and not the start of a thread)."""
    profile: Profile

    @cached_property
    def raw_inclusive_ns(self) -> np.ndarray:
        """As ``inclusive_ns``, the recorder's own cost included; worked out when it is asked for."""
        return _by_function(self.profile, np.where(self.profile.outermost, self.profile.raw_inclusive_ns, 0))

    @property
    def per_call_ns(self) -> np.ndarray:
        """Inclusive time per first-entry call, 0 where there was none."""
        return self.inclusive_ns / np.maximum(self.first_entry_calls, 1)

    @cached_property
    def self_half_ns(self) -> np.ndarray:
        """Half the width of the 95 % interval of each self time; NaN where that is not known."""
        doubts = self.profile.doubts
        return doubts.self_ns if doubts is not None else np.full(len(self.calls), np.nan)

    @cached_property
    def inclusive_half_ns(self) -> np.ndarray:
        """The same of each inclusive time; known only where nothing is left out of what is read."""
        doubts = self.profile.doubts
        whole = doubts is not None and doubts.there is None
        return doubts.inclusive_ns if doubts is not None and whole else np.full(len(self.calls), np.nan)

    @cached_property
    def uncertain(self) -> np.ndarray:
        """Which self times are too little known to be relied on, of those that matter.

        Where intervals are not known: whether more than half of the raw self time was the recorder's own cost.
        """
        total_ns = self.profile.total_ns
        if self.profile.doubts is not None:
            return are_uncertain(self.self_half_ns, self.self_ns, total_ns)
        return is_uncertain(self.self_ns, self.raw_self_ns, self.profile.slowness) & (self.self_ns >= MATTERS * total_ns)


def is_uncertain(self_ns: np.ndarray, raw_self_ns: np.ndarray, slowness: float) -> np.ndarray:
    """Whether more than half of what was measured was the recorder's own cost; the machine's slowness is none of it.

    >>> is_uncertain(np.array([40, 60]), np.array([100, 100]), 1.0).tolist()
    [True, False]
    """
    return self_ns * 2 * slowness < raw_self_ns


def _by_function(profile: Profile, values: np.ndarray) -> np.ndarray:
    count = len(profile.functions)
    return group_sums(profile.function, values, count) if values.any() else np.zeros(count, np.int64)


def function_figures(profile: Profile) -> FunctionFigures:
    """All figures by function.

    Inclusive times and first-entry calls count only contexts whose function is not active already
    above them, so recursion is counted once.
    """
    calls = _by_function(profile, profile.calls)
    nested = np.flatnonzero(~profile.outermost)
    return FunctionFigures(
        calls=calls + profile.overflow_calls,
        first_entry_calls=calls - group_sums(profile.function[nested], profile.calls[nested], len(calls)),
        resumes=_by_function(profile, profile.resumes) + profile.overflow_resumes,
        self_ns=_by_function(profile, profile.self_ns),
        inclusive_ns=_by_function(profile, np.where(profile.outermost, profile.inclusive_ns, 0)),
        raw_self_ns=_by_function(profile, profile.raw_self_ns),
        waiting_ns=_by_function(profile, profile.waiting_ns),
        shown=np.asarray(profile.functions.kind) != KIND_THREAD,
        profile=profile,
    )


def ranked(figures: FunctionFigures, by: str = "self") -> np.ndarray:
    """Function numbers, the largest first; ties keep the order in which functions were first met.

    Parameters
    ----------
    by : {"self", "inclusive", "calls", "per call"}
    """
    key = {
        "self": figures.self_ns,
        "inclusive": figures.inclusive_ns,
        "calls": figures.calls,
        "per call": figures.per_call_ns,
    }[by]
    order = np.argsort(-key, kind="stable")
    return order[figures.shown[order]]


def running_share(self_ns: np.ndarray, total_ns: int) -> np.ndarray:
    """Share (0 to 1) of the whole that the first rows hold together.

    >>> running_share(np.array([50, 30, 20]), 100).tolist()
    [0.5, 0.8, 1.0]
    """
    return np.cumsum(self_ns) / max(total_ns, 1)


def if_faster(share: float, factor: float) -> float:
    """Speed-up of the whole if a part that takes this share (0 to 1) of it were factor times faster (Amdahl, 1967).

    >>> if_faster(0.5, 2)
    1.3333333333333333
    """
    return 1 / (1 - share + share / factor)


def ceiling(self_ns: int, total_ns: int) -> float:
    """Speed-up of the whole if this part cost nothing; infinite when it is the whole.

    >>> ceiling(50, 100)
    2.0
    """
    return total_ns / (total_ns - self_ns) if total_ns > self_ns else float("inf")
