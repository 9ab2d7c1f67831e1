"""Starts one run of a subject and waits for it; the program must not notice."""

from __future__ import annotations

import errno
import mmap
import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING

from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.model.marks import CONTROL_OFFSET, END_MONO_NS_OFFSET
from ricerca.model.rounds import Subject
from ricerca.runner.compiled import compiled_subject, preloaded, tells_extensions
from ricerca.runner.native import ENTRY, PURE
from ricerca.runner.program import command_of, is_isolated
from ricerca.runner.shells import environment, recorded_words, shell_of
from ricerca.runner.trace_limit import TraceLimit
from ricerca.runner.writers import language_of, writer_environment

if TYPE_CHECKING:
    from ricerca.runner.restoring import State

DEFAULT_LIMIT_BYTES = 1 << 30
LEAST_FREE_BYTES = 2 << 20
WAIT_SECONDS = 0.05


@dataclass(frozen=True)
class Ended:
    """How an execution ended. ``exit_status`` is the negative signal number where a signal ended it."""

    exit_status: int
    started_unix_ns: int
    wall_ns: int
    cpu_ns: int
    problem: str = ""

    @property
    def by_signal(self) -> str | None:
        """Name of the signal that ended it."""
        if self.exit_status >= 0:
            return None
        try:
            return signal.Signals(-self.exit_status).name
        except ValueError:
            return f"signal {-self.exit_status}"

    @property
    def words(self) -> str:
        """How it ended, for people."""
        return f"killed by {self.by_signal}" if self.by_signal else f"exit status {self.exit_status}"


def _environment(subject: Subject, extra: dict[str, str]) -> dict[str, str]:
    env = {**os.environ, **dict(subject.env)}
    if not extra:
        return env
    if "RICERCA_RECORDING" in extra and not (extra["RICERCA_TIMED"] or extra["RICERCA_LINES"]):
        env |= environment(env)
        language = language_of(subject)
        if language:
            env |= writer_environment(language, Path(extra["RICERCA_RECORDING"]), env)
        if compiled_subject(subject):
            env |= preloaded(env.get("LD_PRELOAD"))
        elif shell_of(subject) or (not language and tells_extensions(subject)):
            with suppress(EnvironmentProblem):  # compiled programs that it starts then stay what they are without it: programs
                env |= preloaded(env.get("LD_PRELOAD"))
    if is_isolated(subject):
        env = {name: value for name, value in env.items() if not name.startswith("PYTHON")}
    before = env.get("PYTHONPATH")
    if before is not None:
        env["RICERCA_PYTHONPATH"] = before
    env["PYTHONPATH"] = os.pathsep.join([str(ENTRY), before]) if before else str(ENTRY)
    return {**env, **extra}


def make_folder(folder: Path) -> None:
    """Make the folder in which recordings lie.

    Raises
    ------
    EnvironmentProblem
        It cannot be made or written to.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise _no_room(folder, problem) from None
    if not os.access(folder, os.W_OK | os.X_OK):
        raise _no_room(folder, PermissionError(errno.EACCES, os.strerror(errno.EACCES)))


def _no_room(folder: Path, problem: OSError) -> EnvironmentProblem:
    """Why nothing can be written to the folder of recordings, and what to do about it."""
    if problem.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return EnvironmentProblem(
            f"There is no room for a recording in {folder} ({problem.strerror}).",
            "Free some space there, or set XDG_CACHE_HOME to a folder with more room.",
        )
    return EnvironmentProblem(
        f"Recordings cannot be written to {folder} ({problem.strerror}).",
        "Make it writable, or set XDG_CACHE_HOME to a folder that is.",
    )


def make_room(recording: Path) -> None:
    """Create the recording's file, and refuse now rather than half way where the disk is full."""
    make_folder(recording.parent)
    try:
        with recording.open("wb") as file:
            os.posix_fallocate(file.fileno(), 0, LEAST_FREE_BYTES)
            file.truncate(0)
    except OSError as problem:
        recording.unlink(missing_ok=True)
        raise _no_room(recording.parent, problem) from None


