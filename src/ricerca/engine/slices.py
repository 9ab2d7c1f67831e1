"""What happened when: a stretch of the run, and the growth of a function's cost over it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ricerca.engine.profile import Profile


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


LEAST_POINTS = 6
LEAST_RISE = 1.0
POINTS = 24


@dataclass(frozen=True)
class Growth:
    """Own time per call over the run: ``per_call_ns`` at ``at`` (0 to 1), straight line ``first_ns`` to ``last_ns``.

    ``raw_rise`` is by how much the line of the raw times rises, as a share of its beginning.
    """

    at: np.ndarray
    per_call_ns: np.ndarray
    first_ns: float
    last_ns: float
    raw_rise: float

    @property
    def factor(self) -> float:
        """By how much a call at the end is dearer than one at the beginning."""
        return self.last_ns / max(self.first_ns, 1e-9)

    @property
    def rises(self) -> bool:
        """Whether a call at the end costs twice as much as one at the beginning, the recorder's cost deducted or not."""
        return self.first_ns > 0 and self.last_ns > (1 + LEAST_RISE) * self.first_ns and self.raw_rise > LEAST_RISE


def growth(profile: Profile, function: int) -> Growth | None:
    """How the cost of a call changed over the run; None where the function was called in too few stretches of it.

    The straight line is a least-squares fit, each stretch weighted by its calls.
    """
    rows = profile.slices_of(function)
    calls, times = profile.slice_calls[rows], _scaled(profile, rows)
    if calls.sum() < LEAST_POINTS:
        return None
    numbers = profile.slice_number[rows]
    first_slice, width = int(numbers.min()), int(numbers.max() - numbers.min()) + 1
    bins = (numbers - first_slice) * POINTS // width
    by_calls, by_time = np.bincount(bins, calls, POINTS), np.bincount(bins, times, POINTS)
    by_raw = np.bincount(bins, profile.slice_self_ns[rows], POINTS)
    used = np.flatnonzero(by_calls > 0)
    if len(used) < LEAST_POINTS:
        return None
    at, per_call = (first_slice + (used + 0.5) / POINTS * width) / profile.slice_count, by_time[used] / by_calls[used]
    weights = np.sqrt(by_calls[used])
    ends = [np.polyval(np.polyfit(at, values, 1, w=weights), at[[0, -1]]) for values in (per_call, by_raw[used] / by_calls[used])]
    (first, last), (raw_first, raw_last) = np.maximum(ends, 0.0)
    return Growth(at, per_call, float(first), float(last), float(raw_last / max(raw_first, 1e-9) - 1))


LEAST_GROWN = 0.02


def growing(profile: Profile, self_ns: np.ndarray) -> dict[int, Growth]:
    """The functions whose calls become dearer over the run, of those that take enough of it to matter.

    Parameters
    ----------
    profile : Profile
    self_ns : (functions,) int array
        Time of each function's own.
    """
    floor = LEAST_GROWN * max(profile.total_ns, 1)
    found = {int(number): growth(profile, int(number)) for number in np.flatnonzero(self_ns >= floor)}
    return {number: one for number, one in found.items() if one is not None and one.rises}
