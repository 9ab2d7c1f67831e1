"""Plain and sparse runs. Their output is compared, not shown."""

from __future__ import annotations

import signal
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, Any

from ricerca.model.completeness import KILLED, Gap, gaps_of_recording
from ricerca.model.errors import FileDamagedError
from ricerca.model.rounds import PLAIN, SPARSE, Round, Run, Subject
from ricerca.runner import launch, recordings
from ricerca.runner.machine import this_machine
from ricerca.runner.outputs import Watched
from ricerca.runner.restoring import State
from ricerca.runner.revisions import Moved
from ricerca.runner.taking import ended_about, tables_of, take_in
from ricerca.study.store import Study

Key = tuple[int, str, str]
SPARSE_LIMIT_BYTES = 1 << 28
BY_INTERRUPT = (-signal.SIGINT, 128 + signal.SIGINT)


@dataclass
class Quiet:
    """Makes quiet runs of a subject for a study. ``execution`` is the program that runs now; any thread may signal it."""

    study: Path
    stdin: IO | int | None = None
    own_group: bool = False
    execution: launch.Execution | None = None
    interrupted: bool = False
    """Whether somebody pressed Ctrl+C: the terminal sends it to the program, and it means all that is still to come."""
    moved: Moved | None = None
    """The folder that stands for that of the subject, where an earlier revision is run."""

    def plain(self, subject: Subject, round_id: int, look: Callable[[], None] | None = None, state: State | None = None,
              pair: int | None = None, again: bool = False) -> Run:  # fmt: skip
        """Run it without a recorder. With a state, of that state of the code."""
        stamp = recordings.recording_path(self.study, round_id).with_suffix(".stamp")
        launch.make_folder(stamp.parent)
        machine, watched = this_machine(), Watched()
        if self.moved and not again:
            subject = self.moved.subject(subject)
        ended = self._wait(launch.start_plain(subject, stamp, **self._streams(watched), state=state), watched, look)
        answer = watched.answer(subject.cwd, subject.answer)
        gaps = (Gap(KILLED, what=ended.by_signal),) if ended.by_signal else ()
        return Run(0, PLAIN, ended.started_unix_ns, ended.wall_ns, ended.cpu_ns, ended.exit_status, ended.words, gaps, answer, machine,
                   pair, again)  # fmt: skip

    def sparse(self, subject: Subject, round_: Round, native: str, keys: Sequence[Key], look: Callable[[], None] | None = None) -> str:
        """Run it with only these functions timed, and keep the run in the study. Why there is none, empty where there is."""
        recording = recordings.recording_path(self.study, round_.id).with_suffix(".sparse")
        timed = recording.with_suffix(".keys")
        watched = Watched()
        if self.moved:
            there = self.moved
            subject, keys = there.subject(subject), [(line, name, there.there(file)) for line, name, file in keys]
        try:
            launch.make_room(recording)
            launch.write_keys(timed, keys)
            execution = launch.start_recorded(subject, recording, native, SPARSE_LIMIT_BYTES, timed=timed, **self._streams(watched))
            ended = self._wait(execution, watched, look)
            try:
                tables, unreadable = tables_of(recording)
            except FileDamagedError as problem:
                return ended.problem or problem.what
            gaps = gaps_of_recording(tables.facts, ended.by_signal, unreadable)
            run = Run(0, SPARSE, ended.started_unix_ns, tables.facts.duration_ns, ended.cpu_ns, ended.exit_status, ended.words, gaps,
                      watched.answer(subject.cwd, subject.answer), replace(this_machine(), python=tables.facts.python),
                      case=round_.case, size=round_.size)  # fmt: skip
            with Study.open(self.study) as study:
                study.add_run(round_.id, run, self.moved.tables_back(tables) if self.moved else tables)
            return ""
        finally:
            recordings.remove(recording)
            timed.unlink(missing_ok=True)

    def lines(self, subject: Subject, round_: Round, native: str, limit_bytes: int, look: Callable[[], None] | None = None) -> str:
        """Run it with the lines of the subject's functions followed, and keep the run. Why there is none, empty where there is."""
        recording = recordings.recording_path(self.study, round_.id).with_suffix(".lines")
        about = recordings.about_round(self.study, round_, subject, self.moved.ends if self.moved else None)
        subject = self.moved.subject(subject) if self.moved else subject
        watched = Watched()
        try:
            launch.make_room(recording)
            recordings.note(recording, about)
            ended = self._wait(launch.start_recorded(subject, recording, native, limit_bytes, **self._streams(watched)), watched, look)
            try:
                take_in(recording, ended_about(about, ended))
            except FileDamagedError as problem:
                return ended.problem or problem.what
            return ""
        finally:
            recordings.remove(recording)

    def _streams(self, watched: Watched) -> dict[str, Any]:
        if hasattr(self.stdin, "seek"):
            self.stdin.seek(0)
        stdin = self.stdin if self.stdin is not None else subprocess.DEVNULL
        return {"stdin": stdin, "stdout": watched.stdout, "stderr": watched.stderr, "own_group": self.own_group}

    def _wait(self, execution: launch.Execution, watched: Watched, look: Callable[[], None] | None) -> launch.Ended:
        self.execution = execution
        watched.started()
        ended = execution.wait(look)
        self.interrupted = self.interrupted or ended.exit_status in BY_INTERRUPT
        return ended
