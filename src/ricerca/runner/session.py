"""One round from start to end: plain runs, the recorded run, and its recording taken into the study."""

from __future__ import annotations

import os
import re
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from hashlib import blake2b
from pathlib import Path
from typing import IO, TYPE_CHECKING

from platformdirs import user_cache_path

from ricerca.model.errors import FileDamagedError, InputError, RicercaError
from ricerca.model.marks import CONTROL_FINISH, CONTROL_GO, CONTROL_PAUSE
from ricerca.model.rounds import LINE, PLAIN, RECORDED, Run, Subject
from ricerca.runner import launch
from ricerca.runner.native import NATIVE, hook_setting
from ricerca.study.store import Study

if TYPE_CHECKING:
    from ricerca.model.run_tables import RunTables


@dataclass(frozen=True)
class Plan:
    """What a round is to hold. ``round_name`` adds to the round of that name where there is one."""

    subject: Subject
    study: Path
    round_name: str = ""
    note: str = ""
    plain_runs: int = 0
    recorded: bool = True
    limit_bytes: int = launch.DEFAULT_LIMIT_BYTES
    paused: bool = False
    hook: str = NATIVE


@dataclass(frozen=True)
class Streams:
    """Standard streams of the recorded run (None: inherited), and of the plain ones."""

    stdin: IO | int | None = None
    stdout: IO | int | None = None
    stderr: IO | int | None = None
    plain_stdout: IO | int | None = None
    plain_stderr: IO | int | None = None
    own_group: bool = False


@dataclass(frozen=True)
class Outcome:
    """What came of a round. ``recorded`` is None where only plain runs were made or nothing began."""

    round_number: int
    recorded: launch.Ended | None
    run_id: int | None
    cut_by_limit: bool = False
    problem: str = ""


class Session:
    """Makes one round. ``execution`` is the program that runs now; any thread may signal it."""

    def __init__(self, plan: Plan, streams: Streams | None = None) -> None:
        self.plan = plan
        self.streams = streams or Streams()
        self.execution: launch.Execution | None = None
        self.recording: Path | None = None
        self.step = ""
        self.paused = plan.paused
        self._cancelled = False

    def finish_now(self, number: int = 15) -> None:
        """End what runs; what was recorded till then is kept."""
        self._cancelled = True
        if self.execution is not None:
            self.execution.signal(number)

    def pause(self, paused: bool) -> None:
        """Leave out what happens from now on, or count it again; the program goes on in either case."""
        self.paused = paused
        self._control(CONTROL_PAUSE if paused else CONTROL_GO)

    def finish_recording(self) -> None:
        """End the recording here; the program runs on to its own end."""
        self._control(CONTROL_FINISH)

    def _control(self, control: int) -> None:
        if self.recording is not None:
            for file in (self.recording, *_parts(self.recording)):
                launch.set_control(file, control)

    def run(self, look: Callable[[], None] | None = None) -> Outcome:
        """Make the round; look is called often while a program runs.

        Raises
        ------
        RicercaError
            Nothing could be started or kept; the study is as it was.
        """
        plan = self.plan
        native = hook_setting(plan.subject.python, plan.hook) if plan.recorded else ""
        fresh = not plan.study.exists()
        with Study.open(plan.study, create=True) as study:
            one = self._round(study)
        try:
            for number in range(plan.plain_runs):
                if not self._cancelled:
                    self.step = f"plain run {number + 1} of {plan.plain_runs}"
                    self._plain(one.id, look)
            if not plan.recorded or self._cancelled:
                return Outcome(one.number, None, None)
            self.step = "line run" if plan.subject.lines else "recorded run"
            return self._recorded(one.id, one.number, native, look)
        finally:
            self._tidy(one.id, fresh)

    def _round(self, study: Study):
        for one in study.rounds():
            if self.plan.round_name and one.name == self.plan.round_name:
                return one
        from ricerca.runner.sources import revision

        return study.add_round(self.plan.subject, self.plan.round_name, self.plan.note, revision(self.plan.subject.cwd))

    def _tidy(self, round_id: int, fresh: bool) -> None:
        """Leave no empty round, and no empty study that was not there before."""
        with Study.open(self.plan.study) as study:
            study.drop_round_if_empty(round_id)
            empty = not study.rounds()
        if fresh and empty:
            self.plan.study.unlink(missing_ok=True)

    def _plain(self, round_id: int, look: Callable[[], None] | None) -> None:
        stamp = recording_path(self.plan.study, round_id).with_suffix(".stamp")
        stamp.parent.mkdir(parents=True, exist_ok=True)
        if hasattr(self.streams.stdin, "seek"):
            self.streams.stdin.seek(0)
        self.execution = launch.start_plain(
            self.plan.subject, stamp, stdin=self.streams.stdin, stdout=self.streams.plain_stdout,
            stderr=self.streams.plain_stderr, own_group=self.streams.own_group,
        )  # fmt: skip
        ended = self.execution.wait(look)
        run = Run(0, PLAIN, ended.started_unix_ns, ended.wall_ns, ended.cpu_ns, ended.exit_status, ended.words,
                  ended.by_signal is None)  # fmt: skip
        with Study.open(self.plan.study) as study:
            study.add_run(round_id, run)

    def _recorded(self, round_id: int, number: int, native: str, look: Callable[[], None] | None) -> Outcome:
        self.recording = recording_path(self.plan.study, round_id)
        if hasattr(self.streams.stdin, "seek"):
            self.streams.stdin.seek(0)
        try:
            self.execution = launch.start_recorded(
                self.plan.subject, self.recording, native, self.plan.limit_bytes, self.plan.paused, stdin=self.streams.stdin,
                stdout=self.streams.stdout, stderr=self.streams.stderr, own_group=self.streams.own_group,
            )  # fmt: skip
            _warm_up()
            ended = self.execution.wait(look)
        except BaseException:
            _remove(self.recording)
            raise
        kind = LINE if self.plan.subject.lines else RECORDED
        self.step = "reading the recording"
        try:
            run_id, cut = keep(self.plan.study, round_id, self.recording, kind, self.plan.subject, ended)
        except FileDamagedError as problem:
            _remove(self.recording)
            return Outcome(number, ended, None, problem=ended.problem or str(problem))
        return Outcome(number, ended, run_id, cut, ended.problem)


