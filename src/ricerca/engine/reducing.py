"""Leaves contexts of a profile out: their time is dropped, or charged to the nearest caller that stays."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.engine.forest import homes_of, preorder, running_sum
from ricerca.engine.profile import Profile, group_sums

COLUMNS = ("function", "calls", "resumes", "thread")
TIMES = ("self_ns", "raw_self_ns", "waiting_ns")
MOST_STEPS, FEW_TOPS = 100, 1000
FEW = 8
"""Where one in so many is left out, each is booked by itself."""


def keep(profile: Profile, kept: np.ndarray, charged: bool, there: np.ndarray | None = None, same_nesting: bool = False) -> Profile:
    """The profile without the other contexts; the thread roots always stay.

    Parameters
    ----------
    profile : Profile
    kept : (n,) bool array
    charged : bool
        Whether the time of what is left out counts at its nearest caller that stays; else it is
        dropped. What a kept context was called through does not matter: its call site becomes
        the line in that nearest caller.
    there : (n,) bool array, optional
        Of what is left out only these contexts are charged, the time of the others is dropped.
    same_nesting : bool
        Whether it is known that whatever stays lies below the same functions that stay as before,
        if below any of its own.
    """
    kept = kept | (profile.parent < 0)
    if kept.all():
        return profile
    rows = np.flatnonzero(kept)
    place = running_sum(kept)  # of those that are kept; and of the end of a subtree, whether kept or not
    above, line = np.take(profile.parent, rows), np.take(profile.line, rows)
    orphans = np.flatnonzero((above >= 0) & ~kept[above])
    if len(orphans):
        above[orphans], top = _climbed(kept, profile.parent, above[orphans])
        line[orphans] = profile.line[top]
    parent = np.take(place, above)
    parent[above < 0] = -1
    gone = (~kept if there is None else there & ~kept) if charged else np.zeros(len(kept), bool)
    columns: dict[str, Any] = {name: np.take(getattr(profile, name), rows) for name in COLUMNS}
    inclusive_ns: np.ndarray | None = None
    end = np.take(profile.end, rows)
    away = np.flatnonzero(gone)
    if len(away) * FEW < len(rows):
        to = place[_climbed(kept, profile.parent, away)[0]]
        for name in TIMES:
            columns[name] = np.take(getattr(profile, name), rows)
            np.add.at(columns[name], to, getattr(profile, name)[away])
    else:
        times, inclusive_ns = _charged_times(profile, rows, end, parent, None if there is None else there | kept)
        columns |= times
    columns |= _slices_and_spans(profile, kept, place, gone)
    found = replace(profile, parent=parent, end=np.take(place, end), line=line, **columns)
    if inclusive_ns is not None:
        found.__dict__["inclusive_ns"] = inclusive_ns
    if same_nesting and "outermost" in profile.__dict__:
        found.__dict__["outermost"] = profile.outermost[rows]
    return found


def _climbed(kept: np.ndarray, parent: np.ndarray, start: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Homes and tops of some contexts that are left out, step by step while that is quick; see ``homes_of``."""
    top, pending = start.copy(), np.arange(len(start))
    for _step in range(MOST_STEPS):
        above = parent[top[pending]]
        further = ~kept[above]
        pending = pending[further]
        if not len(pending):
            return parent[top], top
        top[pending] = above[further]
    home, whole_top = homes_of(kept, parent)
    return home[start], whole_top[start]


def _charged_times(
    profile: Profile, rows: np.ndarray, end: np.ndarray, parent: np.ndarray, counts: np.ndarray | None
) -> tuple[dict[str, np.ndarray], np.ndarray | None]:
    """Times of the rows that stay with what is gone added at its home, and the inclusive times.

    The time below a context stays the same, so its new time of its own is that less the time below
    those that it calls now. counts tells which contexts' time is there at all, None for all; end is
    one past the whole subtree of each row, parent its new one.
    """
    callers = np.where(parent < 0, len(rows), parent)
    found: dict[str, np.ndarray] = {}
    inclusive_ns = None
    for name in TIMES:
        values = getattr(profile, name)
        if not values.any():
            found[name] = np.take(values, rows)
            continue
        running = running_sum(values if counts is None else values * counts)
        whole = np.take(running, end)
        whole -= np.take(running, rows)
        found[name] = whole - group_sums(callers, whole, len(rows) + 1)[:-1]
        inclusive_ns = whole if name == "self_ns" else inclusive_ns
    return found, inclusive_ns


