"""What the nodes of a call graph stand for: layers, packages, modules, classes, functions, and which of them are opened."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Collection
from dataclasses import dataclass, field

import numpy as np

from ricerca.engine.layers import MINE
from ricerca.engine.levels import CLASS, FUNCTION, LEVELS, MODULE, PACKAGE, owner_of
from ricerca.engine.profile import KIND_BUILTIN, KIND_PYTHON, KIND_THREAD, FunctionTable
from ricerca.model.marks import KIND_IMPORT

LAYER = "layer"
Key = tuple[str, ...]
"""A group: its level, its layer, and its name; a function's has its row as well."""
OWN_CODE, LITTLE = 0.1, 0.004
"""How much of the inclusive time of one's own code counts beside self time when it is decided what to show; the rest of
a group with less of the whole than this joins the rest around it."""


def path_of(row: int, table: FunctionTable, level: str = FUNCTION) -> tuple[Key, ...]:
    """The groups that a function belongs to, from its layer down to itself.

    Parameters
    ----------
    level : str
        What a row of the table stands for.
    """
    kind, module, name, layer = int(table.kind[row]), table.module[row], table.name[row], table.layer[row]
    itself: Key = (level, layer, name, str(row))
    top: Key = (LAYER, layer)
    if kind == KIND_IMPORT:
        return top, (PACKAGE, layer, f"imports of {name.removeprefix('import ').partition('.')[0]}"), itself
    if kind not in (KIND_PYTHON, KIND_BUILTIN):
        return top, itself
    if level != FUNCTION:
        module = module if level == CLASS else name
    found = [top]
    depth = LEVELS.index(level)
    if depth < LEVELS.index(PACKAGE):
        found.append((PACKAGE, layer, module.partition(".")[0] or "builtins"))
    if depth < LEVELS.index(MODULE):
        found.append((MODULE, layer, module or "builtins"))
    if depth < LEVELS.index(CLASS) and module and owner_of(name):
        found.append((CLASS, layer, f"{module}.{owner_of(name)}"))
    return (*found, itself)


@dataclass(slots=True)
class _Group:
    """A group while it is decided what is shown; times in ns."""

    key: Key
    parent: int
    depth: int
    children: list[int] = field(default_factory=list)
    self_ns: int = 0
    weight: float = 0.0
    shown: bool = False
    left: int = 0
    """Children that are not shown."""


@dataclass(frozen=True)
class Groups:
    """Which node each function belongs to, and of each node its key and whether it is the rest of a group others of which are shown."""

    number: np.ndarray
    keys: tuple[Key, ...]
    rest: tuple[bool, ...]
    closed: tuple[bool, ...]
    """Whether it stands for several functions."""


def choose(table: FunctionTable, present: np.ndarray, self_ns: np.ndarray, inclusive_ns: np.ndarray, most: int,
           least_share: float = 0.0, opened: Collection[Key] = (), folded: Collection[Key] = (), level: str = FUNCTION,
           ) -> Groups:  # fmt: skip
    """Choose the nodes of a graph: all functions lie in one, and those that hold most time are opened furthest.

    It begins with a node for each layer. Again and again the part with most time of its own that is not yet seen for itself
    is taken out of what holds it, until there are enough nodes; of one's own code inclusive time counts, too.

    Parameters
    ----------
    present : (functions,) bool array
        Which took part.
    self_ns, inclusive_ns : (functions,) int arrays
    most : int
        Nodes at most, but that what a person opened is shown.
    least_share : float
        A part with less of the whole (0 to 1) is not taken out.
    opened, folded : collections of keys
        Groups all of whose parts are shown, and groups that stay one node each.
    """
    room = most
    groups, of_function = _tree(table, present, self_ns, inclusive_ns, level)
    for _ in range(3):  # what is little joins the rest around it, which makes room for others
        for group in groups:
            group.shown, group.left = False, 0
        _show(groups, room, least_share * float(self_ns.sum()), opened, folded)
        found = _numbered(groups, of_function, len(table), LITTLE * float(self_ns.sum()))
        if len(found.keys) >= most - 1:
            break
        room += most - len(found.keys)
    return found


def _show(groups: list[_Group], most: int, least: float, opened: Collection[Key], folded: Collection[Key]) -> None:
    """Mark the groups that are shown."""
    count = 0
    heap: list[tuple[bool, float, int]] = []

    def offer(parent: int) -> None:
        for child in groups[parent].children:
            wanted = groups[parent].key in opened
            if groups[child].weight >= (1 if wanted else max(least, 1)):
                heapq.heappush(heap, (not wanted, -groups[child].weight, child))

    def show(number: int) -> None:
        nonlocal count
        number = _down(groups, number, folded)
        above = groups[number].parent
        while above >= 0 and not groups[above].shown:  # a group with one part is seen by that part alone
            groups[above].shown, groups[above].left = True, 0
            above = groups[above].parent
        groups[number].shown, groups[number].left = True, len(groups[number].children)
        count += 1
        if above >= 0:
            groups[above].left -= 1
            count -= groups[above].left == 0 and bool(groups[above].children)
        if groups[number].key not in folded:
            offer(number)

    for number, group in enumerate(groups):
        if group.parent < 0:
            show(number)
    while heap:
        unwanted, _weight, number = heapq.heappop(heap)
        if unwanted and count >= most:
            break
        if not groups[number].shown:
            show(number)


