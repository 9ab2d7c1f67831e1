"""A run as a tree of contexts in preorder, the form all figures are computed from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from ricerca.engine.agreement import agree
from ricerca.engine.compensation import MOST_SLOWED, compensate
from ricerca.model.marks import KIND_BUILTIN, KIND_PYTHON, KIND_THREAD
from ricerca.model.run_tables import RunFacts, RunTables


def _unknown() -> np.ndarray:
    return np.zeros(0)


@dataclass(frozen=True)
class FunctionTable:
    """The functions of a run; row numbers are the ``function`` of contexts.

    ``layer`` holds the name of each function's layer. Builtins have file "" and line 0.
    """

    kind: np.ndarray
    name: tuple[str, ...]
    module: tuple[str, ...]
    file: tuple[str, ...]
    first_line: np.ndarray
    layer: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.name)


@dataclass(frozen=True)
class Profile:
    """The contexts of a run as columns in preorder; ``end[i]`` is one past the subtree of ``i``.

    Columns have one entry a context: parent (-1 for the root of a thread), function, line
    (call site), calls, resumes, thread, self_ns (compensated), raw_self_ns, waiting_ns. Slices and spans
    name their context; see ``RunTables``.
    """

    functions: FunctionTable
    parent: np.ndarray
    end: np.ndarray
    function: np.ndarray
    line: np.ndarray
    calls: np.ndarray
    resumes: np.ndarray
    thread: np.ndarray
    self_ns: np.ndarray
    raw_self_ns: np.ndarray
    waiting_ns: np.ndarray
    thread_name: tuple[str, ...]
    thread_process: np.ndarray
    overflow_calls: np.ndarray
    overflow_resumes: np.ndarray
    line_function: np.ndarray
    line_number: np.ndarray
    line_hits: np.ndarray
    line_self_ns: np.ndarray
    slice_context: np.ndarray
    slice_number: np.ndarray
    slice_calls: np.ndarray
    slice_self_ns: np.ndarray
    slice_waiting_ns: np.ndarray
    span_context: np.ndarray
    span_start_ns: np.ndarray
    span_end_ns: np.ndarray
    facts: RunFacts
    cost_scale: float = 1.0
    """What the calibrated cost was multiplied with to agree with the plain runs; 1 without any."""
    slowness: float = 1.0
    """How much slower the machine was during this run than during the plain ones; raw times have it, compensated ones do not."""
    self_spread: np.ndarray = field(default_factory=_unknown)
    """By function: half the width of the 95 % interval of its self time in the whole run, as a share of it; empty where not known."""
    inclusive_spread: np.ndarray = field(default_factory=_unknown)
    """The same of its inclusive time; NaN for functions that sparse runs did not time."""

    def __len__(self) -> int:
        return len(self.parent)

    @cached_property
    def total_ns(self) -> int:
        """All self times together, compensated."""
        return int(self.self_ns.sum())

    @cached_property
    def raw_total_ns(self) -> int:
        """All self times together, the recorder's own cost included."""
        return int(self.raw_self_ns.sum())

    @property
    def total_calls(self) -> int:
        """All calls of Python functions and builtins."""
        return int(self.calls.sum() + self.overflow_calls.sum())

    @cached_property
    def slice_count(self) -> int:
        """Slices of time up to the last in which something happened."""
        return int(self.slice_number.max(initial=-1)) + 1

    @cached_property
    def _slices_in_order(self) -> tuple[np.ndarray, np.ndarray]:
        function = self.function[self.slice_context]
        order = np.argsort(function, kind="stable")
        return order, function[order]

    def slices_of(self, function: int) -> np.ndarray:
        """Rows of the slices in which something happened to a function; sorted once for all functions."""
        order, functions = self._slices_in_order
        first, last = np.searchsorted(functions, [function, function + 1])
        return order[first:last]

    @cached_property
    def depth(self) -> np.ndarray:
        """Callers above each context: how many have begun before it and not ended."""
        count = len(self.end)
        return np.arange(count) - np.cumsum(np.bincount(self.end, minlength=count + 1))[:count]

    @cached_property
    def inclusive_ns(self) -> np.ndarray:
        """Per context: its self time and that of everything below it."""
        return subtree_sums(self.self_ns, self.end)

    @cached_property
    def raw_inclusive_ns(self) -> np.ndarray:
        """As ``inclusive_ns``, the recorder's own cost included."""
        return subtree_sums(self.raw_self_ns, self.end)

    @cached_property
    def outermost(self) -> np.ndarray:
        """Per context: whether its function is not already active above it."""
        return not_nested(self.function, self.end)