def _slices_and_spans(profile: Profile, kept: np.ndarray, place: np.ndarray, gone: np.ndarray) -> dict[str, Any]:
    """Slices follow their time, where that is charged; a call that is left out leaves no span."""
    found: dict[str, Any] = {}
    if not len(profile.slice_context) and not len(profile.span_context):
        return found
    sliced = np.flatnonzero(kept[profile.slice_context] | gone[profile.slice_context])
    target = profile.slice_context[sliced]
    charged = np.flatnonzero(gone[target])
    target[charged] = _climbed(kept, profile.parent, target[charged])[0]
    found["slice_context"] = place[target]
    for name in ("slice_number", "slice_self_ns", "slice_waiting_ns"):
        found[name] = getattr(profile, name)[sliced]
    found["slice_calls"] = np.where(kept[profile.slice_context[sliced]], profile.slice_calls[sliced], 0)
    spanned = kept[profile.span_context]
    found["span_context"] = place[profile.span_context[spanned]]
    for name in ("span_start_ns", "span_end_ns"):
        found[name] = getattr(profile, name)[spanned]
    return found


def _first_twins(profile: Profile) -> np.ndarray:
    """For each context the first one with the same chain of functions and call sites; level by level."""
    first = np.arange(len(profile))
    order = np.argsort(profile.depth, kind="stable")
    starts = np.searchsorted(profile.depth[order], np.arange(int(profile.depth.max(initial=0)) + 2))
    width = int(profile.line.max(initial=0)) + 1
    functions = len(profile.functions)
    for level in range(1, len(starts) - 1):
        rows = order[starts[level] : starts[level + 1]]
        key = (first[profile.parent[rows]] * functions + profile.function[rows]) * width + profile.line[rows]
        _keys, index, number = np.unique(key, return_index=True, return_inverse=True)
        first[rows] = rows[index][number]
    return first


def merged(profile: Profile) -> Profile:
    """The profile with contexts of the same chain put together; leaving others out makes such twins."""
    first = _first_twins(profile)
    own = np.arange(len(profile))
    rows = np.flatnonzero(first == own)
    if len(rows) == len(profile):
        return profile
    sums = {name: group_sums(first, getattr(profile, name), len(profile))[rows] for name in (*TIMES, "calls", "resumes")}
    place = np.cumsum(first == own) - 1
    parent = np.where(profile.parent[rows] >= 0, place[first[profile.parent[rows]]], -1)
    order, end = preorder(parent)
    back = np.empty(len(order), np.int64)
    back[order] = np.arange(len(order))
    chosen = rows[order]
    names: dict[str, Any] = {name: getattr(profile, name)[chosen] for name in ("function", "line", "thread")}
    names |= {name: values[order] for name, values in sums.items()}
    to_own = back[place[first]]
    return replace(
        profile,
        parent=np.where(parent[order] >= 0, back[parent[order]], -1),
        end=end,
        slice_context=to_own[profile.slice_context],
        span_context=to_own[profile.span_context],
        **names,
    )


def sheltered(profile: Profile, homes: np.ndarray) -> np.ndarray:
    """Whether each context lies below one of these, itself not counted; homes is an (n,) bool array.

    >>> from types import SimpleNamespace
    >>> sheltered(SimpleNamespace(end=np.array([4, 3, 3, 4])), np.array([False, True, False, False])).tolist()
    [False, False, True, False]
    """
    reach = profile.end * homes
    np.maximum.accumulate(reach, out=reach)
    found = np.zeros(len(homes), bool)
    np.greater(reach[:-1], np.arange(1, len(homes)), out=found[1:])
    return found


def below(profile: Profile, tops: np.ndarray) -> np.ndarray:
    """Whether each context lies in the subtree of one of these.

    >>> from types import SimpleNamespace
    >>> below(SimpleNamespace(end=np.array([4, 3, 3, 4])), np.array([1])).tolist()
    [False, True, True, False]
    """
    if len(tops) < FEW_TOPS:
        found = np.zeros(len(profile.end), bool)
        for top, end in zip(tops.tolist(), profile.end[tops].tolist(), strict=True):
            found[top:end] = True
        return found
    steps = np.zeros(len(profile.end) + 1, np.int64)
    steps[:-1] += np.bincount(tops, minlength=len(profile.end))
    steps -= np.bincount(profile.end[tops], minlength=len(steps))
    return np.cumsum(steps[:-1]) > 0
