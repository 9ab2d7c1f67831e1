"""The call graph of a reading: the nodes that matter, the ribbons between them, cycles, and where all of it lies."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

import igraph
import numpy as np

from ricerca.engine.cycles import Cycle, find_cycles
from ricerca.engine.forest import not_nested
from ricerca.engine.levels import CLASS, MODULE, PACKAGE, owner_of
from ricerca.engine.neighbours import pair_sums
from ricerca.engine.profile import KIND_BUILTIN, KIND_PYTHON, KIND_THREAD, Profile, group_sums

DEFAULT_NODES = 22
Fold = tuple[str, str]
"""A level and a name: what is one node of the graph."""


@dataclass(frozen=True)
class Node:
    """A function, or a folded class, module or package. ``functions`` are its members; ``cycle`` is -1 outside of cycles."""

    name: str
    module: str
    layer: str
    functions: tuple[int, ...]
    calls: int
    self_ns: int
    inclusive_ns: int
    cycle: int
    folded: bool


@dataclass(frozen=True)
class Ribbon:
    """Calls from one node to another (places in ``nodes``), and the time they carry."""

    caller: int
    callee: int
    calls: int
    inclusive_ns: int


@dataclass(frozen=True)
class Graph:
    """What is shown of a call graph. ``hidden`` nodes, with so much self time, are left out."""

    nodes: tuple[Node, ...]
    ribbons: tuple[Ribbon, ...]
    cycles: tuple[Cycle, ...]
    hidden: int
    hidden_ns: int
    total_ns: int


def _by_group(profile: Profile, group: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Self, inclusive (recursion counted once) and calls from outside, by group of contexts."""
    rows = np.flatnonzero(profile.parent >= 0)
    once = not_nested(group, profile.end)[rows]
    entered = rows[group[rows] != group[profile.parent[rows]]]
    return (
        group_sums(group[rows], profile.self_ns[rows], count),
        group_sums(group[rows[once]], profile.inclusive_ns[rows[once]], count),
        group_sums(group[entered], profile.calls[entered], count),
    )


def folds_of(module: str, name: str, kind: int) -> dict[str, Fold]:
    """What a function can be folded into, by level, from the smallest up."""
    if kind == KIND_THREAD:
        return {}
    found: dict[str, Fold] = {}
    if kind in (KIND_PYTHON, KIND_BUILTIN) and module and owner_of(name):
        found[CLASS] = (CLASS, f"{module}.{owner_of(name)}")
    return {**found, MODULE: (MODULE, module), PACKAGE: (PACKAGE, module.partition(".")[0])}


def _groups(profile: Profile, folded: Collection[Fold]) -> tuple[np.ndarray, list[tuple[str, bool]]]:
    """Group of each function, and name and foldedness of each group; the largest fold wins."""
    table = profile.functions
    keys: dict[Fold | int, int] = {}
    number = np.empty(len(table), np.int64)
    labels: list[tuple[str, bool]] = []
    for row, (module, name, kind) in enumerate(zip(table.module, table.name, table.kind.tolist(), strict=True)):
        key: Fold | int = row
        if folded:
            folds = folds_of(module, name, kind)
            key = next((folds[level] for level in (PACKAGE, MODULE, CLASS) if folds.get(level) in folded), row)
        if key not in keys:
            keys[key] = len(labels)
            labels.append((name, False) if isinstance(key, int) else (key[1], True))
        number[row] = keys[key]
    return number, labels


def call_graph(
    profile: Profile, most: int = DEFAULT_NODES, folded: Collection[Fold] = (), around: int = -1, least_share: float = 0.0
) -> Graph:
    """The nodes with most inclusive time, and whatever node holds the function around.

    Parameters
    ----------
    profile : Profile
        As the reading has it.
    most : int
        Nodes shown at most.
    folded : collection of (level, name)
        Classes, modules and packages that are one node each.
    around : int
        A function that is shown in any case, -1 for none.
    least_share : float
        Nodes with less of the whole than this (0 to 1) are left out, but for the first.
    """
    number, labels = _groups(profile, folded)
    count = len(labels)
    group = number[profile.function]
    self_ns, inclusive_ns, calls = _by_group(profile, group, count)
    all_calls = group_sums(group, profile.calls, count)
    thread = np.zeros(count, bool)
    thread[number[np.asarray(profile.functions.kind) == KIND_THREAD]] = True
    present = np.flatnonzero(((all_calls > 0) | (inclusive_ns > 0)) & ~thread)
    order = present[np.lexsort((present, -self_ns[present], -inclusive_ns[present]))]
    enough = max(int((inclusive_ns[order] >= least_share * profile.total_ns).sum()), 1)
    chosen = [int(one) for one in order[: max(min(most, enough), 1)]]
    if around >= 0 and int(number[around]) not in chosen and int(number[around]) in set(present.tolist()):
        chosen = [*chosen[: max(most, 1) - 1], int(number[around])]
    place = {one: at for at, one in enumerate(chosen)}
    ribbons = _ribbons(profile, group, place, count)
    of_cycle, cycles = _cycles(profile, group, count, chosen, ribbons)
    members: dict[int, list[int]] = {one: [] for one in chosen}
    for function, one in enumerate(number.tolist()):
        if one in members:
            members[one].append(function)
    table = profile.functions
    nodes = tuple(
        Node(
            labels[one][0],
            table.module[members[one][0]],
            table.layer[members[one][0]],
            tuple(members[one]),
            int(calls[one] if labels[one][1] else all_calls[one]),
            int(self_ns[one]),
            int(inclusive_ns[one]),
            of_cycle[at],
            labels[one][1],
        )
        for at, one in enumerate(chosen)
    )
    rest = [int(one) for one in present if int(one) not in place]
    return Graph(nodes, ribbons, cycles, len(rest), int(self_ns[rest].sum()), profile.total_ns)


