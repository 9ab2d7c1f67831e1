"""The call graph of a reading: nodes that hold all its time, the ribbons between them, cycles, and where all of it lies."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np

from ricerca.engine.cycles import Cycle, find_cycles
from ricerca.engine.forest import not_nested
from ricerca.engine.graph_groups import Groups, Key, base_numbers, choose
from ricerca.engine.levels import CLASS, FUNCTION, MODULE, PACKAGE
from ricerca.engine.neighbours import pair_sums
from ricerca.engine.profile import KIND_PYTHON, KIND_THREAD, Profile, group_sums
from ricerca.engine.ranking import FunctionFigures, function_figures

DEFAULT_NODES, MOST_NODES = 30, 150
LEAST_SHARE, SEEN_SHARE, LANE_SHARE, CHAIN_SHARE = 0.002, 0.004, 0.005, 0.75
"""Of the whole: a part with less is shown for itself only when more nodes than usual are asked for;
a ribbon with less is drawn only where nothing else leads to a node; layers with less share a lane; what takes so much
of its caller stands below it."""
OTHERS = "others"


@dataclass(frozen=True)
class Node:
    """A function, class, module, package or layer; ``functions`` are its members.

    ``rest``: of a group, what is not shown for itself. ``cycle`` is -1 outside of cycles. ``base_ns``: inclusive time in
    the round compared with, None where that is not asked for.
    """

    name: str
    level: str
    module: str
    layer: str
    functions: tuple[int, ...]
    calls: int
    self_ns: int
    inclusive_ns: int
    cycle: int
    key: Key
    rest: bool = False
    base_ns: int | None = None

    @property
    def folded(self) -> bool:
        """Whether it could be opened."""
        return len(self.key) < 4


@dataclass(frozen=True)
class Ribbon:
    """Calls from one node to another (places in ``nodes``), and the time they carry."""

    caller: int
    callee: int
    calls: int
    inclusive_ns: int


@dataclass(frozen=True)
class Graph:
    """A call graph. The self times of its nodes are the total of the reading; each node is reached by ribbons from a start."""

    nodes: tuple[Node, ...]
    ribbons: tuple[Ribbon, ...]
    cycles: tuple[Cycle, ...]
    total_ns: int


def _by_group(profile: Profile, group: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Self, inclusive (recursion counted once) and calls from outside, by group of contexts; of the group -1 nothing."""
    rows = np.flatnonzero(group >= 0)
    once = rows[not_nested(np.where(group >= 0, group, count), profile.end)[rows]]
    above = np.where(profile.parent >= 0, group[profile.parent], -1)
    entered = rows[group[rows] != above[rows]]
    return (
        group_sums(group[rows], profile.self_ns[rows], count),
        group_sums(group[once], profile.inclusive_ns[once], count),
        group_sums(group[entered], profile.calls[entered], count),
    )


def call_graph(
    profile: Profile, most: int = DEFAULT_NODES, opened: Collection[Key] = (), folded: Collection[Key] = (), level: str = FUNCTION,
    base: Profile | None = None, match: Callable[[int], int] | None = None, figures: FunctionFigures | None = None,
) -> Graph:  # fmt: skip
    """All time of a reading in about as many nodes as are asked for: its largest parts by themselves, the rest by groups.

    Parameters
    ----------
    profile : Profile
        As the reading has it.
    most : int
        Nodes, about.
    opened, folded : collections of keys
        Groups that are shown by all their parts, and groups that are one node each.
    level : str
        What a function of the profile stands for.
    base : Profile, optional
        The round compared with, read alike.
    match : callable, optional
        The function that one of the base is paired with, -1 for none.
    figures : FunctionFigures, optional
        Of the profile, where they are known already.
    """
    figures = figures or function_figures(profile)
    self_ns, inclusive_ns = figures.self_ns, figures.inclusive_ns
    all_calls = group_sums(profile.function, profile.calls, len(profile.functions))
    threads = np.asarray(profile.functions.kind) == KIND_THREAD
    started = int((profile.parent < 0).sum()) > 1
    present = ((all_calls > 0) | (inclusive_ns > 0)) & (~threads | (self_ns > 0) | started)
    least = LEAST_SHARE if most <= DEFAULT_NODES else LEAST_SHARE * (DEFAULT_NODES / most) ** 3
    groups = choose(profile.functions, present, self_ns, inclusive_ns, most, least, opened, folded, level)
    base_ns = _base_times(groups, base, level, match)
    return _with_ribbons(profile, groups, all_calls, base_ns, level)