def retimed(profile: Profile, **columns: np.ndarray) -> Profile:
    """The profile with other figures; what only depends on the tree is not worked out again."""
    changed: dict[str, Any] = dict(columns)
    found = replace(profile, **changed)
    for name in ("outermost", "depth"):
        if name in profile.__dict__:
            found.__dict__[name] = profile.__dict__[name]
    return found


def group_sums(group: np.ndarray, values: np.ndarray, count: int) -> np.ndarray:
    """Sum of whole numbers by group, as (count,) int64; exact below 2**53, although added up in floating point.

    >>> group_sums(np.array([0, 2, 2]), np.array([5, 1, 2]), 4).tolist()
    [5, 0, 3, 0]
    """
    return np.bincount(group, values, count).astype(np.int64)


def subtree_sums(values: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Sum of values over each subtree; preorder makes it a difference of a running sum.

    >>> subtree_sums(np.array([1, 2, 3]), np.array([3, 2, 3])).tolist()
    [6, 2, 3]
    """
    running = running_sum(values)
    sums = np.take(running, end)
    return np.subtract(sums, running[:-1], out=sums)


def running_sum(values: np.ndarray) -> np.ndarray:
    """What has come together before each entry, and at the end of all: (n + 1,) int64.

    >>> running_sum(np.array([True, False, True])).tolist()
    [0, 1, 1, 2]
    """
    running = np.zeros(len(values) + 1, np.int64)
    np.cumsum(values, out=running[1:])
    return running


def not_nested(group: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Whether no ancestor of an entry belongs to the same group.

    Parameters
    ----------
    group : (n,) int array
        Group of each entry, in preorder.
    end : (n,) int array
        One past the subtree of each entry.

    Notes
    -----
    Sorted by group and position, an entry lies below one of its own group exactly when the largest
    end seen before it in its group is past its position: a running maximum by group, for which every
    group gets a range of ends of its own. O(n log n).

    >>> not_nested(np.array([0, 1, 0, 1]), np.array([4, 3, 3, 4])).tolist()
    [True, True, False, True]
    """
    count = len(group)
    if count == 0:
        return np.zeros(0, bool)
    low, high = int(group.min()), int(group.max())
    small = (group - low).astype(np.uint16) if high - low < 1 << 16 else group  # short keys are sorted by radix
    order = np.argsort(small, kind="stable")
    if (high - low + 1) * (count + 1) < 1 << 62:
        first = (small[order].astype(np.int64) - (0 if small is not group else low)) * (count + 1)
    else:
        sorted_group = group[order]
        first = np.cumsum(np.concatenate(([0], sorted_group[1:] != sorted_group[:-1]))) * (count + 1)
    reach = first + end[order]
    np.maximum.accumulate(reach, out=reach)
    result = np.ones(count, bool)
    result[order[1:]] = reach[:-1] <= first[1:] + order[1:]
    return result


def _sums_to_root(values: np.ndarray, parent: np.ndarray) -> np.ndarray:
    """Sum of values from each context up to its root, by doubling steps: O(n log depth)."""
    total = values.astype(np.int64)
    jump = parent.astype(np.int64)
    while (jump >= 0).any():
        live = np.flatnonzero(jump >= 0)
        target = jump[live]
        step = total[target]
        total[live] += step
        jump[live] = jump[target]
    return total


def _sizes(parent: np.ndarray, depth: np.ndarray) -> np.ndarray:
    """Entries in each subtree, level by level from the deepest up."""
    size = np.ones(len(parent), np.int64)
    order = np.argsort(depth, kind="stable")
    levels = np.searchsorted(depth[order], np.arange(1, int(depth.max(initial=0)) + 2))
    for level in range(len(levels) - 1, 0, -1):
        rows = order[levels[level - 1] : levels[level]]
        np.add.at(size, parent[rows], size[rows])
    return size


def _places(parent: np.ndarray, size: np.ndarray) -> np.ndarray:
    """Place of each context in preorder; siblings, and roots, keep their order.

    A context comes one after its parent and after the subtrees of its earlier siblings, so its
    place is the sum of such steps up to the root.
    """
    order = np.argsort(parent, kind="stable")
    before = np.cumsum(size[order]) - size[order]
    first = np.searchsorted(parent[order], parent[order], side="left")
    step = np.empty(len(parent), np.int64)
    step[order] = before - before[first]
    return _sums_to_root(step + (parent >= 0), parent)


def preorder(parent: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Contexts in preorder, siblings in the order they are given in; and one past the subtree of each.

    Parameters
    ----------
    parent : (n,) int array
        -1 for roots; a context comes after its parent.

    >>> [part.tolist() for part in preorder(np.array([-1, 0, 0, 1]))]
    [[0, 1, 3, 2], [4, 3, 3, 4]]
    """
    size = _sizes(parent, _sums_to_root(parent >= 0, parent))
    place = _places(parent, size)
    order = np.empty(len(parent), np.int64)
    order[place] = np.arange(len(parent))
    return order, np.arange(len(parent)) + size[order]


def build_profile(
    tables: RunTables,
    layers: tuple[str, ...] | None = None,
    plain_ns: int | None = None,
    sparse: Sequence[RunTables] = (),
    swing: float = MOST_SLOWED,
) -> Profile:
    """Put the contexts of a run in preorder, deduct the recorder's own cost, and bring it into agreement with sparse runs.

    Parameters
    ----------
    tables : RunTables
    plain_ns : int, optional
        What the program takes without the recorder, where that was measured; see ``compensate``.
    layers : tuple of str, optional
        Name of the layer of each function; "mine" for all when left out.
    sparse : sequence of RunTables
        Runs of the same code in which few functions alone were timed; see ``agree``.
    swing : float
        Slowest plain run over the quickest; see ``compensate``.
    """
    count = len(tables.parent)
    order, end = preorder(tables.parent)
    place = np.empty(count, np.int64)
    place[order] = np.arange(count)
    parent = np.where(tables.parent[order] >= 0, place[tables.parent[order]], -1)
    compensated_ns, cost_scale, slowness = compensate(tables, plain_ns, swing)
    agreed = agree(tables, compensated_ns, sparse, plain_ns)
    functions = FunctionTable(
        kind=tables.function_kind,
        name=tables.function_name,
        module=tables.function_module,
        file=tables.function_file,
        first_line=tables.function_line,
        layer=layers or ("mine",) * len(tables.function_name),
    )
    return Profile(
        functions=functions,
        parent=parent,
        end=end,
        function=tables.function[order].astype(np.int64),
        line=tables.line[order],
        calls=tables.calls[order],
        resumes=tables.resumes[order],
        thread=tables.thread[order],
        self_ns=agreed.self_ns[order],
        raw_self_ns=tables.self_ns[order],
        waiting_ns=tables.waiting_ns[order],
        thread_name=tables.thread_name,
        thread_process=tables.thread_process,
        overflow_calls=tables.overflow_calls,
        overflow_resumes=tables.overflow_resumes,
        line_function=tables.line_function,
        line_number=tables.line_number,
        line_hits=tables.line_hits,
        line_self_ns=tables.line_self_ns,
        slice_context=place[tables.slice_context],
        slice_number=tables.slice_number,
        slice_calls=tables.slice_calls,
        slice_self_ns=tables.slice_self_ns,
        slice_waiting_ns=tables.slice_waiting_ns,
        span_context=place[tables.span_context],
        span_start_ns=tables.span_start_ns,
        span_end_ns=tables.span_end_ns,
        facts=tables.facts,
        cost_scale=cost_scale,
        slowness=slowness,
        self_spread=agreed.self_spread,
        inclusive_spread=agreed.inclusive_spread,
    )


__all__ = ["KIND_BUILTIN", "KIND_PYTHON", "KIND_THREAD", "FunctionTable", "Profile", "build_profile",
           "not_nested", "subtree_sums"]  # fmt: skip
