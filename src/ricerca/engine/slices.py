"""What happened when: a stretch of the run, and the growth of a function's cost over it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ricerca.engine.profile import KIND_PYTHON, Profile, group_sums


def _scaled(profile: Profile, rows: np.ndarray) -> np.ndarray:
    """Compensated self time of slice rows: a slice's share of the raw time, of the compensated one."""
    context = profile.slice_context[rows]
    raw = np.maximum(profile.raw_self_ns[context], 1)
    return profile.slice_self_ns[rows] * (profile.self_ns[context] / raw)


def in_stretch(profile: Profile, first: int, last: int) -> Profile:
    """Only what happened from the first slice up to but without the last; resumes are not known by slice."""
    rows = np.flatnonzero((profile.slice_number >= first) & (profile.slice_number < last))
    context, count = profile.slice_context[rows], len(profile)
    values = {
        "calls": profile.slice_calls[rows],
        "raw_self_ns": profile.slice_self_ns[rows],
        "waiting_ns": profile.slice_waiting_ns[rows],
        "self_ns": _scaled(profile, rows),
    }
    columns: dict[str, Any] = {name: np.rint(np.bincount(context, part, count)).astype(np.int64) for name, part in values.items()}
    return replace(profile, resumes=np.zeros(count, np.int64), overflow_calls=np.zeros_like(profile.overflow_calls), **columns)


NUDGE = 1e-3
"""Share of the time that passes among the marks of progress: it decides where there are no others."""


def _work_done(profile: Profile, share: np.ndarray) -> np.ndarray:
    """How far the work has come at each slice's beginning and at the end of all, 0 to 1; share of each function's call."""
    count = profile.slice_count
    steps = profile.slice_calls * share[profile.function[profile.slice_context]]
    done = np.concatenate(([0.0], np.cumsum(np.bincount(profile.slice_number, steps, count))))
    return done + NUDGE * np.arange(count + 1) / count


def _marks(profile: Profile) -> dict[tuple[str, str], tuple[int, int]]:
    """Number and calls of each function by its name, where slices know them and no other goes by that name."""
    table = profile.functions
    calls = group_sums(profile.function[profile.slice_context], profile.slice_calls, len(table)).tolist()
    found: dict[tuple[str, str], tuple[int, int]] = {}
    for number, key in enumerate(zip(table.module, table.name, strict=True)):
        found[key] = (number, 0 if key in found else calls[number])
    return found


def _same_calls(profile: Profile, other: Profile) -> list[tuple[int, int, int]]:
    """Functions that both runs called equally often: number, calls, number in the other."""
    here, there = _marks(profile), _marks(other)
    return [(*here[key], there[key][0]) for key in here.keys() & there.keys() if here[key][1] == there[key][1] > 0]


def _times_of(profile: Profile, first: int = 0, last: int | None = None) -> np.ndarray:
    """Time of each function in some slices."""
    rows = slice(None) if last is None else np.flatnonzero((profile.slice_number >= first) & (profile.slice_number < last))
    return group_sums(profile.function[profile.slice_context[rows]], profile.slice_self_ns[rows], len(profile.functions))


def counterpart_evidence(profile: Profile, first: int, last: int, other: Profile) -> float:
    """Share (0 to 1) of the time of a stretch that is in functions which both runs called equally often: what a counterpart rests on."""
    if not profile.slice_count or not other.slice_count:
        return 0.0
    times = _times_of(profile, first, last)
    marks = [number for number, _calls, _twin in _same_calls(profile, other)]
    return float(times[marks].sum() / max(times.sum(), 1))


def counterpart(profile: Profile, first: int, last: int, other: Profile) -> tuple[int, int] | None:
    """The stretch of another run in which the same work was done; None where the other run has no slices.

    How far the work has come is told by the functions that both runs called equally often: each is a mark that moves from
    its first call to its last, and weighs as much as its time. Where there are none, time itself is the mark; see
    ``counterpart_evidence``.
    """
    if not profile.slice_count or not other.slice_count:
        return None
    same = _same_calls(profile, other)
    times = _times_of(profile)
    weights = np.asarray([times[number] + 1.0 for number, _calls, _twin in same])
    shares = np.zeros(len(profile.functions)), np.zeros(len(other.functions))
    for (number, calls, twin), weight in zip(same, weights / max(weights.sum(), 1.0), strict=True):
        shares[0][number] = shares[1][twin] = weight / calls
    done, goal = _work_done(profile, shares[0]), _work_done(other, shares[1])
    ends = np.minimum([first, last], profile.slice_count)
    begin, end = np.rint(np.interp(done[ends], goal, np.arange(len(goal)))).astype(int).tolist()
    begin = min(begin, other.slice_count - 1)
    return begin, max(end, begin + 1)