def _tree(table: FunctionTable, present: np.ndarray, self_ns: np.ndarray, inclusive_ns: np.ndarray, level: str,
          ) -> tuple[list[_Group], dict[int, int]]:  # fmt: skip
    """All groups, each after the one it lies in, and the number of each function's own."""
    groups: list[_Group] = []
    numbers: dict[Key, int] = {}
    of_function: dict[int, int] = {}
    kinds, self_list, inclusive_list = np.asarray(table.kind).tolist(), self_ns.tolist(), inclusive_ns.tolist()
    for row in np.flatnonzero(present).tolist():
        own, mine = self_list[row], table.layer[row] == MINE
        if kinds[row] == KIND_THREAD:
            path: tuple[Key, ...] = ((FUNCTION, MINE, "start", str(row)),)
        else:
            path = path_of(row, table, level)
        parent = -1
        for depth, key in enumerate(path):
            if key not in numbers:
                numbers[key] = len(groups)
                groups.append(_Group(key, parent, depth))
                if parent >= 0:
                    groups[parent].children.append(numbers[key])
            parent = numbers[key]
            groups[parent].self_ns += own
            if mine:
                groups[parent].weight = max(groups[parent].weight, OWN_CODE * float(inclusive_list[row]))
        of_function[row] = parent
    for group in groups:
        group.weight = max(group.weight, float(group.self_ns))
    return groups, of_function


def _down(groups: list[_Group], number: int, folded: Collection[Key]) -> int:
    """The last of a chain of groups that have one part each."""
    while len(groups[number].children) == 1 and groups[number].key not in folded:
        number = groups[number].children[0]
    return number


def _numbered(groups: list[_Group], of_function: dict[int, int], functions: int, little: float) -> Groups:
    """The nodes: each group that is shown and still holds something by itself."""
    node = [-1] * len(groups)
    _join(groups, of_function, little)
    holders = _holders(groups)
    used = sorted({holders[number] for number in of_function.values()})
    keys: list[Key] = []
    rest: list[bool] = []
    closed: list[bool] = []
    around = set()
    for number in used:
        above = groups[number].parent
        while above >= 0 and above not in around:
            around.add(above)
            above = groups[above].parent
    held: dict[int, list[int]] = {number: [] for number in used}
    for number in of_function.values():
        held[holders[number]].append(number)
    for number in used:
        node[number] = len(keys)
        alone = len(held[number]) == 1 and number in around  # what is left of a group is one function
        keys.append(groups[held[number][0] if alone else number].key)
        rest.append(number in around and not alone)
        closed.append(bool(groups[number].children) and not alone)
    number_of = np.full(functions, -1, np.int64)
    for row, number in of_function.items():
        number_of[row] = node[holders[number]]
    return Groups(number_of, tuple(keys), tuple(rest), tuple(closed))


def _join(groups: list[_Group], of_function: dict[int, int], little: float) -> None:
    """Let the rest of a group, where it holds next to nothing, belong to the rest of what is around it."""
    held = [0] * len(groups)
    holders = _holders(groups)
    for number in of_function.values():
        held[holders[number]] += groups[number].self_ns
    for number in range(len(groups) - 1, -1, -1):
        group = groups[number]
        if group.shown and group.parent >= 0 and group.children and group.left < len(group.children) and held[number] < little:
            group.shown = False
            above = group.parent
            while not groups[above].shown and groups[above].parent >= 0:
                above = groups[above].parent
            groups[above].shown = True
            held[above] += held[number]


def _holders(groups: list[_Group]) -> list[int]:
    """For each group the nearest one around it (or itself) that is shown and holds what of it is not shown for itself."""
    holders: list[int] = []
    for number, group in enumerate(groups):  # each lies after the one around it
        holders.append(number if group.shown or group.parent < 0 else holders[group.parent])
    return holders


def base_numbers(keys: tuple[Key, ...], table: FunctionTable, level: str, match: Callable[[int], int]) -> np.ndarray:
    """Which node each function of another round belongs to, -1 for none.

    Parameters
    ----------
    keys : tuple of Key
        Of the nodes.
    match : callable
        The node of the function that a function of the other round is paired with, -1 where it has none.
    """
    at = {key: number for number, key in enumerate(keys) if len(key) < 4}
    found = np.full(len(table), -1, np.int64)
    for row in range(len(table)):
        number = match(row)
        if number < 0:
            number = next((at[key] for key in reversed(path_of(row, table, level)) if key in at), -1)
        found[row] = number
    return found
