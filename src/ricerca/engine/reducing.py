"""Leaves contexts of a profile out: their time is dropped, or charged to the nearest caller that stays."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.engine.profile import Profile, group_sums, preorder

COLUMNS = ("function", "calls", "resumes", "thread")
TIMES = ("self_ns", "raw_self_ns", "waiting_ns")


def nearest(kept: np.ndarray, parent: np.ndarray) -> np.ndarray:
    """For each context itself if it is kept, else its nearest ancestor that is; roots must be kept.

    By doubling steps: O(n log depth).

    >>> nearest(np.array([True, False, False, True]), np.array([-1, 0, 1, 2])).tolist()
    [0, 0, 0, 3]
    """
    target = np.where(kept, np.arange(len(kept)), parent)
    pending = np.flatnonzero(~kept)
    while len(pending := pending[~kept[target[pending]]]):
        target[pending] = target[target[pending]]
    return target


def _top_left_out(kept: np.ndarray, parent: np.ndarray) -> np.ndarray:
    """For each context left out the topmost of the chain of those above it, which a kept one called."""
    own = np.arange(len(kept))
    rows = np.flatnonzero(~kept)
    top = own.copy()
    inner = rows[~kept[parent[rows]]]
    top[inner] = parent[inner]
    pending = inner
    while len(pending):
        further = top[top[pending]]
        pending = pending[further != top[pending]]
        top[pending] = top[top[pending]]
    return top


def keep(profile: Profile, kept: np.ndarray, charged: bool) -> Profile:
    """The profile without the other contexts; the thread roots always stay.

    Parameters
    ----------
    profile : Profile
    kept : (n,) bool array
    charged : bool
        Whether the time of what is left out counts at its nearest caller that stays; else it is
        dropped. What a kept context was called through does not matter: its call site becomes
        the line in that nearest caller.
    """
    kept = kept | (profile.parent < 0)
    if kept.all():
        return profile
    parent = profile.parent
    rows, gone = np.flatnonzero(kept), np.flatnonzero(~kept)
    count = len(rows)
    counted = np.concatenate(([0], np.cumsum(kept)))
    place = counted[1:] - 1
    target = nearest(kept, parent)
    above = parent[rows]
    line = profile.line[rows]
    through = np.flatnonzero((above >= 0) & ~kept[above])
    if len(through):
        line[through] = profile.line[_top_left_out(kept, parent)[above[through]]]
    home = place[target]
    times: dict[str, Any] = {}
    for name in TIMES:
        values = getattr(profile, name)
        times[name] = values[rows]
        if charged and len(gone):
            times[name] = times[name] + group_sums(home[gone], values[gone], count)
    return replace(
        profile,
        parent=np.where(above >= 0, home[above], -1),
        end=counted[profile.end[rows]],
        line=line,
        **_slices_and_spans(profile, kept, place, target, charged),
        **{name: getattr(profile, name)[rows] for name in COLUMNS},
        **times,
    )


def _slices_and_spans(profile: Profile, kept: np.ndarray, place: np.ndarray, target: np.ndarray, charged: bool) -> dict[str, Any]:
    """Slices follow their time; a call that is left out leaves no span."""
    found: dict[str, Any] = {}
    if not len(profile.slice_context) and not len(profile.span_context):
        return found
    sliced = slice(None) if charged else kept[profile.slice_context]
    found["slice_context"] = place[target[profile.slice_context[sliced]]]
    for name in ("slice_number", "slice_calls", "slice_self_ns", "slice_waiting_ns"):
        values = getattr(profile, name)[sliced]
        found[name] = np.where(kept[profile.slice_context], values, 0) if charged and name == "slice_calls" else values
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


def below(profile: Profile, tops: np.ndarray) -> np.ndarray:
    """Whether each context lies in the subtree of one of these.

    >>> from types import SimpleNamespace
    >>> below(SimpleNamespace(end=np.array([4, 3, 3, 4])), np.array([1])).tolist()
    [False, True, True, False]
    """
    steps = np.zeros(len(profile.end) + 1, np.int64)
    steps[:-1] += np.bincount(tops, minlength=len(profile.end))
    steps -= np.bincount(profile.end[tops], minlength=len(steps))
    return np.cumsum(steps[:-1]) > 0