def _with_ribbons(profile: Profile, groups: Groups, all_calls: np.ndarray, base_ns: np.ndarray | None, level: str) -> Graph:
    table, count = profile.functions, len(groups.keys)
    group = groups.number[profile.function]
    self_ns, inclusive_ns, calls = _by_group(profile, group, count)
    ribbons = _ribbons(profile, group, count)
    members: list[list[int]] = [[] for _ in range(count)]
    for row in np.flatnonzero(groups.number >= 0).tolist():
        members[groups.number[row]].append(row)
    of_cycle, cycles = _cycles(profile, group, groups, ribbons) if level == FUNCTION else ([-1] * count, ())
    nodes = tuple(
        Node(
            key[2] if len(key) > 2 else key[1],
            key[0],
            _module_of(key) if groups.closed[at] else table.module[members[at][0]],
            key[1],
            tuple(members[at]),
            int(calls[at] if groups.closed[at] else all_calls[members[at][0]]),
            int(self_ns[at]),
            int(inclusive_ns[at]),
            of_cycle[at],
            key,
            groups.rest[at],
            int(base_ns[at]) if base_ns is not None else None,
        )
        for at, key in enumerate(groups.keys)
    )
    return Graph(nodes, ribbons, cycles, profile.total_ns)


def _module_of(key: Key) -> str:
    """The module (or package) that a group lies in; empty for a layer."""
    if key[0] == CLASS:
        return key[2].rpartition(".")[0]
    return key[2] if key[0] in (MODULE, PACKAGE) else ""


def _base_times(groups: Groups, base: Profile | None, level: str, match: Callable[[int], int] | None) -> np.ndarray | None:
    """Inclusive time of each node in the round compared with."""
    if base is None or match is None:
        return None

    def node_of(row: int) -> int:
        function = match(row)
        return int(groups.number[function]) if function >= 0 else -1

    number = base_numbers(groups.keys, base.functions, level, node_of)
    return _by_group(base, number[base.function], len(groups.keys))[1]


