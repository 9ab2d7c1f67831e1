"""Callers and callees: edges from caller to callee, by line of the call."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.engine.forest import not_nested
from ricerca.engine.profile import Profile, group_sums


@dataclass(frozen=True)
class Edges:
    """One entry for each (caller, callee, line). ``caller`` is -1 where a thread begins.

    ``inclusive_ns`` counts an edge once when it recurs below itself.
    """

    caller: np.ndarray
    callee: np.ndarray
    line: np.ndarray
    calls: np.ndarray
    inclusive_ns: np.ndarray

    def __len__(self) -> int:
        return len(self.caller)


def _caller_of(profile: Profile) -> np.ndarray:
    """Function of each context's parent; -1 below the root of a thread and for the root itself."""
    parent = profile.parent
    caller = np.where(parent >= 0, profile.function[parent], -1)
    return np.where((parent >= 0) & (profile.parent[parent] >= 0), caller, -1)


def pair_sums(profile: Profile, pair: np.ndarray, key: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Calls and inclusive time of the contexts below the thread roots, by key.

    Parameters
    ----------
    profile : Profile
    pair : (n,) int array
        Caller and callee of each context as one number; time is counted once where a pair recurs below itself.
    key : (n,) int array
        What is summed up by: the pair, or a finer one.

    Returns
    -------
    keys, calls, inclusive_ns : (m,) int64 arrays
    """
    rows = np.flatnonzero(profile.parent >= 0)
    once = not_nested(np.where(profile.parent >= 0, pair, -1), profile.end)[rows]
    keys, number = np.unique(key[rows], return_inverse=True)
    return (
        keys,
        group_sums(number, profile.calls[rows], len(keys)),
        group_sums(number[once], profile.inclusive_ns[rows][once], len(keys)),
    )


def edges(profile: Profile) -> Edges:
    """All edges of a profile, those that carry most time first.

    The calls on a function's incoming edges sum to its calls.
    """
    count = len(profile.functions) + 1
    pair = (_caller_of(profile) + 1) * count + profile.function + 1
    width = int(profile.line.max(initial=0)) + 1
    keys, calls, inclusive_ns = pair_sums(profile, pair, pair * width + profile.line)
    order = np.lexsort((keys % width, -calls, -inclusive_ns))
    keys = keys[order]
    pairs = keys // width
    return Edges(pairs // count - 1, pairs % count - 1, keys % width, calls[order], inclusive_ns[order])


@dataclass(frozen=True)
class Neighbour:
    """One side of a function's surroundings: another function, its calls and the time they bring."""

    function: int
    calls: int
    inclusive_ns: int
    lines: tuple[int, ...]


def neighbours(all_edges: Edges, function: int) -> tuple[tuple[Neighbour, ...], tuple[Neighbour, ...]]:
    """Callers and callees of a function, the slowest first, edges of one pair put together."""
    return (
        _gathered(all_edges, all_edges.callee == function, all_edges.caller),
        _gathered(all_edges, all_edges.caller == function, all_edges.callee),
    )


def _gathered(all_edges: Edges, chosen: np.ndarray, other: np.ndarray) -> tuple[Neighbour, ...]:
    rows = np.flatnonzero(chosen)
    functions, number = np.unique(other[rows], return_inverse=True)
    calls = group_sums(number, all_edges.calls[rows], len(functions))
    inclusive_ns = group_sums(number, all_edges.inclusive_ns[rows], len(functions))
    order = np.lexsort((all_edges.line[rows], number))
    lines = np.split(all_edges.line[rows][order], np.cumsum(np.bincount(number, minlength=len(functions)))[:-1])
    return tuple(
        Neighbour(int(functions[n]), int(calls[n]), int(inclusive_ns[n]), tuple(lines[n].tolist()))
        for n in np.lexsort((-calls, -inclusive_ns))
    )
