"""Reads what a shell wrote about itself while it ran: one line for each command, before it is run, by the shell's own tracing."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from ricerca.model.errors import FileDamagedError

MARK, PART = "\x1e", "\x1f"
HEAD = "#ricerca "
_EVENT = re.compile(r"^(?:\++|D[01]?)\x1e")
OURS = ("/recorder/shell/bash_start.sh", "/recorder/shell/zsh/.zshenv")
"""The files that turn tracing on; what they do themselves is none of the program's."""
FIELDS = 10


@dataclass(frozen=True)
class ShellStart:
    """What a shell said when it began. ``name`` is its script, or the shell itself."""

    language: str
    start_unix_ns: int
    pid: int
    parent_pid: int
    version: str
    folder: str
    name: str


@dataclass(frozen=True)
class ShellEvent:
    """A command that is about to be run. ``depth`` counts functions and sourced files; ``status`` is that of the command before."""

    at_ns: int
    """Since 1970."""
    pid: int
    level: int
    """How many subshells deep."""
    status: int
    line: int
    depth: int
    function: str
    file: str
    text: str
    substituted: int = 0
    """How many command substitutions and sourced files deep, where the trace tells."""
    begins: bool | None = None
    """Whether a call of a function begins here; None where the trace does not tell."""


@dataclass(frozen=True)
class ShellTrace:
    """All that one shell, with its subshells, wrote. ``cut`` says that its last line was not whole."""

    start: ShellStart
    events: tuple[ShellEvent, ...]
    cut: bool = False


def _ns(text: str) -> int:
    """Seconds with a decimal point or comma, as the locale has it, to ns.

    >>> _ns("12,000345")
    12000345000
    """
    whole, _point, part = text.replace(",", ".").partition(".")
    return int(whole) * 1_000_000_000 + int((part + "000000000")[:9])


def _start_of(line: str, path: Path) -> ShellStart:
    words = line.split(MARK)
    try:
        language = words[0].split()[1]
        at, pid, parent, version, folder, name = words[1:7]
        return ShellStart(language, _ns(at), int(pid), int(parent), version.partition("(")[0], folder, name)
    except (ValueError, IndexError):
        raise FileDamagedError(f"{path.name} is not a shell's recording that can be read: its first line makes no sense.") from None


def _records(lines: Iterator[str]) -> Iterator[str]:
    """Events with their text, which may hold ends of lines."""
    record = ""
    for line in lines:
        if _EVENT.match(line):
            if record:
                yield record
            record = line
        elif record:
            record += "\n" + line
    if record:
        yield record


def _event(record: str) -> ShellEvent | None:
    parts = record[record.index(MARK) + 1 :].split(PART, FIELDS - 1)
    if len(parts) < FIELDS:
        return None
    at, _shell, pid, level, status, line, depth, function, file, text = parts
    try:
        return ShellEvent(
            _ns(at),
            int(pid),
            int(level),
            int(status),
            max(int(line), 0),
            int(depth),
            function,
            file,
            text,
            record.index(MARK) if record[0] == "+" else 0,
            {"D0": False, "D1": True}.get(record[: record.index(MARK)]),
        )
    except ValueError:
        return None


def read_trace(path: Path) -> ShellTrace:
    """What a shell wrote, its events in the order of their time.

    Raises
    ------
    FileDamagedError
        It does not begin as it should.
    """
    text = path.read_bytes().decode("utf-8", "surrogateescape")
    lines = text.split("\n")
    start = _start_of(lines[0], path)
    whole = text.endswith("\n")
    found = [_event(record) for record in _records(iter(lines[1 : len(lines) - (1 if whole else 0)]))]
    events = [event for event in found if event is not None and not event.file.endswith(OURS)]
    # Processes write beside each other; a stable sort keeps the order of each one's events.
    # A clock that was set back must not make time before the start.
    events = [event if event.at_ns >= start.start_unix_ns else replace(event, at_ns=start.start_unix_ns) for event in events]
    return ShellTrace(start, tuple(sorted(events, key=lambda event: event.at_ns)), cut=not whole or None in found)


def is_trace(path: Path) -> bool:
    """Whether a file is a shell's."""
    try:
        with path.open("rb") as file:
            return file.read(len(HEAD)) == HEAD.encode()
    except OSError:
        return False


def place_of(file: str, folder: str) -> str:
    """The full path of a file that a shell names from the folder it began in.

    >>> place_of("./inc.sh", "/w"), place_of("", "/w"), place_of("environment", "/w")
    ('/w/inc.sh', '', '/w/environment')
    """
    return os.path.normpath(os.path.join(folder, file)) if file else ""
