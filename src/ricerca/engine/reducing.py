"""Leaves contexts of a profile out: their time is dropped, or charged to the nearest caller that stays."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.engine.profile import Profile, group_sums, preorder, running_sum

COLUMNS = ("function", "calls", "resumes", "thread")
TIMES = ("self_ns", "raw_self_ns", "waiting_ns")
FEW = 8
"""Where one in so many is left out, each is booked by itself."""


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


def homes_of(kept: np.ndarray, parent: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """For each context that is left out: the nearest kept one above it, and what that one called on the way to it.

    Parameters
    ----------
    kept : (n,) bool array
        Roots must be kept.
    parent : (n,) int array

    Returns
    -------
    home, top : (n,) int array
        A kept context is its own home; its top means nothing.
    """
    top = nearest(kept | kept[parent], parent)
    return np.where(kept, np.arange(len(kept)), parent[top]), top


def keep(
    profile: Profile,
    kept: np.ndarray,
    charged: bool,
    homes: tuple[np.ndarray, np.ndarray] | None = None,
    same_nesting: bool = False,
) -> Profile:
    """The profile without the other contexts; the thread roots always stay.

    Parameters
    ----------
    profile : Profile
    kept : (n,) bool array
    charged : bool
        Whether the time of what is left out counts at its nearest caller that stays; else it is
        dropped. What a kept context was called through does not matter: its call site becomes
        the line in that nearest caller.
    homes : pair of (n,) int arrays, optional
        What ``homes_of`` finds, where it is known already.
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
    home: np.ndarray | None = None
    if charged or len(orphans):
        home, top = homes or homes_of(kept, profile.parent)
        line[orphans] = profile.line[top[above[orphans]]]
        above[orphans] = home[above[orphans]]
    parent = np.take(place, above)
    parent[above < 0] = -1
    found = replace(
        profile,
        parent=parent,
        end=np.take(place, np.take(profile.end, rows)),
        line=line,
        **_slices_and_spans(profile, kept, place, home if charged else None),
        **{name: np.take(getattr(profile, name), rows) for name in COLUMNS},
        **_times(profile, rows, np.flatnonzero(~kept), place, home if charged else None),
    )
    if same_nesting and "outermost" in profile.__dict__:
        found.__dict__["outermost"] = profile.outermost[rows]
    return found


def _times(profile: Profile, rows: np.ndarray, gone: np.ndarray, place: np.ndarray, home: np.ndarray | None) -> dict[str, Any]:
    """The times of these rows, with those of what is gone added at its home if it has one."""
    found: dict[str, Any] = {name: np.take(getattr(profile, name), rows) for name in TIMES}
    if home is None or not len(gone):
        return found
    to = place[home[gone]]
    for name in TIMES:
        values = getattr(profile, name)[gone]
        if len(gone) * FEW < len(rows):
            np.add.at(found[name], to, values)
        elif values.any():
            found[name] += group_sums(to, values, len(rows))
    return found


def _slices_and_spans(profile: Profile, kept: np.ndarray, place: np.ndarray, home: np.ndarray | None) -> dict[str, Any]:
    """Slices follow their time, where it has a home; a call that is left out leaves no span."""
    found: dict[str, Any] = {}
    if not len(profile.slice_context) and not len(profile.span_context):
        return found
    stays = kept[profile.slice_context]
    sliced = slice(None) if home is not None else stays
    context = profile.slice_context[sliced]
    found["slice_context"] = place[context if home is None else home[context]]
    for name in ("slice_number", "slice_calls", "slice_self_ns", "slice_waiting_ns"):
        values = getattr(profile, name)[sliced]
        found[name] = np.where(stays, values, 0) if home is not None and name == "slice_calls" else values
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
