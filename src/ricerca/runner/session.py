"""One round from start to end: the recorded run, which is taken into the study, then plain and sparse runs in turn."""

from __future__ import annotations

import os
import subprocess
import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, TYPE_CHECKING

from ricerca.model.cases import WHOLE, Case, Part, Size, size_text, sized
from ricerca.model.completeness import Gap
from ricerca.model.errors import FileDamagedError, InputError, RicercaError
from ricerca.model.languages import PYTHON
from ricerca.model.marks import CONTROL_FINISH, CONTROL_GO, CONTROL_PAUSE
from ricerca.model.rounds import RECORDED, UNDONE, Round, Subject
from ricerca.runner import launch, recordings
from ricerca.runner.native import NATIVE, PUBLIC, hook_setting
from ricerca.runner.quiet import Quiet
from ricerca.runner.restoring import Restorer
from ricerca.runner.revisions import checkout_of
from ricerca.runner.shells import why_nothing
from ricerca.runner.taking import Taken, ended_about, take_in
from ricerca.study.cases import known_case
from ricerca.study.store import Study

if TYPE_CHECKING:
    from ricerca.runner.pairing import Side


@dataclass(frozen=True)
class Plan:
    """What a round is to hold. ``round_name`` adds to the round of that name where there is one, ``round_number`` to the one with it.

    ``subject`` may hold placeholders, for which ``size`` is put; ``prepare`` is a command that makes the input of that size.
    ``at`` is a revision to measure in place of the working copy; ``made_from`` the round whose code was changed.

    Where there are plain runs, as many sparse ones are made in turn with them. With ``paired``, plain runs of the round that
    it will be compared with are made in turn, too, where its code can be brought back.
    """

    subject: Subject
    study: Path
    round_name: str = ""
    note: str = ""
    plain_runs: int = 0
    recorded: bool = True
    limit_bytes: int = launch.DEFAULT_LIMIT_BYTES
    paused: bool = False
    hook: str = NATIVE
    sparse: bool = True
    paired: bool = True
    follow: bool = False
    """Whether the lines of the slowest functions of one's own code are followed in a run of their own."""
    case: str = ""
    size: Size = ()
    prepare: str = ""
    at: str = ""
    round_number: int | None = None
    made_from: int | None = None


@dataclass(frozen=True)
class Streams:
    """Standard streams of the recorded run (None: inherited). What the others write is looked at, and not shown."""

    stdin: IO | int | None = None
    stdout: IO | int | None = None
    stderr: IO | int | None = None
    own_group: bool = False


@dataclass(frozen=True)
class Outcome:
    """What came of a round.

    ``recorded`` is None where only plain runs were made or nothing began; ``kept_at`` is where the recording stays when it
    could not be taken in, ``problem`` says why. ``lost_plain`` plain runs could not be written into the study.
    ``not_sparse``, ``not_paired`` and ``not_followed`` say why there are no sparse runs, pairs or line runs, where some were wanted.
    """

    round_number: int
    recorded: launch.Ended | None
    run_id: int | None
    gaps: tuple[Gap, ...] = ()
    problem: str = ""
    kept_at: Path | None = None
    lost_plain: int = 0
    not_sparse: str = ""
    not_paired: str = ""
    not_followed: str = ""


