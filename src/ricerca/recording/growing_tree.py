"""A run's tables, made from what its source tells one after the other: calls, their time, lines."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ricerca.model.languages import PYTHON
from ricerca.model.marks import KIND_PYTHON, KIND_THREAD, MOST_SLICES
from ricerca.model.run_tables import RunFacts, RunTables

THREAD_START = "<thread start>"
LEAST_SLICE_NS, SPANS = 100_000, 2000


@dataclass(frozen=True)
class FunctionKey:
    """What makes a function the same one."""

    name: str
    module: str = ""
    file: str = ""
    line: int = 0
    kind: int = KIND_PYTHON
    language: str = PYTHON


@dataclass
class GrowingTree:
    """Contexts by (parent, function, call line), as they come. Times are ns from the start of the run."""

    functions: dict[FunctionKey, int] = field(default_factory=dict)
    threads: list[tuple[str, int]] = field(default_factory=list)
    _contexts: dict[tuple[int, int, int, int], int] = field(default_factory=dict)
    _rows: list[list[int]] = field(default_factory=list)
    """Parent, function, line, thread, calls, resumes, self, waiting, cost of each context."""
    _lines: dict[tuple[int, int], list[int]] = field(default_factory=dict)
    _pieces: list[tuple[int, int, int, int]] = field(default_factory=list)
    """Context, start, end of time that passed in it, and whether it waited."""
    _starts: list[tuple[int, int]] = field(default_factory=list)
    _spans: list[tuple[int, int, int]] = field(default_factory=list)

    def thread(self, name: str, process: int) -> int:
        """Begin a thread. Returns its root context."""
        self.threads.append((name, process))
        return self._new(-1, self.function(FunctionKey(THREAD_START, kind=KIND_THREAD)), 0, len(self.threads) - 1)

    def function(self, key: FunctionKey) -> int:
        """Number of a function."""
        return self.functions.setdefault(key, len(self.functions))

    def below(self, parent: int, function: int, line: int, thread: int | None = None) -> int:
        """The context of a function called from a line of another; made where it is new. It may go on in another thread."""
        own = self._rows[parent][3] if thread is None else thread
        known = self._contexts.get((parent, function, line, own))
        return known if known is not None else self._new(parent, function, line, own)

    def _new(self, parent: int, function: int, line: int, thread: int) -> int:
        number = self._contexts[parent, function, line, thread] = len(self._rows)
        self._rows.append([parent, function, line, thread, 0, 0, 0, 0, 0])
        return number

    def call(self, context: int, at_ns: int, resumed: bool = False) -> None:
        """Count a call, or that a body goes on after it was suspended."""
        self._rows[context][5 if resumed else 4] += 1
        if not resumed:
            self._starts.append((context, at_ns))

    def spend(self, context: int, start_ns: int, end_ns: int, waiting: bool = False, cost_ns: int = 0) -> None:
        """Book time on a context itself; ``cost_ns`` of it was the recorder's."""
        passed = max(end_ns - start_ns, 0)
        row = self._rows[context]
        row[6] += passed
        row[7] += passed if waiting else 0
        row[8] += min(cost_ns, passed)
        if passed:
            self._pieces.append((context, start_ns, end_ns, waiting))

    def line(self, context: int, line: int, hits: int, self_ns: int = 0) -> None:
        """Count hits of a line of the function that a context is of, and time that passed in it."""
        found = self._lines.setdefault((self._rows[context][1], line), [0, 0])
        found[0] += hits
        found[1] += max(self_ns, 0)

    def span(self, context: int, start_ns: int, end_ns: int) -> None:
        """Note one call by its start and end; the shortest are dropped where there are too many."""
        self._spans.append((context, start_ns, max(end_ns, start_ns)))

    # ---- the tables

    def tables(self, facts: RunFacts) -> RunTables:
        """All that came, as the tables of a run."""
        from dataclasses import replace

        rows = np.asarray(self._rows, np.int64).reshape(-1, 9)
        keys = list(self.functions)
        lines = np.asarray([(*key, *value) for key, value in self._lines.items()], np.int64).reshape(-1, 4)
        spans = np.asarray(self._longest_spans(), np.int64).reshape(-1, 3)
        slice_ns, slices = self._slices()
        nobody = np.zeros(len(keys), np.int64)
        return RunTables(
            function_kind=np.asarray([key.kind for key in keys], np.int32),
            function_name=tuple(key.name for key in keys),
            function_module=tuple(key.module for key in keys),
            function_file=tuple(key.file for key in keys),
            function_line=np.asarray([key.line for key in keys], np.int32),
            function_language=tuple(key.language for key in keys),
            overflow_calls=nobody,
            overflow_resumes=nobody.copy(),
            parent=rows[:, 0].astype(np.int32),
            function=rows[:, 1].astype(np.int32),
            line=rows[:, 2].astype(np.int32),
            thread=rows[:, 3].astype(np.int32),
            calls=rows[:, 4].copy(),
            resumes=rows[:, 5].copy(),
            self_ns=rows[:, 6].copy(),
            brief_ns=np.zeros(len(rows), np.int64),
            waiting_ns=rows[:, 7].copy(),
            cost_ns=rows[:, 8].copy(),
            thread_name=tuple(name for name, _process in self.threads),
            thread_process=np.asarray([process for _name, process in self.threads], np.int64),
            line_function=lines[:, 0].astype(np.int32),
            line_number=lines[:, 1].astype(np.int32),
            line_hits=lines[:, 2].copy(),
            line_self_ns=lines[:, 3].copy(),
            facts=replace(facts, slice_ns=float(slice_ns)),
            slice_context=slices[:, 0].copy(),
            slice_number=slices[:, 1].copy(),
            slice_calls=slices[:, 2].copy(),
            slice_self_ns=slices[:, 3].copy(),
            slice_waiting_ns=slices[:, 4].copy(),
            span_context=spans[:, 0].copy(),
            span_start_ns=spans[:, 1].copy(),
            span_end_ns=spans[:, 2].copy(),
        )

    def _longest_spans(self) -> list[tuple[int, int, int]]:
        if len(self._spans) <= SPANS:
            return self._spans
        return sorted(sorted(self._spans, key=lambda span: span[1] - span[2])[:SPANS], key=lambda span: span[1])

    def _slices(self) -> tuple[int, np.ndarray]:
        """Length of a slice, and what fell into each: context, slice, calls, self, waiting."""
        latest = max((end for _context, _start, end, _waiting in self._pieces), default=0)
        width = max(LEAST_SLICE_NS, latest // (MOST_SLICES - 1) + 1)
        found: dict[tuple[int, int], list[int]] = {}
        for context, start, end, waiting in self._pieces:
            for number in range(start // width, (end - 1) // width + 1):
                part = min(end, (number + 1) * width) - max(start, number * width)
                cell = found.setdefault((context, number), [0, 0, 0])
                cell[1] += part
                cell[2] += part if waiting else 0
        for context, at in self._starts:
            found.setdefault((context, min(at, max(latest - 1, 0)) // width), [0, 0, 0])[0] += 1
        return width, np.asarray([(*key, *found[key]) for key in sorted(found)], np.int64).reshape(-1, 5)
