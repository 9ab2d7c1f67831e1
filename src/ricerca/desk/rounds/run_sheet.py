"""The sheet for a new round: what fills its form and what is made of it, and then how it goes."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QStackedLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.rounds.progress_page import ProgressPage
from ricerca.desk.rounds.recorder_thread import Progress, RecorderThread
from ricerca.desk.rounds.sheet_form import DEFAULT_PLAIN, SheetForm
from ricerca.desk.state import DeskState
from ricerca.measure.estimates import median_ns
from ricerca.model.cases import Case, refuse_unused, sizes_of
from ricerca.model.errors import RicercaError
from ricerca.model.rounds import RECORDED, Subject
from ricerca.report.wording import count_text, plural, time_text
from ricerca.runner.interpreters import offered
from ricerca.runner.program import describe, variables_of
from ricerca.runner.series import plans_of
from ricerca.runner.session import Outcome, Plan
from ricerca.study.cases import known_case
from ricerca.study.store import Study

ALL_CASES = "all cases"
LINES_FACTOR = 1.5
"""How much longer a run takes whose lines are followed than one that is only recorded, roughly."""


class RunSheet(QWidget):
    """Form and progress. Emits the number of the round that was made."""

    made = pyqtSignal(object, int)
    closed = pyqtSignal()

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._study: Path | None = None
        self._thread: RecorderThread | None = None
        self._subjects: list[Subject] = []
        self._cases: tuple[Case, ...] = ()
        self._asked_to_end = False
        self._paused = self._ended = False
        self._stack = QStackedLayout(self)
        self._stack.addWidget(self._make_form())
        self._stack.addWidget(self._make_progress())

    # ---- the form

    def _make_form(self) -> SheetForm:
        form = self._form = SheetForm()
        self.heading, self.earlier, self.case, self.often = form.heading, form.earlier, form.case, form.often
        self.program, self.arguments, self.cwd, self.python = form.program, form.arguments, form.cwd, form.python
        self.env, self.input, self.sizes, self.name, self.note = form.env, form.input, form.sizes, form.name, form.note
        self.how, self.plain, self.lines, self.inside, self.paused = form.how, form.plain, form.lines, form.inside, form.paused
        self.expected, self.problem, self.record = form.expected, form.problem, form.record
        form.earlier.activated.connect(self._recall)
        form.case.activated.connect(self._choose_case)
        form.cwd.editingFinished.connect(self._offer_interpreters)
        form.how.currentIndexChanged.connect(self._on_how)
        form.plain.valueChanged.connect(lambda _value: self._say_expected())
        form.record.clicked.connect(self._start)
        form.cancel.clicked.connect(self.closed)
        return form

    def prepare(self, study: Path | None, program: str = "") -> None:
        """Fill the form: for the next round of the open study, or for a program that was dropped."""
        self._study = study
        rounds = self._state.rounds if study is not None and study == self._state.path else ()
        self._subjects = list(dict.fromkeys(round_.subject for round_ in reversed(rounds)))
        self.earlier.clear()
        for subject in self._subjects:
            self.earlier.addItem(" ".join(shlex.quote(part) for part in subject.program))
        self.heading.setText(f"Round {rounds[-1].number + 1}" if rounds else "A new study")
        self.name.setText("")
        self.name.setPlaceholderText("baseline" if not rounds else "A few words, such as: speeds kept")
        self.note.setPlainText("")
        self.problem.setText("")
        if self._subjects:
            self._recall(0)
            last = next((round_ for round_ in reversed(rounds) if round_.plain_ns), None)
            self.plain.setValue(len(last.plain_ns) if last else DEFAULT_PLAIN)
        else:
            path = Path(program) if program else None
            self.program.setText(path.name if path else "")
            self.arguments.setText("")
            self.cwd.setText(str(path.parent if path else Path.cwd()))
        self.paused.setChecked(False)
        self._offer_cases(study)
        self._offer_interpreters()
        self._say_expected()
        self._stack.setCurrentIndex(0)
        (self.name if self._subjects else self.program).setFocus()

    def _offer_cases(self, study: Path | None) -> None:
        """The cases of the study, all of them at once first; looked up away from the interface."""
        self._cases = ()
        self.case.clear()
        self.often.setValue(0)
        self.sizes.setText("")
        self._choose_case()
        if study is None or not study.exists():
            return

        def read() -> tuple[Case, ...]:
            with Study.open(study) as opened:
                return opened.cases()

        def then(cases: tuple[Case, ...]) -> None:
            self._cases = cases
            self.case.addItems([*([ALL_CASES] if len(cases) > 1 else []), *(case.name for case in cases)])
            self._choose_case()

        self._state.workers.request("cases", read, then)

    @property
    def _all_cases(self) -> bool:
        return self.case.currentText() == ALL_CASES and len(self._cases) > 1

    def _choose_case(self, _row: int = 0) -> None:
        """Fill the form with a case; where all are measured, there is nothing to fill."""
        self._form.show_work(not self._all_cases, len(self._subjects) > 1)
        self._say_expected()
        chosen = next((case for case in self._cases if case.name == self.case.currentText()), None)
        if chosen is not None:
            self._form.fill_subject(chosen.subject)
            self.sizes.setText(" ".join(f"{name}={','.join(values)}" for name, values in chosen.sizes))
            self.often.setValue(chosen.runs_per_day or 0)

    def _offer_interpreters(self) -> None:
        """Environments near the program, looked for away from the interface."""
        folder, chosen = self.cwd.text().strip() or ".", self.python.currentText()
        fresh = not self._subjects

        def then(found: list[tuple[str, str]]) -> None:
            typed = self.python.currentText()
            self.python.clear()
            for path, where in found:
                self.python.addItem(path)
                self.python.setItemData(self.python.count() - 1, f"{path}: {where}", Qt.ItemDataRole.ToolTipRole)
            self.python.setCurrentText(typed if typed and (typed != chosen or not fresh) else found[0][0] if found else sys.executable)

        self._state.workers.request("interpreters", lambda: offered(folder), then)

    def _recall(self, row: int) -> None:
        self._form.fill_subject(self._subjects[row])

    def _say_expected(self) -> None:
        if self._all_cases:
            names = [case.name + (f" at {plural(len(case.all_sizes), 'size')}" if case.sizes else "") for case in self._cases]
            self.expected.setText(f"Measures {', '.join(names)}, one after the other. {self._repeats()}")
            return
        measured = [round_ for round_ in self._state.rounds if round_.plain_ns] if self._study == self._state.path else []
        if not measured:
            self.expected.setText(f"A recorded run takes about two to five times as long as a plain one. {self._repeats()}")
            return
        latest = measured[-1]
        plain_ns = sorted(latest.plain_ns)[len(latest.plain_ns) // 2]
        run = latest.last_run(RECORDED)
        recorded_ns = run.wall_ns if run else plain_ns * 4
        parts = [(recorded_ns, "recorded")]
        if self.thorough:
            again_ns = median_ns(self._state.rounds[0].plain_ns) or 0
            parts += [
                (int(recorded_ns * LINES_FACTOR), "lines"),
                ((2 * plain_ns + again_ns) * self.plain.value(), "plain and sparse, the first round again"),
            ]
        told = ", ".join(f"{time_text(ns)} {kind}" for ns, kind in parts if ns)
        whole = time_text(sum(ns for ns, _kind in parts))
        self.expected.setText(f"If it runs as in round {latest.number}: about {whole} ({told}). {self._repeats()}")

    def _repeats(self) -> str:
        """How often the program is run, and when that matters."""
        if not self.thorough:
            return "The program is run once."
        later = any(round_.plain_ns for round_ in self._state.rounds) and self._study == self._state.path
        times = 2 + (3 if later else 2) * self.plain.value()
        return f"The program is run {count_text(times)} times: choose Quick if repeating it does harm, or if it asks for input."

    @property
    def thorough(self) -> bool:
        """Whether more than one recorded run is wanted."""
        return self.how.currentIndex() == 0

    def _on_how(self) -> None:
        self.plain.setEnabled(self.thorough)
        self.lines.setEnabled(self.thorough)
        self._say_expected()

    def _start(self) -> None:
        if self._all_cases and self._study is not None:
            plan = self._plan(self._cases[0].subject, self._study)
            self.start([own for case in self._cases for own in plans_of(case, plan)])
            return
        words = self.program.text().strip()
        try:
            parts = words.split(None, 1) if words.startswith("-m ") else [words] if words else []
            program = [*parts, *shlex.split(self.arguments.text())]
            subject = describe(
                program,
                self.cwd.text().strip() or None,
                self.python.currentText().strip() or None,
                variables_of(shlex.split(self.env.text())),
                self.lines.text().split(),
                self.inside.text().split(),
            )
            sizes = sizes_of(self.sizes.text().split())
            subject = replace(subject, input=self.input.text().strip())
            refuse_unused(subject, sizes)
        except (RicercaError, ValueError) as problem:
            self._say_problem(str(problem))
            return
        study = self._study or Path(subject.cwd, f"{Path(program[1] if program[0] == '-m' else program[0]).stem}.ricerca")
        name = self.case.currentText().strip()
        plan = self._plan(subject, study)
        if not name and not sizes and not self.often.value():
            self.start([plan])
            return
        try:
            wanted = Case(name or subject.title, replace(subject, lines=(), inside=()), self.often.value() or None, sizes)
            case = self._keep_case(study, wanted)
        except RicercaError as problem:
            self._say_problem(str(problem))
            return
        self.start([replace(own, subject=subject) for own in plans_of(case, plan)])

    def _plan(self, subject: Subject, study: Path) -> Plan:
        return Plan(
            subject,
            study,
            self.name.text().strip(),
            self.note.toPlainText().strip(),
            self.plain.value() if self.thorough else 0,
            paused=self.paused.isChecked(),
            follow=self.thorough and not self.lines.text().strip(),
        )

    @staticmethod
    def _keep_case(study_file: Path, case: Case) -> Case:
        """Keep a case as it was filled in, unless its name is taken by other work."""
        with Study.open(study_file, create=True) as study:
            known = known_case(study, case.name, case.subject)
            return study.keep_case(replace(case, prepare=known.prepare if known else ""))

    def _say_problem(self, text: str) -> None:
        self._stack.setCurrentIndex(0)
        self.problem.setText(text)
        self.problem.setStyleSheet(f"color: {theme.now().slower}; font-weight: 600;")

    # ---- progress

    def _make_progress(self) -> ProgressPage:
        page = ProgressPage()
        page.finish.clicked.connect(self._finish)
        page.pause.clicked.connect(self._pause)
        page.enough.clicked.connect(self._end_recording)
        self.step, self.facts, self.leaders, self.output = page.step, page.facts, page.leaders, page.output
        self.finish, self.pause, self.enough = page.finish, page.pause, page.enough
        return page

    def start(self, plans: Sequence[Plan]) -> None:
        """Begin to make a round of one plan, or of several cases and sizes."""
        if self._thread is not None:
            return
        self.output.clear()
        self.output.setFont(theme.font(theme.CODE_PX, mono=True))
        self.leaders.show_glance(None)
        self.step.setText("Starting")
        self.facts.setText("")
        self._asked_to_end = False
        self.finish.setText("Finish now")
        self._paused, self._ended = plans[0].paused, False
        self._show_pause()
        self._stack.setCurrentIndex(1)
        self._thread = RecorderThread(plans, self)
        self._thread.progressed.connect(self._show)
        self._thread.done.connect(self._done)
        self._thread.failed.connect(self._failed)
        self._thread.start()

    @property
    def running(self) -> bool:
        """Whether a round is being made."""
        return self._thread is not None

    def _show(self, progress: Progress) -> None:
        self.step.setText(progress.step[:1].upper() + progress.step[1:])
        facts = f"{progress.elapsed_s:.1f} s elapsed"
        recording = progress.glance is not None
        for button in (self.pause, self.enough):
            button.setEnabled(recording and not self._ended)
        if progress.glance is not None:
            facts += f" · {count_text(progress.glance.calls)} calls so far"
            self.leaders.show_glance(progress.glance)
        facts += (
            " · recording ended, the program is still running" if self._ended else " · PAUSED: nothing is recorded" if self._paused else ""
        )
        self.facts.setText(facts)
        if progress.output:
            self.output.moveCursor(QTextCursor.MoveOperation.End)
            self.output.insertPlainText(progress.output)
            self.output.moveCursor(QTextCursor.MoveOperation.End)

    def _pause(self) -> None:
        if self._thread is not None:
            self._paused = not self._paused
            self._thread.pause(self._paused)
            self._show_pause()

    def _show_pause(self) -> None:
        self.pause.setText("Go on" if self._paused else "Pause")
        self.pause.setToolTip("Record again from now on." if self._paused else "Stop recording for now. The program keeps running.")

    def _end_recording(self) -> None:
        if self._thread is not None:
            self._thread.finish_recording()
            self._ended = True

    def _finish(self) -> None:
        if self._thread is not None:
            self._thread.finish_now(by_force=self._asked_to_end)
            self._asked_to_end = True
            self.finish.setText("Kill it")
            self.finish.setToolTip("The program was asked to end. If it does not, this kills it. What was recorded is kept.")

    def _end_thread(self) -> Plan | None:
        thread, self._thread = self._thread, None
        if thread is None:
            return None
        thread.wait()
        thread.deleteLater()
        return thread.plan

    def _done(self, outcome: Outcome) -> None:
        plan = self._end_thread()
        if plan is None:
            return
        if outcome.run_id is None and outcome.recorded is not None:
            output = self.output.toPlainText().strip().splitlines()
            last = f" Last output: {output[-1]}" if output else ""
            self._say_problem(f"Nothing was recorded: the program ended ({outcome.recorded.words}) before it began.{last}")
            return
        self.made.emit(plan.study, outcome.round_number)

    def _failed(self, text: str) -> None:
        self._end_thread()
        self._say_problem(text)

    def stop(self) -> None:
        """At closing time: end the program and wait until what there is has been kept."""
        if self._thread is not None:
            self._thread.finish_now()
            if not self._thread.wait(3_000):
                self._thread.finish_now(by_force=True)
                self._thread.wait(20_000)
            self._thread = None