class Session:
    """Makes one round. ``execution`` is the program that runs now; any thread may signal it."""

    def __init__(self, plan: Plan, streams: Streams | None = None) -> None:
        self._template = plan.subject
        self.plan = replace(plan, subject=sized(plan.subject, plan.size))
        self._revision = ""
        self._part = WHOLE
        self.streams = streams or Streams()
        self.execution: launch.Execution | None = None
        self.recording: Path | None = None
        self.step = ""
        self.paused = plan.paused
        self._cancelled = False
        self._lost_plain = 0
        self._not_sparse = self._not_paired = self._not_followed = ""
        self._quiet = Quiet(plan.study, self.streams.stdin, self.streams.own_group)

    def finish_now(self, number: int = 15) -> None:
        """End what runs; what was recorded so far is kept."""
        self._cancelled = True
        for execution in (self.execution, self._quiet.execution):
            if execution is not None:
                execution.signal(number)

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
        if not self.plan.at:
            return self._run(look)
        checkout = checkout_of(self.plan.subject.cwd, self.plan.at)
        self._revision = checkout.revision
        with checkout as self._quiet.moved:
            return self._run(look)

    def _run(self, look: Callable[[], None] | None) -> Outcome:
        plan = self.plan
        native = hook_setting(plan.subject.python, plan.hook) if plan.recorded else ""
        launch.make_folder(recordings.recordings_folder())
        fresh = not plan.study.exists()
        with Study.open(plan.study, create=True) as study:
            round_ = self._round(study)
            self._part = Part(round_.case, size_text(plan.size))
            round_ = study.of(self._part).round(round_.number)
        outcome = Outcome(round_.number, None, None)
        try:
            self._make_input()
            if plan.recorded:
                self.step = "line run" if plan.subject.lines else "recorded run"
                outcome = self._recorded(round_, native, look)
            if plan.follow and not plan.subject.lines and self.going_on:
                self._follow(round_, native, outcome, look)
            if plan.plain_runs and self.going_on:
                self._quiet_runs(round_, native, outcome, look)
            return replace(outcome, lost_plain=self._lost_plain, not_sparse=self._not_sparse, not_paired=self._not_paired,
                           not_followed=self._not_followed)  # fmt: skip
        finally:
            if outcome.kept_at is None:
                self._tidy(round_.id, fresh)

    @property
    def going_on(self) -> bool:
        """Whether nobody has stopped it."""
        return not self._cancelled and not self._quiet.interrupted

    @property
    def _launched(self) -> Subject:
        """What is started: the subject, or the same in the folder that stands for its own."""
        return self._quiet.moved.subject(self.plan.subject) if self._quiet.moved else self.plan.subject

    def _make_input(self) -> None:
        plan = self.plan
        if not plan.prepare:
            return
        self.step = "making the input"
        command = sized(replace(plan.subject, input=plan.prepare), plan.size).input
        subject = self._launched
        done = subprocess.run(["sh", "-c", command], cwd=subject.cwd, env={**os.environ, **dict(subject.env)}, stdout=subprocess.DEVNULL,
                              stdin=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, errors="replace")  # fmt: skip
        if done.returncode:
            raise InputError(f"The command that makes the input ended with status {done.returncode}: {command}", done.stderr.strip())

    def _quiet_runs(self, round_: Round, native: str, outcome: Outcome, look: Callable[[], None] | None) -> None:
        """Plain and sparse runs; once the program has been recorded, nothing that goes wrong here may hide how it ended."""
        try:
            self._in_turn(round_, native, outcome, look)
        except (RicercaError, OSError) as problem:
            if outcome.recorded is None:
                raise
            self._not_sparse = f"the runs beside it were stopped: {problem}"

    def _in_turn(self, round_: Round, native: str, outcome: Outcome, look: Callable[[], None] | None) -> None:
        """Plain and sparse runs, and plain ones of the round to be compared with, each kind in turn."""
        from ricerca.runner.pairing import Side, Turns

        keys = self._keys(outcome)
        with Restorer() as restorer:
            base = self._base(round_, restorer)
            today = restorer.today() if base and not self._quiet.moved else None
            turns = Turns(self._quiet, Side(round_, today), base)
            for number in range(self.plan.plain_runs):
                of_all = f"{number + 1} of {self.plan.plain_runs}"
                for turn in turns.next_two():
                    if self.going_on:
                        self.step = f"plain run {of_all}{turn.words}"
                        self._lost_plain += not turn.make(look, lambda: self.going_on)
                if keys and self.going_on:
                    self.step = f"sparse run {of_all}"
                    try:
                        self._not_sparse = self._quiet.sparse(self.plan.subject, round_, native, keys, look)
                    except RicercaError as problem:
                        self._not_sparse = problem.what
                    keys = [] if self._not_sparse else keys

    def _follow(self, round_: Round, native: str, outcome: Outcome, look: Callable[[], None] | None) -> None:
        """A line run of the slowest functions of one's own code; what goes wrong here hides nothing of the recorded run."""
        if outcome.run_id is None:
            return
        from ricerca.engine.own_layers import from_toml
        from ricerca.measure.following import lines_to_follow

        try:
            with Study.open(self.plan.study) as study:
                tables = study.tables(outcome.run_id)
                if tables.facts.language != PYTHON:
                    return  # a shell tells its lines by itself
                lines = lines_to_follow(tables, self.plan.subject, from_toml(study.layers_toml()))
            if not lines:
                self._not_followed = "no function of your own code takes one hundredth of the run"
                return
            self.step = "line run"
            subject = replace(self.plan.subject, lines=lines)
            self._not_followed = self._quiet.lines(subject, round_, native, self.plan.limit_bytes, look)
        except (RicercaError, OSError) as problem:
            self._not_followed = str(problem)

    def _keys(self, outcome: Outcome) -> list[tuple[int, str, str]]:
        """The functions that sparse runs are to time, from the recorded run; none where there are to be none."""
        plan = self.plan
        if not plan.sparse or not plan.recorded or plan.subject.lines or outcome.run_id is None:
            return []
        if outcome.gaps:
            self._not_sparse = "the recorded run is not whole"
        elif plan.hook != NATIVE:
            self._not_sparse = "they need the native recorder"
        if self._not_sparse:
            return []
        from ricerca.engine.profile import build_profile
        from ricerca.measure.timing import functions_to_time, timing_keys

        with Study.open(plan.study) as study:
            tables = study.tables(outcome.run_id)
        if tables.facts.language != PYTHON:
            return []
        profile = build_profile(tables)
        return timing_keys(profile, functions_to_time(profile))

    def _base(self, round_: Round, restorer: Restorer) -> Side | None:
        """The round that this one will be compared with, and its code brought back; None where there is none."""
        if not self.plan.paired:
            return None
        try:
            with Study.open(self.plan.study, part=self._part) as study:
                first = next((round_ for round_ in study.rounds() if round_.last_run(RECORDED)), None)
                if first is None or first.number >= round_.number or first.subject.not_alike(round_.subject):
                    return None
                from ricerca.runner.pairing import Side

                return Side(first, restorer.of_round(study, first), again=True)
        except RicercaError as problem:
            self._not_paired = problem.what
            return None

    def _round(self, study: Study) -> Round:
        plan, subject = self.plan, self._template
        case = self._case(study)
        for round_ in study.rounds():
            if round_.number != plan.round_number and not (plan.round_name and round_.name == plan.round_name):
                continue
            of_case = case if case or plan.round_number is None else study.case_for(subject).name
            if of_case and of_case not in round_.cases:
                return study.measure_case(round_.number, of_case, subject)
            measured = [study.of(Part(name)).template(round_.number) for name in ([of_case] if of_case else round_.cases)]
            alike = [name for name, own in zip([of_case] if of_case else round_.cases, measured, strict=True) if not own.not_alike(subject)]
            if not alike:
                raise InputError(
                    f"Round {round_.number} “{round_.name}” is of something else ({measured[0].not_alike(subject)}).",
                    "Give this round another name, run the same thing, or make it another case: --case NAME",
                )
            return study.of(Part(alike[0])).round(round_.number)
        from ricerca.runner.sources import revision

        made_from = plan.made_from
        if made_from is None:
            made_from = next((round_.number for round_ in reversed(study.rounds()) if round_.fate != UNDONE), None)
        return study.add_round(subject, plan.round_name, plan.note, self._revision or revision(subject.cwd), case, made_from)

    def _case(self, study: Study) -> str:
        """The case that was named, made where it is new; empty where none was."""
        plan, subject = self.plan, self._template
        if not plan.case:
            return ""
        known = known_case(study, plan.case, subject)
        if known is None or known.subject != subject:
            study.keep_case(replace(known, subject=subject) if known else Case(plan.case, subject))
        return plan.case

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

    def _recorded(self, round_: Round, native: str, look: Callable[[], None] | None) -> Outcome:
        plan = self.plan
        self.recording = recordings.recording_path(plan.study, round_.id)
        if hasattr(self.streams.stdin, "seek"):
            self.streams.stdin.seek(0)
        moved = self._quiet.moved
        about = recordings.about_round(plan.study, round_, plan.subject, moved.ends if moved else None)
        try:
            launch.make_room(self.recording)
            recordings.note(self.recording, about)
            self.execution = launch.start_recorded(
                self._launched, self.recording, native, plan.limit_bytes, plan.paused, plan.hook == PUBLIC, stdin=self.streams.stdin,
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
            return Outcome(number, ended, None, problem=ended.problem or why_nothing(about.subject) or str(problem))
        except (RicercaError, OSError) as problem:
            why = str(problem)
            try:
                recordings.note(recording, about)
            except OSError as another:
                why = f"{why} ({another.strerror})"
            recordings.say_why(recording, why)
            return Outcome(number, ended, None, (), why, recording)
        return Outcome(taken.round_number, ended, taken.run_id, taken.gaps, ended.problem)


def _warm_up() -> None:
    """While the program runs, load what its recording is read with; on a machine with one processor it would be in the way."""

    def load() -> None:
        import ricerca.recording.merging
        import ricerca.recording.tables
        import ricerca.runner.sources
        import ricerca.study.run_tables  # noqa: F401

    if len(os.sched_getaffinity(0)) > 1:
        threading.Thread(target=load, daemon=True).start()