def stamp_end(recording: Path) -> None:
    """Note in a recording when its program was gone, so that a cut one knows how long its last call lasted."""
    now = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
    try:
        with recording.open("r+b") as file, mmap.mmap(file.fileno(), 4096) as header:
            header[END_MONO_NS_OFFSET : END_MONO_NS_OFFSET + 8] = now.to_bytes(8, "little")
    except (OSError, ValueError):
        return  # an empty or missing recording is reported when it is read


def set_control(recording: Path, control: int) -> None:
    """Tell the recorder to go on, to pause or to finish; it looks at its next event."""
    try:
        with recording.open("r+b") as file, mmap.mmap(file.fileno(), 4096) as header:
            header[CONTROL_OFFSET : CONTROL_OFFSET + 4] = control.to_bytes(4, "little")
    except (OSError, ValueError):
        return  # it has not begun, or is gone


def _in_words(problem: str) -> str:
    """What kept the recorder from starting, with what to do."""
    if f"[Errno {errno.ENOMEM}]" in problem or "MemoryError" in problem:
        return "the system gave no memory for the recording. Raise its limit (ulimit -v unlimited), or ask for less room: --limit 64M."
    if f"[Errno {errno.ENOSPC}]" in problem:
        return "there was no room on the disk for the recording. Free some space, or set XDG_CACHE_HOME to a folder with more."
    return problem


def _input_of(subject: Subject) -> IO[bytes] | None:
    """The file that the program reads from its standard input, where the subject names one."""
    if not subject.input:
        return None
    place = Path(subject.cwd, os.path.expanduser(subject.input))
    try:
        return place.open("rb")
    except OSError as problem:
        raise InputError(f"The input file {place} cannot be read ({problem.strerror}).") from None


class Execution:
    """A program that runs. Standard streams are inherited unless given."""

    def __init__(self, subject: Subject, extra_env: dict[str, str], recording: Path | None, stamp: Path | None,
                 stdin: IO | int | None = None, stdout: IO | int | None = None, stderr: IO | int | None = None,
                 own_group: bool = False, state: State | None = None) -> None:  # fmt: skip
        self.recording = recording
        self._own_group = own_group
        self._stamp = stamp
        self._started_unix_ns = time.time_ns()
        env = {**_environment(subject, extra_env), **(state.env if state else {})}
        command = recorded_words(command_of(subject)) if recording is not None else command_of(subject)
        own_input = _input_of(subject) if stdin in (None, subprocess.DEVNULL) else None
        # The program gets the signals that are waited for here as any other would.
        blocked = signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT, signal.SIGQUIT})
        try:
            self.process = subprocess.Popen(
                [*(state.prefix if state else ()), *command], cwd=subject.cwd,
                env=env, stdin=own_input if own_input is not None else stdin,
                stdout=stdout, stderr=stderr, close_fds=False, start_new_session=own_group,
            )  # fmt: skip
        except OSError as problem:
            what = f" ({os.fsdecode(problem.filename)})" if problem.filename else ""
            raise InputError(
                f"The program could not be started: {problem.strerror}{what}.", "Bring that back, or name another folder or interpreter."
            ) from None
        finally:
            signal.pthread_sigmask(signal.SIG_SETMASK, blocked)
            if own_input is not None:
                own_input.close()
        self._started_ns = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
        self._traces = TraceLimit(recording, int(extra_env.get("RICERCA_LIMIT", DEFAULT_LIMIT_BYTES))) if recording is not None else None
        if self._traces is not None:
            self._traces.start()

    def signal(self, number: int) -> None:
        """Send the program a signal, and its children where it has a group of its own; nothing happens when it is gone."""
        if self.process.returncode is None:
            try:
                (os.killpg if self._own_group else os.kill)(self.process.pid, number)
            except ProcessLookupError:
                return

    def wait(self, look: Callable[[], None] | None = None) -> Ended:
        """Wait for the end, calling look now and then."""
        pid, status, usage = 0, 0, None
        while not pid:
            try:
                pid, status, usage = os.wait4(self.process.pid, os.WNOHANG if look else 0)
            except InterruptedError:
                continue
            if not pid and look:
                look()
                time.sleep(WAIT_SECONDS)
        ended_ns = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
        if self._traces is not None:
            self._traces.end()
        code = os.waitstatus_to_exitcode(status)
        self.process.returncode = code
        problem = ""
        if self.recording is not None:
            stamp_end(self.recording)
            note = Path(f"{self.recording}.problem")
            if note.exists():
                problem = _in_words(note.read_text("utf-8", "replace"))
                note.unlink()
        cpu_ns = int((usage.ru_utime + usage.ru_stime) * 1e9) if usage else 0
        began_ns, regular_end_ns = self._stamps()
        return Ended(code, self._started_unix_ns, (regular_end_ns or ended_ns) - began_ns, cpu_ns, problem)

    def _stamps(self) -> tuple[int, int | None]:
        """When the program began, and when it ended where it came to its regular end."""
        try:
            text = self._stamp.read_text() if self._stamp else ""
            if self._stamp:
                self._stamp.unlink(missing_ok=True)
        except OSError:
            text = ""
        times = [int(word) for word in text.split() if word.isdigit()]
        return (times[0] if times else self._started_ns), (times[1] if len(times) > 1 else None)


