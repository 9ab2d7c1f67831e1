"""What the processes of a run wrote, each by its own source of events."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from ricerca.model.errors import FileDamagedError
from ricerca.model.languages import FULL
from ricerca.model.marks import FLAG_LIMIT_REACHED
from ricerca.model.run_tables import RunTables
from ricerca.recording.compiled import contexts_above, with_names
from ricerca.recording.merging import without_unused
from ricerca.recording.one_tree import COMPILED as HOOK_COMPILED
from ricerca.recording.one_tree import Process, programs_of
from ricerca.recording.reader import open_recording
from ricerca.recording.shell import ShellReader
from ricerca.recording.shell_trace import ShellTrace, is_trace, read_trace
from ricerca.recording.stream import is_stream, read_stream
from ricerca.recording.tables import take

Cost = Callable[[str], int]
"""What recording one event takes, in ns, by language."""


def began(file: Path) -> bool:
    """Whether anything was written to a recording: its first bytes come last of all when it is laid out."""
    with file.open("rb") as content:
        return bool(content.read(8).strip(b"\0"))


class _Ends:
    """When the caller of each process went on, as far as that is known: then the process had ended."""

    def __init__(self, traces: Sequence[ShellTrace], processes: Sequence[Process]) -> None:
        self._times: dict[int, list[int]] = {}
        for trace in traces:
            for event in trace.events:
                self._times.setdefault(event.pid, []).append(event.at_ns)
        self._calls = [(call.pid, process.began_ns + call.start_ns, process.began_ns + call.end_ns)
                       for process in processes for call in process.started]  # fmt: skip

    def of(self, trace: ShellTrace) -> int:
        """When a shell had ended, in ns since 1970; 0 where that is not known."""
        times, began_ns = self._times.get(trace.start.parent_pid, []), trace.start.start_unix_ns
        at = bisect_right(times, began_ns)
        if at < len(times):
            return times[at]
        ends = [end for pid, start, end in self._calls if pid == trace.start.parent_pid and start <= began_ns <= end]
        return min(ends, default=0)


def _earliest(processes: Sequence[Process]) -> int:
    return min((process.began_ns for process in processes), default=1 << 62)


def _named(file: Path, tables: RunTables) -> RunTables:
    try:
        contexts_above(tables)
        return with_names(tables)
    except ValueError:
        raise FileDamagedError(f"{file.name} is not a recording that can be read: an address in it is none.") from None


def _cut_at_limit(tables: RunTables) -> RunTables:
    """A run of which only the beginning was kept."""
    return replace(tables, facts=replace(tables.facts, flags=tables.facts.flags | FLAG_LIMIT_REACHED))


def _of_stream(file: Path) -> Process:
    reader = read_stream(file)
    return Process(reader.tables(), tuple(reader.started))


def read_parts(first: Path, others: Sequence[Path], cost_of: Cost, end_unix_ns: int = 0) -> tuple[list[Process], int]:
    """The processes of a run, that which was started first, and how many could not be read.

    Parameters
    ----------
    first : Path
        The recording of the program itself; it is empty where that does not write one, as a shell.
    others : sequence of Path
        Of the processes that came of it.
    cost_of : callable
    end_unix_ns : int
        When the program had ended, 0 where nobody saw it.

    Raises
    ------
    FileDamagedError
        The first cannot be read, or there is none.
    """
    processes = [Process(tables, programs_of(tables)) for tables in ([take(open_recording(first))] if began(first) or not others else [])]
    traces: list[ShellTrace] = []
    full: list[ShellTrace] = []
    unreadable = 0
    for file in others:
        if not began(file):
            continue  # the process was replaced by another program, or was ended, before it began
        try:
            was_cut = file.with_name(file.name + FULL).exists()
            if is_trace(file):
                traces.append(read_trace(file))
                full += [traces[-1]] if was_cut else []
                continue
            if is_stream(file):
                process = _of_stream(file)
                processes.append(replace(process, tables=_cut_at_limit(process.tables)) if was_cut else process)
                continue
            tables = take(open_recording(file))
            if tables.facts.hook == HOOK_COMPILED:
                tables = _named(file, without_unused(tables))
        except FileDamagedError:
            unreadable += 1
            continue
        if tables.calls.any():
            processes.append(Process(tables, programs_of(tables)))
    ends = _Ends(traces, processes)
    # A shell that began before all else is the program itself, where that is none that writes the first recording.
    earliest = min(traces, key=lambda trace: trace.start.start_unix_ns, default=None)
    main = earliest if earliest is not None and not began(first) and earliest.start.start_unix_ns <= _earliest(processes) else None
    for trace in traces:
        end = end_unix_ns if trace is main else min(ends.of(trace), end_unix_ns or ends.of(trace))
        reader = ShellReader(trace, cost_of(trace.start.language), end)
        tables = reader.read()
        if trace in full:
            tables = _cut_at_limit(tables)
        process = Process(tables, tuple(reader.started))
        processes.insert(0 if trace is main else len(processes), process)
    if main is None and not began(first):  # neither a Python nor a shell: what began first is the program itself
        processes.sort(key=lambda process: process.began_ns)
    if not processes:
        raise FileDamagedError("the program ended before it began")
    return processes, unreadable