def _warm_up() -> None:
    """While the program runs, load what its recording is read with; on a machine with one processor it would be in the way."""

    def load() -> None:
        import ricerca.recording.merging
        import ricerca.recording.tables
        import ricerca.runner.sources
        import ricerca.study.run_tables  # noqa: F401

    if len(os.sched_getaffinity(0)) > 1:
        threading.Thread(target=load, daemon=True).start()


def recordings_folder() -> Path:
    """Where recordings lie until they are taken into their study: out of the program's sight."""
    return user_cache_path("ricerca") / "recordings"


def _mark(study: Path) -> str:
    """Stands for a study in the names of its recordings."""
    return blake2b(str(study.absolute()).encode("utf-8", "surrogateescape"), digest_size=8).hexdigest()


def recording_path(study: Path, round_id: int) -> Path:
    """Where a round's recording lies until it is taken into the study."""
    return recordings_folder() / f"{_mark(study)}.round{round_id}.{os.getpid()}.recording"


def keep(study_path: Path, round_id: int, recording_file: Path, kind: str, subject: Subject, ended: launch.Ended
         ) -> tuple[int, bool]:  # fmt: skip
    """Take a recording into the study and remove it. Returns the run's id and whether a limit cut it.

    The recording is removed only after the study holds the run.
    """
    from ricerca.model.marks import CUT_FLAGS
    from ricerca.recording.merging import merge
    from ricerca.recording.reader import open_recording
    from ricerca.recording.tables import take
    from ricerca.runner.sources import gather, with_qualified_names

    tables = take(open_recording(recording_file))
    children = _children(recording_file)
    if children:
        tables = merge([tables, *children])
    if not (tables.parent >= 0).any():
        raise FileDamagedError("the program ended before it began")
    cut = bool(tables.facts.flags & CUT_FLAGS)
    run = Run(0, kind, tables.facts.start_unix_ns, tables.facts.duration_ns, ended.cpu_ns, ended.exit_status, ended.words,
              ended.by_signal is None and not cut)  # fmt: skip
    tables = replace(tables, facts=replace(tables.facts, inside=" ".join(subject.inside)))
    sources = gather(tables.function_file, subject.cwd)
    with Study.open(study_path) as study:
        run_id = study.add_run(round_id, run, with_qualified_names(tables, sources), sources)
    _remove(recording_file)
    return run_id, cut


def _parts(recording_file: Path) -> list[Path]:
    """The recordings of processes that a program started."""
    found = recording_file.parent.glob(f"{recording_file.name}.*")
    return sorted(file for file in found if file.suffix.lstrip(".").isdigit())


def _children(recording_file: Path) -> list[RunTables]:
    """What the program's other processes recorded; those that recorded nothing are passed over."""
    from ricerca.recording.merging import without_unused
    from ricerca.recording.reader import open_recording
    from ricerca.recording.tables import take

    found = []
    for file in _parts(recording_file):
        try:
            tables = without_unused(take(open_recording(file)))
        except FileDamagedError:
            continue  # it was replaced by another program before it began
        if tables.calls.any():
            found.append(tables)
    return found


def _remove(recording_file: Path) -> None:
    """Remove a recording with those of other processes, and what they said of their problems."""
    for file in (*recording_file.parent.glob(f"{recording_file.name}.*"), recording_file):
        file.unlink(missing_ok=True)


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def recover(study_path: Path) -> int:
    """Take in recordings left behind by a Ricerca that was itself killed. Returns how many."""
    mark = _mark(study_path)
    pattern = re.compile(mark + r"\.round(\d+)\.(\d+)\.recording")
    taken = 0
    for file in sorted(recordings_folder().glob(f"{mark}.round*.recording")):
        found = pattern.fullmatch(file.name)
        if not found or _alive(int(found[2])):
            continue
        try:
            taken += _recover_one(study_path, int(found[1]), file)
        except FileDamagedError:
            _remove(file)  # the program never began, there is nothing in it
        except RicercaError:
            continue
    return taken


def _recover_one(study_path: Path, round_id: int, file: Path) -> int:
    from ricerca.recording.reader import open_recording

    recording = open_recording(file)
    if not recording.closed and _alive(int(recording.header["pid"])):
        return 0  # the program outlived us and is still being recorded
    with Study.open(study_path) as study:
        subject = next((one.subject for one in study.rounds() if one.id == round_id), None)
    if subject is None:
        raise InputError("The round of a left recording is gone.")
    kind = LINE if subject.lines else RECORDED
    ended = launch.Ended(0 if recording.closed else -9, time.time_ns(), 0, 0)
    keep(study_path, round_id, file, kind, subject, ended)
    return 1
