"""A run as a tree of contexts in preorder, the form all figures are computed from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from ricerca.engine.agreement import agree
from ricerca.engine.compensation import MOST_SLOWED, compensate
from ricerca.engine.doubts import Doubts
from ricerca.engine.forest import not_nested, preorder, subtree_sums
from ricerca.model.languages import PYTHON
from ricerca.model.marks import KIND_BUILTIN, KIND_PYTHON, KIND_THREAD
from ricerca.model.run_tables import RunFacts, RunTables


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
    language: tuple[str, ...] = ()
    """Of each function; empty where a row stands for several."""

    def __len__(self) -> int:
        return len(self.name)

    def language_of(self, function: int) -> str:
        """The language of a function."""
        return self.language[function] if self.language else PYTHON


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
    doubts: Doubts | None = None
    """Accuracy of its times; None where that is not known of what a reading leaves."""

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
    doubts = Doubts(
        tables.function[order].astype(np.int64), parent, end, agreed.region[order], agreed.spread_ns[order],
        agreed.self_ns[order].astype(np.float64), agreed.known, agreed.relative, agreed.inclusive, len(tables.function_name),
    )  # fmt: skip
    functions = FunctionTable(
        kind=tables.function_kind,
        name=tables.function_name,
        module=tables.function_module,
        file=tables.function_file,
        first_line=tables.function_line,
        layer=layers or ("mine",) * len(tables.function_name),
        language=tables.languages,
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
        doubts=doubts,
    )


__all__ = ["KIND_BUILTIN", "KIND_PYTHON", "KIND_THREAD", "FunctionTable", "Profile", "build_profile"]