def _ribbons(profile: Profile, group: np.ndarray, count: int) -> tuple[Ribbon, ...]:
    above = np.where(profile.parent >= 0, group[profile.parent], -1)
    inside = (above >= 0) & (group >= 0)
    pair = np.where(inside, above * count + group, -1)
    keys, calls, carried = pair_sums(profile, pair, pair)
    found = [
        Ribbon(int(key // count), int(key % count), int(calls[row]), int(carried[row])) for row, key in enumerate(keys.tolist()) if key >= 0
    ]
    return tuple(sorted(found, key=lambda ribbon: (-ribbon.inclusive_ns, ribbon.caller, ribbon.callee)))


def _cycles(profile: Profile, group: np.ndarray, groups: Groups, ribbons: tuple[Ribbon, ...]) -> tuple[list[int], tuple[Cycle, ...]]:
    """Number of the cycle of each node, -1 for none, and the cycles of functions that call each other by themselves."""
    kinds = np.asarray(profile.functions.kind)
    alone = np.zeros(len(groups.keys), bool)
    for at, key in enumerate(groups.keys):
        alone[at] = not groups.closed[at] and kinds[int(key[3])] == KIND_PYTHON
    calls = np.asarray(
        [(ribbon.caller, ribbon.callee) for ribbon in ribbons if alone[ribbon.caller] and alone[ribbon.callee]], np.int64
    ).reshape(-1, 2)
    # what belongs to no node is a group of its own
    cycles = find_cycles(profile, np.where(group >= 0, group, len(groups.keys)), len(groups.keys) + 1, calls)
    of_cycle = [-1] * len(groups.keys)
    for number, cycle in enumerate(cycles):
        for at in cycle.members:
            of_cycle[at] = number
    return of_cycle, cycles


def main_callers(graph: Graph) -> list[int]:
    """The ribbon by which each node is reached on the heaviest way from a start, -1 for a start: a spanning tree (Prim, 1957)."""
    callees = {ribbon.callee for ribbon in graph.ribbons if ribbon.caller != ribbon.callee}
    reached = {at for at in range(len(graph.nodes)) if at not in callees}
    by = [-1] * len(graph.nodes)
    ribbons = list(enumerate(graph.ribbons))  # the heaviest first
    while len(reached) < len(graph.nodes):
        step = next((at for at, ribbon in ribbons if ribbon.caller in reached and ribbon.callee not in reached), -1)
        if step < 0:  # what only calls itself in a cycle begins with its heaviest
            left = [at for at in range(len(graph.nodes)) if at not in reached]
            reached.add(max(left, key=lambda at: graph.nodes[at].inclusive_ns))
            continue
        by[graph.ribbons[step].callee] = step
        reached.add(graph.ribbons[step].callee)
    return by


def seen_ribbons(graph: Graph, least_share: float = SEEN_SHARE) -> tuple[int, ...]:
    """Places of the ribbons worth drawing: those that carry enough, and the heaviest way from a start to each node."""
    enough = {at for at, ribbon in enumerate(graph.ribbons) if ribbon.inclusive_ns >= least_share * graph.total_ns}
    return tuple(sorted(enough.union(at for at in main_callers(graph) if at >= 0)))


@dataclass(frozen=True)
class Layout:
    """Column (0 on the left), lane (a layer) and row within the lane, of each node; rows of each lane."""

    column: tuple[int, ...]
    row: tuple[int, ...]
    lanes: tuple[tuple[str, int, int], ...]
    """Name of the layer, first row, number of rows."""


def lay_out(graph: Graph) -> Layout:
    """Each node one column to the right of its main caller, the heaviest callee first; rows in lanes of layers.

    What leads to the first place where the run branches stands in one column, one below the other.
    """
    count = len(graph.nodes)
    order, columns = _columns(graph)
    lanes: list[tuple[str, int, int]] = []
    row = [0] * count
    first = 0
    by_lane: dict[str, list[int]] = {}
    largest: dict[str, int] = {}
    for node in graph.nodes:
        largest[node.layer] = max(largest.get(node.layer, 0), node.inclusive_ns)
    small = [layer for layer, ns in largest.items() if ns < LANE_SHARE * graph.total_ns]
    for at in sorted(range(count), key=lambda at: (columns[at], -graph.nodes[at].inclusive_ns)):
        layer = graph.nodes[at].layer
        by_lane.setdefault(OTHERS if layer in small and len(small) > 1 else layer, []).append(at)
    for lane in sorted(by_lane, key=lambda lane: lane == OTHERS):
        filled: dict[int, int] = {}
        for at in sorted(by_lane[lane], key=order.__getitem__):
            row[at] = first + filled.get(columns[at], 0)
            filled[columns[at]] = filled.get(columns[at], 0) + 1
        lanes.append((lane, first, max(filled.values())))
        first += max(filled.values())
    return Layout(tuple(columns), tuple(row), tuple(lanes))


def _columns(graph: Graph) -> tuple[list[int], list[int]]:
    """Rank of each node in the order in which they are placed, and its column."""
    count, by = len(graph.nodes), main_callers(graph)
    callees: list[list[int]] = [[] for _ in range(count)]
    for at, ribbon in enumerate(by):
        if ribbon >= 0:
            callees[graph.ribbons[ribbon].caller].append(at)
    starts = sorted((at for at in range(count) if by[at] < 0), key=lambda at: graph.nodes[at].inclusive_ns)
    chain = _chain(graph, starts[-1], callees) if starts else set()
    columns, order = [0] * count, [0] * count
    waiting, placed = list(starts), 0
    while waiting:
        at = waiting.pop()
        order[at] = placed
        placed += 1
        for callee in sorted(callees[at], key=lambda callee: graph.nodes[callee].inclusive_ns):
            columns[callee] = 0 if callee in chain else columns[at] + 1
            waiting.append(callee)
    return order, columns


def _chain(graph: Graph, start: int, callees: list[list[int]]) -> set[int]:
    """The nodes that lead from a start to where the run first branches: each takes nearly all of the one before."""
    chain, at = {start}, start
    while callees[at]:
        main = max(callees[at], key=lambda callee: graph.nodes[callee].inclusive_ns)
        if not callees[main] or graph.nodes[main].inclusive_ns < CHAIN_SHARE * graph.nodes[at].inclusive_ns:
            break
        chain.add(main)
        at = main
    return chain
