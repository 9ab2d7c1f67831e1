"""From the trace of a shell to the tables of a run: functions, sourced files, subshells, builtins and the programs it started."""

from __future__ import annotations

import os
import re
from bisect import bisect_right
from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace

from ricerca.model.languages import SHELLS
from ricerca.model.marks import KIND_BUILTIN, KIND_CHILD
from ricerca.model.run_tables import RunFacts, RunTables
from ricerca.recording.growing_tree import FunctionKey, GrowingTree
from ricerca.recording.shell_trace import ShellEvent, ShellTrace, place_of

BUILTINS = frozenset(
    """. : [ alias bg bind break builtin caller cd command compgen complete compopt continue declare dirs disown echo enable eval exec exit
    export false fc fg getopts hash help history jobs kill let local logout mapfile popd printf pushd pwd read readarray readonly return
    set shift shopt source suspend test times trap true type typeset ulimit umask unalias unset wait
    autoload bindkey builtins chdir emulate functions getln integer float limit noglob print pushln rehash setopt stat unfunction
    unlimit unsetopt vared whence where which zcompile zformat zle zmodload zparseopts zregexparse zstyle zutil zstat""".split()  # noqa: SIM905
)
SOURCE = ("source", ".")
SUBSHELL = "(subshell)"
LASTING = frozenset({"read", "wait", "mapfile", "readarray", "eval", "source", ".", "fg"})
"""Builtins that may take long by themselves, so that what passes until a subshell writes is not all its start."""
_NO_COMMAND = re.compile(
    r"(?:\[\[|\(\(|\(\s|\{\s|\(\)|for |case |select |if |while |until |repeat |foreach |function |\S+ \(\) \{"
    r"|[A-Za-z_]\w*(?:\[[^]]*\])?\+?=)"
)
_WRAPPERS = ("command", "builtin", "exec", "nohup")
FOREVER = 1 << 62
"""The end of what ran when its process was last heard of."""
MOST_COMMANDS, COMMAND_LETTERS = 200, 200


@dataclass(frozen=True)
class Started:
    """A program that a process started: what it hangs below, and from when to when it ran, in ns from the start of the run."""

    pid: int
    context: int
    start_ns: int
    end_ns: int


@dataclass
class _Frame:
    depth: int
    context: int
    since_ns: int
    line: int = 0
    """From which it was called."""
    file: str = ""
    """Of a file that is read, not of a function."""


@dataclass
class _Pending:
    """A command that runs now."""

    event: ShellEvent
    at_ns: int
    first_child_ns: int | None = None
    """When the first subshell wrote that was started since."""


@dataclass
class _Process:
    pid: int
    level: int
    parent: _Process | None
    frames: list[_Frame]
    lane: int
    pending: _Pending | None = None
    context: int = -1
    """Of the subshell itself; -1 for the shell."""
    events: int = 0
    line: int = 0
    children: list[_Process] = field(default_factory=list)


def words_of(text: str) -> list[str]:
    """The first words of a command as the shell traces it.

    >>> words_of("date +%s"), words_of("'my prog' x"), words_of("command -v git")
    (['date', '+%s'], ['my prog', 'x'], ['command', '-v', 'git'])
    """
    found: list[str] = []
    for match in re.finditer(r"((?:'[^']*'|\\.|[^\s'\\])+)", text[:4096]):
        word = match.group(1)
        found.append(re.sub(r"\\(.)", r"\1", word.replace("'", "")) if "'" in word or "\\" in word else word)
        if len(found) >= 12:
            break
    return found


def command_of(text: str) -> str:
    """The name of what a traced command runs; empty where it is no command.

    >>> command_of("x=3"), command_of("[[ a == b ]]"), command_of("/usr/bin/env x"), command_of("exec -a z sleep 1")
    ('', '', '/usr/bin/env', 'sleep')
    >>> command_of("command -v git"), command_of("command git log")
    ('command', 'git')
    """
    if _NO_COMMAND.match(text):
        return ""
    words = words_of(text)
    while len(words) > 1 and words[0] in _WRAPPERS:
        if words[0] == "command" and words[1] in ("-v", "-V"):
            break
        rest = words[1:]
        while rest and rest[0].startswith("-"):
            rest = rest[2 if words[0] == "exec" and rest[0] == "-a" else 1 :]
        if not rest:
            break
        words = rest
    return words[0] if words else ""