def write_keys(file: Path, keys: Iterable[tuple[int, str, str]]) -> None:
    """Write down which functions a sparse run is to time: first line, plain name, file."""
    rows = (f"{line}\t{name}\t{place}\n" for line, name, place in keys if "\n" not in name + place and "\t" not in name)
    file.write_text("".join(rows), "utf-8", "surrogateescape")


def refuse_what_only_python_knows(subject: Subject, paused: bool = False) -> None:
    """Refuse a choice that this program's source of events does not know.

    Raises
    ------
    InputError
        Lines, a function or a pause were chosen for a program that is no Python's.
    """
    if writes_main_recording(subject):
        return
    chosen = [name for name, value in (("--lines", subject.lines), ("--inside", subject.inside), ("--paused", paused)) if value]
    if chosen:
        raise InputError(
            f"{chosen[0]} is known for Python programs only.", f"Record {subject.title} without it; a shell's lines are there anyway."
        )


def writes_main_recording(subject: Subject) -> bool:
    """Whether the program is a Python, which writes the recording itself; others write parts of it, beside it."""
    return not (shell_of(subject) or language_of(subject) or compiled_subject(subject))


def start_plain(subject: Subject, stamp: Path, **streams: object) -> Execution:
    """Start the subject without the recorder; stamp is a file to note its beginning in, which a Python writes."""
    if not writes_main_recording(subject):
        return Execution(subject, {}, None, None, **streams)  # type: ignore[arg-type]
    return Execution(subject, {"RICERCA_STAMP": str(stamp)}, None, stamp, **streams)  # type: ignore[arg-type]


def start_recorded(subject: Subject, recording: Path, native: str, limit_bytes: int = DEFAULT_LIMIT_BYTES, paused: bool = False,
                   public_only: bool = False, timed: Path | None = None, **streams: object) -> Execution:  # fmt: skip
    """Start the subject with the recorder writing into recording; native is what ``hook_setting`` says of its interpreter.

    With paused, nothing is counted until ``set_control`` lets the recorder go. ``timed`` is a file written by
    ``write_keys``: then only the calls of these functions are timed, and nothing else is watched.

    Raises
    ------
    InputError, EnvironmentProblem
        The program cannot be started, or there is no room.
    """
    if not recording.exists():
        make_room(recording)
    extra = {
        "RICERCA_RECORDING": str(recording),
        "RICERCA_NATIVE": native,
        "RICERCA_PURE": str(PURE),
        "RICERCA_LIMIT": str(limit_bytes),
        "RICERCA_LINES": "\n".join(subject.lines),
        "RICERCA_INSIDE": "\n".join(subject.inside),
        "RICERCA_PAUSED": "1" if paused else "",
        "RICERCA_PUBLIC": "1" if public_only else "",
        "RICERCA_TIMED": str(timed) if timed else "",
    }
    if not writes_main_recording(subject):
        extra["RICERCA_CHILD"] = "1"  # a Python that it starts has a recording of its own
    return Execution(subject, extra, recording, None, **streams)  # type: ignore[arg-type]
