"""Compiled code that an interpreter called: its functions hang below the builtin that was called."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.model.run_tables import RunTables
from ricerca.recording.compiled import contexts_above


@dataclass
class Times:
    """Times of a run's contexts and slices while they are being changed."""

    self_ns: np.ndarray
    waiting_ns: np.ndarray
    slice_self: np.ndarray
    slice_waiting: np.ndarray


def hang_compiled(merged: RunTables, parent: np.ndarray, thread: np.ndarray, times: Times, room: tuple[int, int], own_base: int,
                  own: RunTables) -> None:  # fmt: skip
    """Put what a thread's compiled code did below the interpreter's contexts that called it, in place.

    The time of the compiled functions is taken off the builtin: it was measured from outside as well. Where compiled code calls
    the interpreter back, both count the time of what was called; then it is taken off the compiled functions below that builtin.

    Parameters
    ----------
    merged : RunTables
        All parts of the run.
    parent, thread : (n,) arrays of the whole run
    times : Times
    room : (first, end)
        Where the interpreter's contexts lie in the whole run.
    own_base : int
        Where those of this part begin.
    own : RunTables
        This part.
    """
    base, end = room
    above = {context: number for context, number in contexts_above(own).items() if 0 <= number < end - base}
    home = np.full(len(own.parent), -1, np.int64)  # of each context, the one that it stands for or lies below
    for context in range(len(own.parent)):  # a parent comes before its children
        home[context] = above.get(context, home[own.parent[context]] if own.parent[context] >= 0 else -1)
    rows = np.arange(len(own.parent)) + own_base
    for context, number in above.items():
        parent[parent == own_base + context] = base + number
        parent[own_base + context] = -1
    stands = np.zeros(len(own.parent), bool)
    stands[list(above)] = True
    lost = stands | (own.parent < 0)
    for column in (times.self_ns, times.waiting_ns):
        column[rows[lost]] = 0
    outside = np.isin(merged.slice_context, rows[lost])
    times.slice_self[outside] = times.slice_waiting[outside] = 0
    held = (home >= 0) & ~lost
    thread[rows[held]] = merged.thread[base + home[held]]
    for builtin in np.unique(home[held]).tolist():
        _share(merged, times, base + builtin, rows[held & (home == builtin)])


def _share(merged: RunTables, times: Times, builtin: int, rows: np.ndarray) -> None:
    """Take the time of compiled functions off the builtin that was measured around them, and what is left over off themselves."""
    theirs = int(times.self_ns[rows].sum())
    room = int(times.self_ns[builtin])
    times.self_ns[builtin] = max(room - theirs, 0)
    if theirs > room and theirs:  # the interpreter was called back meanwhile
        kept = np.floor(times.self_ns[rows] * (room / theirs)).astype(np.int64)
        times.self_ns[rows] = kept
        times.waiting_ns[rows] = np.minimum(times.waiting_ns[rows], kept)
    times.waiting_ns[builtin] = min(int(times.waiting_ns[builtin]), int(times.self_ns[builtin]))
    width = int(merged.slice_number.max(initial=0)) + 1
    inner, outer = np.isin(merged.slice_context, rows), merged.slice_context == builtin
    by_slice = np.bincount(merged.slice_number[inner], times.slice_self[inner], width)
    there = np.bincount(merged.slice_number[outer], times.slice_self[outer], width)
    left = np.maximum(there - by_slice, 0)
    times.slice_self[outer] = np.rint(left[merged.slice_number[outer]]).astype(np.int64)
    times.slice_waiting[outer] = np.minimum(times.slice_waiting[outer], times.slice_self[outer])
    factor = np.divide(np.minimum(there, by_slice), by_slice, where=by_slice > 0, out=np.ones(width))
    times.slice_self[inner] = np.rint(times.slice_self[inner] * factor[merged.slice_number[inner]]).astype(np.int64)
    times.slice_waiting[inner] = np.minimum(times.slice_waiting[inner], times.slice_self[inner])
