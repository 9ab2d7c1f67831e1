"""Reads a stream of events in lines of JSON: an open way in for any language (see docs/formats.md)."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ricerca.model.errors import FileDamagedError, NewerFormatError
from ricerca.model.marks import KIND_BUILTIN, KIND_CHILD, KIND_IMPORT, KIND_PYTHON
from ricerca.model.run_tables import RunFacts, RunTables
from ricerca.recording.growing_tree import FunctionKey, GrowingTree
from ricerca.recording.shell import Started

VERSION = 1
HEAD = b'{"ricerca":'
MOST_UNIX_NS = (1 << 63) - 1
MOST_NS, MOST_LINE = 1 << 60, (1 << 31) - 1
KINDS = {"function": KIND_PYTHON, "builtin": KIND_BUILTIN, "import": KIND_IMPORT, "program": KIND_CHILD}


@dataclass(frozen=True)
class StreamHead:
    """The first line of a stream: what it is of."""

    language: str
    program: tuple[str, ...]
    pid: int
    parent_pid: int
    start_unix_ns: int
    body: str = ""
    """The file whose code runs outside all calls; empty where that is told as a call."""


@dataclass
class _Open:
    function: int
    context: int
    since_ns: int


@dataclass
class _Thread:
    """The calls that are running in a thread, the outermost first; the root is not among them."""

    root: int
    base: int
    """What runs outside all calls; the root where nothing does."""
    stack: list[_Open] = field(default_factory=list)
    last_ns: int = 0
    line: int = 0


def is_stream(path: Path) -> bool:
    """Whether a file is a stream of events."""
    try:
        with path.open("rb") as file:
            return file.read(len(HEAD)).replace(b" ", b"")[: len(HEAD)] == HEAD
    except OSError:
        return False


def _whole(value: Any, most: int = MOST_NS) -> int:
    """A number from 0 to the most there can be.

    Raises
    ------
    ValueError
        It is none.
    """
    number = int(value)
    if not 0 <= number <= most:
        raise ValueError(f"{number} is out of range")
    return number


def head_of(line: str, name: str) -> StreamHead:
    """What the first line of a stream says.

    Raises
    ------
    FileDamagedError
        It is no stream's first line.
    NewerFormatError
        It is a newer version's.
    """
    try:
        facts: dict[str, Any] = json.loads(line)
        if facts["ricerca"] != "events":
            raise ValueError("it is no stream of events")
        if int(facts.get("version", 1)) > VERSION:
            raise NewerFormatError(f"{name} was written by a newer Ricerca's writer.", "Update Ricerca to read it.")
        pids = _whole(facts.get("pid", 0)), _whole(facts.get("parent_pid", 0))
        start_unix_ns, program = _whole(facts.get("start_unix_ns", 0), MOST_UNIX_NS), tuple(map(str, facts.get("program", ())))
        return StreamHead(str(facts["language"]), program, *pids, start_unix_ns, str(facts.get("body", "")))
    except (ValueError, KeyError, TypeError, RecursionError) as problem:
        if isinstance(problem, NewerFormatError):
            raise
        raise FileDamagedError(f"{name} is not a stream of events that can be read: its first line makes no sense ({problem}).") from None


class StreamReader:
    """Goes through the lines of a stream. Lines that make no sense end it, as they would where it was cut short."""

    def __init__(self, head: StreamHead) -> None:
        self.head = head
        self.exit_status: int | None = None
        self.cut = True
        self.strange = 0
        """Calls that ended without having begun."""
        self.started: list[Started] = []
        self._tree = GrowingTree()
        self._functions: dict[int, int] = {}
        self._programs: set[int] = set()
        self._threads: dict[int, _Thread] = {}
        self._names: dict[int, str] = {}

    def feed(self, lines: Iterable[str]) -> None:
        """Take more lines, each whole."""
        for line in lines:
            try:
                self._take(json.loads(line))
            except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError):
                self.cut = True
                return

    def _take(self, event: dict[str, Any]) -> None:
        if "enter" in event:
            thread, now = self._passed(event)
            function = self._functions[int(event["enter"])]
            above = thread.stack[-1].context if thread.stack else thread.base
            context = self._tree.below(above, function, _whole(event.get("line", thread.line), MOST_LINE))
            self._tree.call(context, now, bool(event.get("resumed")))
            thread.stack.append(_Open(function, context, now))
            thread.line = 0
        elif "leave" in event:
            thread, now = self._passed(event)
            self._leave(thread, self._functions[int(event["leave"])], now)
        elif "line" in event:
            thread, _now = self._passed(event)
            thread.line = _whole(event["line"], MOST_LINE)
            if thread.stack:
                self._tree.line(thread.stack[-1].context, thread.line, 1)
        elif "name" in event:
            first_line, kind = _whole(event.get("first_line", 0), MOST_LINE), KINDS[event.get("kind", "function")]
            module, file = str(event.get("module", "")), str(event.get("file", ""))
            key = FunctionKey(str(event["function"]), module, file, first_line, kind, self.head.language)
            self._functions[int(event["name"])] = number = self._tree.function(key)
            if key.kind == KIND_CHILD:
                self._programs.add(number)
        elif "thread_name" in event:
            self._names[int(event["thread"])] = str(event["thread_name"])
        elif "end" in event:
            for thread in self._threads.values():
                self._close(thread, _whole(event["end"]))
            self.exit_status = event.get("exit_status")
            self.cut = False
        else:
            raise ValueError("an event of no known kind")

    def _passed(self, event: dict[str, Any]) -> tuple[_Thread, int]:
        """Book the time since the thread's last event on what ran; that thread, and the time now."""
        number, now = int(event.get("thread", 0)), _whole(event["at"])
        thread = self._threads.get(number)
        if thread is None:
            root = self._tree.thread(self._names.get(number, "main" if not self._threads else f"thread {number}"), self.head.pid)
            base = root
            if self.head.body and not self._threads:
                name = os.path.basename(self.head.body)
                base = self._tree.below(
                    root, self._tree.function(FunctionKey(name, name, self.head.body, 1, language=self.head.language)), 0
                )
                self._tree.call(base, 0)
                self._tree.spend(base, 0, now)
            thread = self._threads[number] = _Thread(root, base, last_ns=now)
        now = max(now, thread.last_ns)
        if thread.stack:
            top = thread.stack[-1]
            self._tree.spend(top.context, thread.last_ns, now, waiting=top.function in self._programs)
            if thread.line:
                self._tree.line(top.context, thread.line, 0, now - thread.last_ns)
        elif thread.base != thread.root:
            self._tree.spend(thread.base, thread.last_ns, now)
        thread.last_ns = now
        return thread, now

    def _leave(self, thread: _Thread, function: int, now: int) -> None:
        """End the latest call of a function, and those within it that an error left unsaid."""
        if all(call.function != function for call in thread.stack):
            self.strange += bool(thread.stack)  # what had begun before the writer did says nothing
            return
        while thread.stack:
            call = thread.stack.pop()
            self._tree.span(call.context, call.since_ns, now)
            if call.function in self._programs:
                self.started.append(Started(self.head.pid, call.context, call.since_ns, now))
            if call.function == function:
                break
        thread.line = 0

    def _close(self, thread: _Thread, now: int) -> None:
        running = thread.stack[-1].context if thread.stack else thread.base
        if running != thread.root:
            self._tree.spend(running, thread.last_ns, max(now, thread.last_ns))
        thread.last_ns = max(now, thread.last_ns)
        while thread.stack:
            call = thread.stack.pop()
            self._tree.span(call.context, call.since_ns, thread.last_ns)

    def tables(self) -> RunTables:
        """The run as far as it came."""
        for thread in self._threads.values():
            self._close(thread, thread.last_ns)
        head = self.head
        if not self._threads:
            self._tree.thread("main", head.pid)
        latest = max((thread.last_ns for thread in self._threads.values()), default=0)
        facts = RunFacts(python="", hook="stream", pid=head.pid, parent_pid=head.parent_pid, start_unix_ns=head.start_unix_ns,
                         duration_ns=latest, closed=not self.cut, language=head.language, strange_stacks=self.strange)  # fmt: skip
        return self._tree.tables(facts)


def read_stream(path: Path) -> StreamReader:
    """All of a stream, as far as it is whole.

    Raises
    ------
    FileDamagedError, NewerFormatError
        Its first line makes no sense, or is a newer version's.
    """
    with path.open(encoding="utf-8", errors="replace") as file:
        reader = StreamReader(head_of(file.readline(), path.name))
        reader.feed(line for line in file if line.endswith("\n"))
    return reader
