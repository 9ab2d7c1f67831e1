"""Several processes as one tree: what a program did hangs below the call that started it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ricerca.model.languages import PYTHON
from ricerca.model.marks import KIND_CHILD
from ricerca.model.run_tables import RunTables
from ricerca.recording.compiled import contexts_above
from ricerca.recording.inside import Times, hang_compiled
from ricerca.recording.merging import WATCHED, merge, without_unused
from ricerca.recording.shell import Started

COMPILED = "compiled"
LATE_NS = 5_000_000
"""A process may begin to record so long before the call that started it was noted: clocks of two sources differ a little."""


@dataclass(frozen=True)
class Process:
    """One process's part of a run, and the programs it started."""

    tables: RunTables
    started: tuple[Started, ...] = ()

    @property
    def began_ns(self) -> int:
        """When it began to record, in ns since 1970."""
        return self.tables.facts.start_unix_ns


def programs_of(tables: RunTables) -> tuple[Started, ...]:
    """The programs that a process started, as far as their calls are known one by one."""
    if not len(tables.span_context):
        return ()
    is_program = tables.function_kind[tables.function[tables.span_context]] == KIND_CHILD
    rows = zip(tables.span_context[is_program].tolist(), tables.span_start_ns[is_program].tolist(), tables.span_end_ns[is_program].tolist(),
               strict=True)  # fmt: skip
    return tuple(Started(tables.facts.pid, context, start, end) for context, start, end in rows)


def _call_that_started(processes: Sequence[Process], number: int) -> tuple[int, Started] | None:
    """The process and the call that started a process, where both are known: the latest call that was still running when it began."""
    child = processes[number]
    facts = child.tables.facts
    if facts.hook == COMPILED and any(
        before.tables.facts.hook == COMPILED and before.tables.facts.pid == facts.pid for before in processes[:number]
    ):
        return None  # another thread of a compiled program, which has a recording of its own
    found: tuple[int, int, Started] | None = None
    for at, process in enumerate(processes[:number]):
        for call in process.started:
            if call.pid not in (facts.parent_pid, facts.pid):
                continue
            start, end = process.began_ns + call.start_ns, process.began_ns + call.end_ns
            if start - LATE_NS <= child.began_ns <= end and (found is None or start > found[0]):
                found = start, at, call
    return found[1:] if found is not None else _by_slice(processes, number)


def _interpreter_of(processes: Sequence[Process], number: int) -> int | None:
    """The interpreter in whose process compiled code ran, where it says below which contexts; None for any other process."""
    tables = processes[number].tables
    if tables.facts.hook != COMPILED or not contexts_above(tables):
        return None
    same = [
        at for at, process in enumerate(processes) if process.tables.facts.pid == tables.facts.pid and process.tables.facts.hook != COMPILED
    ]
    return same[0] if same else None


def _by_slice(processes: Sequence[Process], number: int) -> tuple[int, Started] | None:
    """The same from the slices of the process that started it: its call was too short to be known by itself.

    Of the programs that the parent had started by then, the last one that something happened in.
    """
    child = processes[number]
    at = next((at for at, process in enumerate(processes[:number]) if process.tables.facts.pid == child.tables.facts.parent_pid), -1)
    if at < 0:
        return None
    tables, began = processes[at].tables, child.began_ns - processes[at].began_ns
    programs = np.flatnonzero(tables.function_kind[tables.function] == KIND_CHILD)
    if not len(programs):
        return None
    context = int(programs[0])
    rows = np.flatnonzero(np.isin(tables.slice_context, programs) & (tables.slice_number * tables.facts.slice_ns <= began))
    if len(rows):
        context = int(tables.slice_context[rows[np.argmax(tables.slice_number[rows])]])
    return at, Started(tables.facts.pid, context, began, began + child.tables.facts.duration_ns)