def _ribbons(profile: Profile, group: np.ndarray, place: dict[int, int], count: int) -> tuple[Ribbon, ...]:
    pair = group[profile.parent] * count + group
    keys, calls, carried = pair_sums(profile, pair, pair)
    found = [
        Ribbon(place[int(key // count)], place[int(key % count)], int(calls[row]), int(carried[row]))
        for row, key in enumerate(keys)
        if int(key // count) in place and int(key % count) in place
    ]
    return tuple(sorted(found, key=lambda one: (-one.inclusive_ns, one.caller, one.callee)))


def _cycles(
    profile: Profile, group: np.ndarray, count: int, chosen: list[int], ribbons: tuple[Ribbon, ...]
) -> tuple[list[int], tuple[Cycle, ...]]:
    """Number of the cycle of each chosen group, -1 for none, and the cycles among them; members are places."""
    place = {one: at for at, one in enumerate(chosen)}
    calls = np.asarray([(chosen[one.caller], chosen[one.callee]) for one in ribbons], np.int64).reshape(-1, 2)
    found = find_cycles(profile, group, count, calls)
    cycles = tuple(replace(one, members=tuple(sorted(place[member] for member in one.members))) for one in found)
    of_cycle = [-1] * len(chosen)
    for number, one in enumerate(cycles):
        for at in one.members:
            of_cycle[at] = number
    return of_cycle, cycles


@dataclass(frozen=True)
class Layout:
    """Column (0 on the left), lane (a layer) and row within the lane, of each node; rows of each lane."""

    column: tuple[int, ...]
    row: tuple[int, ...]
    lanes: tuple[tuple[str, int, int], ...]
    """Name of the layer, first row, number of rows."""


def lay_out(graph: Graph) -> Layout:
    """Columns by layered drawing (Sugiyama, 1981, as igraph has it); rows in lanes of layers, in its order."""
    count = len(graph.nodes)
    if not count:
        return Layout((), (), ())
    drawn = igraph.Graph(count, [(one.caller, one.callee) for one in graph.ribbons if one.caller != one.callee], directed=True)
    weights = [max(one.inclusive_ns, 1) for one in graph.ribbons if one.caller != one.callee]
    columns = _columns(drawn, weights)
    points = drawn.layout_sugiyama(layers=columns, hgap=1, vgap=1, maxiter=200).coords[:count]
    order = sorted(range(count), key=lambda at: (points[at][0], at))
    lanes: list[tuple[str, int, int]] = []
    row = [0] * count
    first = 0
    for layer in dict.fromkeys(graph.nodes[at].layer for at in sorted(range(count), key=lambda at: (columns[at], at))):
        filled: dict[int, int] = {}
        for at in order:
            if graph.nodes[at].layer == layer:
                row[at] = first + filled.get(columns[at], 0)
                filled[columns[at]] = filled.get(columns[at], 0) + 1
        lanes.append((layer, first, max(filled.values())))
        first += max(filled.values())
    return Layout(tuple(columns), tuple(row), tuple(lanes))


def _columns(drawn: igraph.Graph, weights: list[int]) -> list[int]:
    """Longest way from the left, the lightest ribbons of each cycle taken the other way round."""
    ahead = drawn.copy()
    if drawn.ecount():
        ahead.delete_edges(drawn.feedback_arc_set(weights=weights, method="eades"))
    column = [0] * drawn.vcount()
    for at in ahead.topological_sorting():
        for callee in ahead.successors(at):
            column[callee] = max(column[callee], column[at] + 1)
    return column
