"""One round from start to end: plain runs, then the recorded run, which is taken into the study."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from ricerca.model.completeness import KILLED, Gap
from ricerca.model.errors import FileDamagedError, InputError, RicercaError
from ricerca.model.marks import CONTROL_FINISH, CONTROL_GO, CONTROL_PAUSE
from ricerca.model.rounds import PLAIN, Round, Run, Subject
from ricerca.runner import launch, recordings
from ricerca.runner.native import NATIVE, PUBLIC, hook_setting
from ricerca.runner.taking import Taken, ended_about, take_in
from ricerca.study.store import Study


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
    """What came of a round.

    ``recorded`` is None where only plain runs were made or nothing began; ``kept_at`` is where the recording stays when it
    could not be taken in, ``problem`` says why. ``lost_plain`` plain runs could not be written into the study.
    """

    round_number: int
    recorded: launch.Ended | None
    run_id: int | None
    gaps: tuple[Gap, ...] = ()
    problem: str = ""
    kept_at: Path | None = None
    lost_plain: int = 0


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
        self._lost_plain = 0

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
            for file in (self.recording, *recordings.parts(self.recording)):
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
        launch.make_folder(recordings.recordings_folder())
        fresh = not plan.study.exists()
        with Study.open(plan.study, create=True) as study:
            round_ = self._round(study)
        kept = None
        try:
            for number in range(plan.plain_runs):
                if not self._cancelled:
                    self.step = f"plain run {number + 1} of {plan.plain_runs}"
                    self._plain(round_.id, look)
            if not plan.recorded or self._cancelled:
                return Outcome(round_.number, None, None, lost_plain=self._lost_plain)
            self.step = "line run" if plan.subject.lines else "recorded run"
            outcome = self._recorded(round_, native, look)
            kept = outcome.kept_at
            return outcome
        finally:
            if kept is None:
                self._tidy(round_.id, fresh)

    def _round(self, study: Study) -> Round:
        for round_ in study.rounds():
            if self.plan.round_name and round_.name == self.plan.round_name:
                differs = round_.subject.not_alike(self.plan.subject)
                if differs:
                    raise InputError(
                        f"Round {round_.number} “{round_.name}” is of something else ({differs}).",
                        "Give this round another name, or run the same thing.",
                    )
                return round_
        from ricerca.runner.sources import revision

        return study.add_round(self.plan.subject, self.plan.round_name, self.plan.note, revision(self.plan.subject.cwd))

    def _tidy(self, round_id: int, fresh: bool) -> None:
        """Leave no empty round, and no empty study that was not there before."""
        try:
            with Study.open(self.plan.study) as study:
                study.drop_round_if_empty(round_id)
                empty = not study.rounds()
        except RicercaError:
            return  # the program has run: its exit status matters more than an empty round
        if fresh and empty:
            self.plan.study.unlink(missing_ok=True)

    def _plain(self, round_id: int, look: Callable[[], None] | None) -> None:
        stamp = recordings.recording_path(self.plan.study, round_id).with_suffix(".stamp")
        launch.make_folder(stamp.parent)
        if hasattr(self.streams.stdin, "seek"):
            self.streams.stdin.seek(0)
        self.execution = launch.start_plain(
            self.plan.subject, stamp, stdin=self.streams.stdin, stdout=self.streams.plain_stdout,
            stderr=self.streams.plain_stderr, own_group=self.streams.own_group,
        )  # fmt: skip
        ended = self.execution.wait(look)
        gaps = (Gap(KILLED, what=ended.by_signal),) if ended.by_signal else ()
        run = Run(0, PLAIN, ended.started_unix_ns, ended.wall_ns, ended.cpu_ns, ended.exit_status, ended.words, gaps)
        try:
            with Study.open(self.plan.study) as study:
                study.add_run(round_id, run)
        except RicercaError:
            self._lost_plain += 1

    def _recorded(self, round_: Round, native: str, look: Callable[[], None] | None) -> Outcome:
        plan = self.plan
        self.recording = recordings.recording_path(plan.study, round_.id)
        if hasattr(self.streams.stdin, "seek"):
            self.streams.stdin.seek(0)
        about = recordings.about_round(plan.study, round_, plan.subject)
        try:
            launch.make_room(self.recording)
            recordings.note(self.recording, about)
            self.execution = launch.start_recorded(
                plan.subject, self.recording, native, plan.limit_bytes, plan.paused, plan.hook == PUBLIC, stdin=self.streams.stdin,
                stdout=self.streams.stdout, stderr=self.streams.stderr, own_group=self.streams.own_group,
            )  # fmt: skip
            _warm_up()
            ended = self.execution.wait(look)
        except BaseException:
            recordings.remove(self.recording)
            raise
        self.step = "reading the recording"
        return self._taken(round_.number, self.recording, ended_about(about, ended), ended)

    def _taken(self, number: int, recording: Path, about: recordings.About, ended: launch.Ended) -> Outcome:
        try:
            taken: Taken = take_in(recording, about)
        except FileDamagedError as problem:
            recordings.remove(recording)
            return Outcome(number, ended, None, problem=ended.problem or str(problem), lost_plain=self._lost_plain)
        except (RicercaError, OSError) as problem:
            why = str(problem)
            try:
                recordings.note(recording, about)
            except OSError as another:
                why = f"{why} ({another.strerror})"
            recordings.say_why(recording, why)
            return Outcome(number, ended, None, (), why, recording, self._lost_plain)
        return Outcome(taken.round_number, ended, taken.run_id, taken.gaps, ended.problem, None, self._lost_plain)


def _warm_up() -> None:
    """While the program runs, load what its recording is read with; on a machine with one processor it would be in the way."""

    def load() -> None:
        import ricerca.recording.merging
        import ricerca.recording.tables
        import ricerca.runner.sources
        import ricerca.study.run_tables  # noqa: F401

    if len(os.sched_getaffinity(0)) > 1:
        threading.Thread(target=load, daemon=True).start()