def one_tree(processes: Sequence[Process]) -> RunTables:
    """Put the processes of a run together, each below the call that started it where that is known.

    What the caller waited while the other ran is the other's time: it is taken off the caller, so that each moment of a
    program that was waited for counts once; and so is what it took to begin to record the other.
    """
    first, *others = processes
    ordered = [first, *sorted(others, key=lambda process: process.began_ns)]
    merged = merge([process.tables for process in ordered])
    python = next((process.tables.facts for process in ordered if process.tables.facts.language == PYTHON), None)
    facts = merged.facts
    if facts.language != PYTHON and python is not None:  # what recording cost is known of Python's calls alone
        kept = ("pid", "parent_pid", "start_unix_ns", "duration_ns", "closed", "language", "flags", "slice_ns", *WATCHED)
        facts = replace(python, **{name: getattr(merged.facts, name) for name in kept})
    binaries = tuple(sorted({path for process in ordered for path in process.tables.facts.binaries}))
    facts = replace(facts, commands=_commands(ordered), binaries=binaries)
    parent, self_ns, waiting_ns = merged.parent.copy(), merged.self_ns.copy(), merged.waiting_ns.copy()
    slice_self, slice_waiting = merged.slice_self_ns.copy(), merged.slice_waiting_ns.copy()
    base = np.cumsum([0, *(len(process.tables.parent) for process in ordered)])
    thread = merged.thread.copy()
    times = Times(self_ns, waiting_ns, slice_self, slice_waiting)
    for number in range(1, len(ordered)):
        interpreter = _interpreter_of(ordered, number)
        if interpreter is not None:
            room = int(base[interpreter]), int(base[interpreter + 1])
            hang_compiled(merged, parent, thread, times, room, int(base[number]), ordered[number].tables)
            continue
        found = _call_that_started(ordered, number)
        if found is None:
            continue
        at, call = found
        context, child = int(base[at] + call.context), ordered[number]
        root = int(base[number] + np.flatnonzero(child.tables.parent < 0)[0])
        parent[parent == root] = context  # the start of its main thread is the call itself
        self_ns[root] = waiting_ns[root] = 0
        slice_self[merged.slice_context == root] = slice_waiting[merged.slice_context == root] = 0
        began = child.began_ns - ordered[0].began_ns
        ended = min(began + child.tables.facts.duration_ns, ordered[at].began_ns + call.end_ns - ordered[0].began_ns)
        began -= child.tables.facts.setup_ns
        theirs = max(min(ended - began, int(self_ns[context])), 0)
        self_ns[context] -= theirs
        waiting_ns[context] = min(int(waiting_ns[context]), int(self_ns[context]))
        _take_off(slice_self, slice_waiting, merged, context, began, ended)
    hung = replace(
        merged,
        parent=parent,
        thread=thread,
        self_ns=self_ns,
        waiting_ns=waiting_ns,
        slice_self_ns=slice_self,
        slice_waiting_ns=slice_waiting,
        brief_ns=np.minimum(merged.brief_ns, self_ns),
        facts=facts,
    )
    return without_unused(hung)


def _take_off(slice_self: np.ndarray, slice_waiting: np.ndarray, merged: RunTables, context: int, began: int, ended: int) -> None:
    """Take a stretch of time off what a context has in the slices that it falls into."""
    width = merged.facts.slice_ns
    rows = np.flatnonzero(merged.slice_context == context)
    if not len(rows) or width <= 0:
        return
    starts = merged.slice_number[rows] * width
    inside = np.clip(np.minimum(starts + width, ended) - np.maximum(starts, began), 0, None).astype(np.int64)
    slice_self[rows] = np.maximum(slice_self[rows] - inside, 0)
    slice_waiting[rows] = np.minimum(slice_waiting[rows], slice_self[rows])


def _commands(processes: Sequence[Process]) -> tuple[tuple[str, int, int, int], ...]:
    """The commands of all shells of a run."""
    found: dict[str, list[int]] = {}
    for process in processes:
        for text, *counts in process.tables.facts.commands:
            own = found.setdefault(text, [0, 0, 0])
            for place, count in enumerate(counts):
                own[place] += count
    return tuple((text, starts, passed, failed) for text, (starts, passed, failed) in found.items())
