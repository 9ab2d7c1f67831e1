"""Cycles: functions (or nodes of a graph) that call each other, directly or through others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.engine.forest import not_nested
from ricerca.engine.neighbours import Edges
from ricerca.engine.profile import KIND_PYTHON, Profile, group_sums


@dataclass(frozen=True)
class Cycle:
    """Groups that are mutually recursive: calls that enter it, calls inside it, time from its entries and its own."""

    members: tuple[int, ...]
    entries: int
    inner_calls: int
    self_ns: int
    inclusive_ns: int

    def slowest_first(self, self_ns: np.ndarray) -> list[int]:
        """The members, that with most time of its own first."""
        return sorted(self.members, key=lambda n: -int(self_ns[n]))


def find_cycles(profile: Profile, group: np.ndarray, count: int, calls: np.ndarray) -> tuple[Cycle, ...]:
    """The strongly connected components of more than one group; recursion of a single one is no cycle.

    Parameters
    ----------
    profile : Profile
    group : (n,) int array
        Group of each context.
    count : int
        Number of groups.
    calls : (m, 2) int array
        Calling and called group, of those calls that make up the graph.

    Returns
    -------
    tuple of Cycle
        Those with most inclusive time first. A cycle's inclusive time is that of its entries from outside.
    """
    calls = _in_cycles(calls, count)
    if not len(calls):
        return ()
    import igraph  # here, for it takes a while to load and most of the program does without

    drawn = igraph.Graph(count, list(zip(calls[:, 0].tolist(), calls[:, 1].tolist(), strict=True)), directed=True)
    cycles = [tuple(sorted(cycle)) for cycle in drawn.connected_components(mode="strong") if len(cycle) > 1]
    if not cycles:
        return ()
    cycle_of = np.full(count, -1, np.int64)
    for number, cycle in enumerate(cycles):
        cycle_of[list(cycle)] = number
    here = cycle_of[group]
    rows = np.flatnonzero((here >= 0) & (profile.parent >= 0))
    number = here[rows]
    inner = here[profile.parent[rows]] == number
    once = not_nested(np.where(here >= 0, here, np.arange(len(here)) + len(cycles)), profile.end)[rows]

    def sums(values: np.ndarray, which: np.ndarray) -> np.ndarray:
        return group_sums(number[which], values[rows[which]], len(cycles))

    every = np.ones(len(rows), bool)
    entries, inner_calls = sums(profile.calls, ~inner), sums(profile.calls, inner)
    self_ns, inclusive_ns = sums(profile.self_ns, every), sums(profile.inclusive_ns, once)
    found = [
        Cycle(cycle, int(entries[at]), int(inner_calls[at]), int(self_ns[at]), int(inclusive_ns[at])) for at, cycle in enumerate(cycles)
    ]
    return tuple(sorted(found, key=lambda cycle: (-cycle.inclusive_ns, cycle.members)))


def _in_cycles(calls: np.ndarray, count: int) -> np.ndarray:
    """The calls left when those by and of groups that cannot lie in a cycle are taken away, as long as there are any."""
    calls = calls[calls[:, 0] != calls[:, 1]]
    while len(calls):
        calling, called = np.zeros(count, bool), np.zeros(count, bool)
        calling[calls[:, 0]] = called[calls[:, 1]] = True
        kept = called[calls[:, 0]] & calling[calls[:, 1]]
        if kept.all():
            break
        calls = calls[kept]
    return calls


def function_cycles(profile: Profile, edges: Edges) -> tuple[Cycle, ...]:
    """The cycles among functions that call each other by themselves; members are function numbers.

    A call through a builtin, an import or the making of a class ties together what has nothing to do with each other: in a
    large program nearly everything.
    """
    count, python = len(profile.functions), np.asarray(profile.functions.kind) == KIND_PYTHON
    direct = (edges.caller >= 0) & python[edges.caller] & python[edges.callee]
    keys = np.sort((edges.caller * count + edges.callee)[direct])
    calls = np.stack(np.divmod(keys[np.diff(keys, prepend=-1) > 0], count), axis=1)
    return find_cycles(profile, profile.function, count, calls)