def _in_start_file(event: ShellEvent) -> bool:
    """Whether a shell's first command is within a file that it reads by itself when it starts."""
    return event.depth > 1 if event.begins is None else event.begins and event.function == event.file


def shell_word(name: str) -> bool:
    """Whether a name is that of a shell itself, not of a script.

    >>> shell_word("-zsh"), shell_word("/bin/zsh"), shell_word("job.zsh")
    (True, True, False)
    """
    return os.path.basename(name).lstrip("-") in SHELLS


class ShellReader:
    """Goes through the events of one shell. ``cost_ns`` is what tracing one command takes."""

    def __init__(self, trace: ShellTrace, cost_ns: int = 0, end_unix_ns: int = 0) -> None:
        self._trace, self._cost_ns = trace, cost_ns
        self._start_ns = trace.start.start_unix_ns
        last = trace.events[-1].at_ns if trace.events else self._start_ns
        self.end_ns = max(last, end_unix_ns) - self._start_ns
        self._end_known = end_unix_ns > 0
        self._tree = GrowingTree()
        self.started: list[Started] = []
        self._commands: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0])
        self._functions = {event.function for event in trace.events if event.function}
        self._times: dict[int, list[int]] = defaultdict(list)
        for event in trace.events:
            self._times[event.pid].append(event.at_ns)
        named = trace.start.name
        if shell_word(named) and trace.events and trace.events[0].file and not _in_start_file(trace.events[0]):
            named = trace.events[0].file  # zsh does not know its script yet when it starts
        name = os.path.basename(named) or trace.start.language
        self._root = self._tree.thread(name, trace.start.pid)
        script = place_of(named, trace.start.folder) if trace.events and trace.events[0].file else ""
        self._body = self._function(name, script, 1 if script else 0)
        self._main = self._tree.below(self._root, self._body, 0)
        self._tree.call(self._main, 0)
        self._shell = _Process(trace.start.pid, 0, None, [_Frame(-1, self._main, 0)], 0)
        self._processes = {trace.start.pid: self._shell}
        self._latest = self._shell

    def _function(self, name: str, file: str = "", line: int = 0, kind: int = 1) -> int:
        module = os.path.basename(file) if file else ""
        return self._tree.function(FunctionKey(name, module, file, line, kind, self._trace.start.language))

    # ---- reading

    def read(self) -> RunTables:
        """The tables of the run."""
        first = self._trace.events[0].at_ns - self._start_ns if self._trace.events else self.end_ns
        self._tree.spend(self._main, 0, first)
        for event in self._trace.events:
            self._take(event)
        for process in sorted(self._processes.values(), key=lambda process: -process.level):
            self._close(process, self.end_ns)
        start = self._trace.start
        commands = Counter({text: passed for text, (_starts, passed, _failed) in self._commands.items()}).most_common(MOST_COMMANDS)
        facts = RunFacts(
            python="", hook="trace", pid=start.pid, parent_pid=start.parent_pid, start_unix_ns=start.start_unix_ns, duration_ns=self.end_ns,
            closed=not self._trace.cut, language=start.language,
            commands=tuple((text, self._commands[text][0], passed, self._commands[text][2]) for text, passed in commands),
        )  # fmt: skip
        return self._tree.tables(facts)

    def _take(self, event: ShellEvent) -> None:
        now = event.at_ns - self._start_ns
        process = self._processes.get(event.pid)
        if process is not None and not process.frames:
            process = None  # the system has given the number of one that has ended to another
        before = process.pending.event if process is not None and process.pending is not None else None
        # A trap tells the call of a function once more when its body begins.
        pushed = process is None
        entering = before is not None and event.depth > before.depth and event.text == before.text
        if process is None:
            process = self._begin(event, now)
        elif process.pending is not None:
            pushed = self._settle(process, now, event)
        else:
            self._end_children(process, now)
        self._latest = process
        self._follow_depth(process, event, now, pushed)
        process.pending = _Pending(replace(event, text="") if entering else event, now)
        process.events += 1
        process.line = event.line

    def _follow_depth(self, process: _Process, event: ShellEvent, now: int, pushed: bool) -> None:
        """End the calls that the process has left, and begin those that no command of its own called."""
        while len(process.frames) > 1 and process.frames[-1].depth > event.depth:
            frame = process.frames.pop()
            self._tree.span(frame.context, frame.since_ns, now)
        top = process.frames[-1]
        if event.begins is not None and not pushed and 0 <= top.depth < event.depth and event.function == event.file:
            self._push(process, event, 0, now)  # the shell itself reads its next file
        other_file = bool(top.file) and event.function == event.file != top.file
        if (event.begins or other_file) and not pushed and top.depth >= event.depth > 0 and len(process.frames) > 1:
            # Another call without a word of its own between: the second command of a list, or the next file that the shell reads.
            ended = process.frames.pop()
            self._tree.span(ended.context, ended.since_ns, now)
            self._push(process, event, ended.line, now)
        if process.frames[-1].depth < 0:
            within = _in_start_file(event)
            process.frames[-1].depth = 0 if within else event.depth
            if within:
                self._push(process, event, 0, now, sourced=True)

    def _begin(self, event: ShellEvent, now: int) -> _Process:
        """A subshell, or a command of a pipeline, that is met for the first time: it hangs below what its parent does now."""
        parent = self._parent_of(event)
        if parent.pending is not None and parent.pending.first_child_ns is None:
            parent.pending.first_child_ns = now
        before = parent.pending.event if parent.pending is not None else None
        replaced = event.substituted > (before.substituted if before is not None else 1)
        replaced |= event.begins is not None and before is not None and "|" not in before.text
        for child in parent.children:
            # What stands on another line and writes no more has ended: it is no part of this pipeline. Commands whose output
            # is put in their place run one after the other.
            if (child.line != event.line or replaced) and not self._writes(child.pid, event.at_ns, self._times[child.pid][-1] + 1):
                self._close(child, now)
        lane = self._lane(parent, event)
        function = self._function(SUBSHELL, place_of(event.file, self._trace.start.folder), event.line)
        context = self._tree.below(parent.frames[-1].context, function, event.line, lane)
        self._tree.call(context, now)
        depth = event.depth - bool(event.begins)
        process = _Process(event.pid, event.level, parent, [_Frame(depth, context, now)], lane, context=context)
        parent.children.append(process)
        self._processes[event.pid] = process
        if event.begins:  # the first that a subshell does is a call
            self._push(process, event, before.line if before is not None else event.line, now)
        return process

    def _lane(self, parent: _Process, event: ShellEvent) -> int:
        """The thread that a subshell is shown in: its parent's, which waits for it, or another where both run at once."""
        running = [child for child in parent.children if child.pending is not None]
        if not running and not self._writes(parent.pid, event.at_ns, self._times[event.pid][-1]):
            return parent.lane
        busy = {process.lane for process in self._processes.values() if process.pending is not None}
        free = next(number for number in range(len(self._tree.threads) + 1) if number not in busy)
        if free == len(self._tree.threads):
            self._tree.thread(f"beside {free}", self._trace.start.pid)
        return free

    def _writes(self, pid: int, after_ns: int, before_ns: int) -> bool:
        """Whether a process runs a command between two times."""
        times = self._times[pid]
        at = bisect_right(times, after_ns)
        return at < len(times) and times[at] < before_ns

    def _parent_of(self, event: ShellEvent) -> _Process:
        """The process that a new one was forked from: the last that wrote, unless it is deeper, or beside it.

        What lies beside it in a pipeline has written once, on the same line; a subshell of the same depth that writes no more has ended.
        """
        latest = self._latest
        while latest.parent is not None and (
            latest.level > event.level or (latest.level == event.level and self._is_beside(latest, event))
        ):
            latest = latest.parent
        return latest

    def _is_beside(self, latest: _Process, event: ShellEvent) -> bool:
        return (latest.events == 1 and latest.line == event.line) or self._times[latest.pid][-1] <= event.at_ns

    def _settle(self, process: _Process, now: int, event: ShellEvent | None) -> bool:
        """What the command that ran until now was, and the time it took. Whether it was a call, which now runs."""
        pending = process.pending
        assert pending is not None
        command, frame = pending.event, process.frames[-1]
        own_end = now if pending.first_child_ns is None else pending.first_child_ns
        if event is not None and event.depth > command.depth:
            above = process.frames[-1].context
            self._push(process, event, command.line, pending.at_ns, command_of(command.text) in SOURCE)
            self._tree.line(above, command.line, 1)
            self._tree.spend(process.frames[-1].context, pending.at_ns, own_end, cost_ns=self._cost_ns)
            self._end_children(process, now)
            return True
        name = command_of(command.text)
        if command.text:
            self._tree.line(frame.context, command.line, 1, 0 if name else own_end - pending.at_ns)
        context = frame.context
        if name in self._functions and command.begins is not None:
            name = ""  # where calls are told as they begin, one that was not told was made in another process
        if name:
            context = self._item(frame.context, name, command, pending.at_ns)
        is_program = self._kind(name) == KIND_CHILD
        if pending.first_child_ns is not None and not is_program and name not in LASTING:
            own_end = min(own_end, pending.at_ns + 2 * self._cost_ns)
            child = next((child for child in process.children if child.pending is not None), None)
            self._tree.spend(child.context if child else context, own_end, pending.first_child_ns)
        self._tree.spend(context, pending.at_ns, own_end, is_program or name == "wait", self._cost_ns)
        if is_program:
            self._tree.span(context, pending.at_ns, own_end)
            still = event is None and not self._end_known
            self.started.append(Started(process.pid, context, pending.at_ns, FOREVER if still else own_end))
            counts = self._commands[" ".join(command.text.split())[:COMMAND_LETTERS]]
            counts[0] += 1
            counts[1] += own_end - pending.at_ns
            counts[2] += bool(event is not None and event.status)
        self._end_children(process, now)
        return False

    def _end_children(self, process: _Process, now: int) -> None:
        """Subshells that the parent waited for have ended when it goes on; those that write again later have not."""
        for child in process.children:
            if child.pending is not None and self._times[child.pid][-1] <= now + self._start_ns:
                self._close(child, now)
        process.children = [child for child in process.children if child.pending is not None]

    def _close(self, process: _Process, now: int) -> None:
        if process.pending is not None:
            for child in process.children:
                self._close(child, now)
            self._settle(process, now, None)
            process.pending = None
        while len(process.frames) > 1:
            frame = process.frames.pop()
            self._tree.span(frame.context, frame.since_ns, now)
        if process.context >= 0 and process.frames:
            frame = process.frames.pop()
            self._tree.span(process.context, frame.since_ns, now)

    def _push(self, process: _Process, event: ShellEvent, line: int, since_ns: int, sourced: bool = False) -> None:
        """A function is called, or a file sourced: what the event says is within it."""
        file = place_of(event.file, self._trace.start.folder)
        sourced = sourced or event.function in ("", event.file)
        name = os.path.basename(file) if sourced else event.function
        context = self._tree.below(process.frames[-1].context, self._function(name, file, 1 if sourced else 0), line)
        self._tree.call(context, since_ns)
        process.frames.append(_Frame(event.depth, context, since_ns, line, event.file if sourced else ""))

    def _kind(self, name: str) -> int:
        if not name or name in self._functions:
            return 0
        return KIND_BUILTIN if name in BUILTINS else KIND_CHILD

    def _item(self, above: int, name: str, command: ShellEvent, at_ns: int) -> int:
        """A builtin, a program, or a function in whose body nothing was traced."""
        kind = self._kind(name)
        if kind == KIND_CHILD:
            function = self._function(os.path.basename(name), kind=KIND_CHILD)
        elif kind == KIND_BUILTIN:
            function = self._function(name, kind=KIND_BUILTIN)
        else:
            function = self._function(name, place_of(command.file, self._trace.start.folder))
        context = self._tree.below(above, function, command.line)
        self._tree.call(context, at_ns)
        return context