LEAST_POINTS = 6
LEAST_RISE = 1.0
POINTS = 24
MOST_CHANCE = 0.01
"""Of functions whose cost goes up and down without a trend, at most so many are taken for growing."""


@dataclass(frozen=True)
class Growth:
    """Own time per call over the run: ``per_call_ns`` at ``at`` (0 to 1), straight line ``first_ns`` to ``last_ns``.

    ``raw_rise`` is by how much the line of the raw times rises, as a share of its beginning; ``chance`` is the probability
    of a trend upwards like this where there is none.
    """

    at: np.ndarray
    per_call_ns: np.ndarray
    first_ns: float
    last_ns: float
    raw_rise: float
    chance: float

    @property
    def factor(self) -> float:
        """By how much slower a call at the end is than one at the beginning."""
        return self.last_ns / max(self.first_ns, 1e-9)

    @property
    def rises(self) -> bool:
        """Whether a call at the end takes twice as long as one at the beginning, the recorder's cost deducted or not, and not by chance."""
        rise = self.first_ns > 0 and self.last_ns > (1 + LEAST_RISE) * self.first_ns and self.raw_rise > LEAST_RISE
        return rise and self.chance <= MOST_CHANCE


def _at_their_calls(values: np.ndarray, calls: np.ndarray) -> np.ndarray:
    """Time in stretches in which no call began belongs to the calls that began before, else to the first."""
    began = np.flatnonzero(calls > 0)
    home = began[np.maximum(np.searchsorted(began, np.arange(len(values)), side="right") - 1, 0)]
    return np.bincount(home, values, len(values))


def growth(profile: Profile, function: int) -> Growth | None:
    """How the cost of a call changed over the run, waiting left out; None where too few stretches of it had calls.

    Whether it rises is told by ranks (Kendall, 1938), how much by the median of slopes (Theil, 1950; Sen, 1968): a few slow
    calls make no trend. Waits and builtins have no cost of their own that could grow with the work done: None.
    """
    if profile.functions.kind[function] != KIND_PYTHON:
        return None
    rows = profile.slices_of(function)
    calls, waits = profile.slice_calls[rows], profile.slice_waiting_ns[rows]
    if calls.sum() < LEAST_POINTS:
        return None
    ran = np.divide(profile.slice_self_ns[rows] - waits, profile.slice_self_ns[rows], where=profile.slice_self_ns[rows] > 0,
                    out=np.zeros(len(rows)))  # fmt: skip
    numbers = profile.slice_number[rows]
    first_slice, width = int(numbers.min()), int(numbers.max() - numbers.min()) + 1
    bins = (numbers - first_slice) * POINTS // width
    by_calls = np.bincount(bins, calls, POINTS)
    by_time = _at_their_calls(np.bincount(bins, _scaled(profile, rows) * ran, POINTS), by_calls)
    by_raw = _at_their_calls(np.bincount(bins, profile.slice_self_ns[rows] * ran, POINTS), by_calls)
    used = np.flatnonzero(by_calls > 0)
    if len(used) < LEAST_POINTS:
        return None
    from scipy import stats  # here, for it takes a while to load

    at, per_call = (first_slice + (used + 0.5) / POINTS * width) / profile.slice_count, by_time[used] / by_calls[used]
    lines = [stats.theilslopes(values, at) for values in (per_call, by_raw[used] / by_calls[used])]
    (first, last), (raw_first, raw_last) = (np.maximum(line.intercept + line.slope * at[[0, -1]], 0.0) for line in lines)
    chance = float(stats.kendalltau(at, per_call, alternative="greater").pvalue)
    return Growth(at, per_call, float(first), float(last), float(raw_last / max(raw_first, 1e-9) - 1), chance if chance == chance else 1.0)


LEAST_GROWN = 0.02


def growing(profile: Profile, self_ns: np.ndarray) -> dict[int, Growth]:
    """The functions whose calls become slower over the run, of those that take enough of it to matter.

    Parameters
    ----------
    profile : Profile
    self_ns : (functions,) int array
        Time of each function's own.
    """
    floor = LEAST_GROWN * max(profile.total_ns, 1)
    found = {int(number): growth(profile, int(number)) for number in np.flatnonzero(self_ns >= floor)}
    return {number: growth_ for number, growth_ in found.items() if growth_ is not None and growth_.rises}
