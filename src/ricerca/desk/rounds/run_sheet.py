"""The sheet for a new round: what to run, what to record, and then how it goes.

One file, though a long one: the fields of the form, what fills them and what is made of them are found side by side.
"""

from __future__ import annotations

import shlex
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.desk.rounds.progress_page import ProgressPage
from ricerca.desk.rounds.recorder_thread import Progress, RecorderThread
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

DEFAULT_PLAIN = 5
ALL_CASES = "all cases"
LINES_FACTOR = 1.5
"""How much longer a run takes whose lines are followed than one that is only recorded, roughly."""
HOW = (
    (
        "Thorough: times, lines and every call",
        "One recorded run, one that follows lines, plain runs, and as many that time only long calls.",
    ),
    ("Quick: every call, once", "One recorded run: where the time goes. How long it takes without the recorder is not measured."),
)


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

    def _make_form(self) -> QWidget:
        page = QWidget()
        self.heading = QLabel()
        self.heading.setFont(theme.font(theme.TITLE_PX, bold=True))
        self.earlier = QComboBox()
        self.earlier.setAccessibleName("Earlier programs")
        self.earlier.activated.connect(self._recall)
        self.program = _line("Program", "A Python or shell script, -m and a module, or a command")
        self.arguments = _line("Arguments", "As you would type them; quotes are understood")
        self.cwd = _line("Folder", "Where the program runs")
        self.python = QComboBox()
        self.python.setEditable(True)
        self.python.setAccessibleName("Interpreter")
        self.python.setToolTip("Environments near the program come first, then the Pythons of this machine. Any other path may be typed.")
        self.env = _line("Environment", "NAME=value, several with blanks between")
        self.input = _line("Input file", "what it reads from its standard input; empty: nothing")
        self.case = QComboBox()
        self.case.setEditable(True)
        self.case.setAccessibleName("Case")
        self.case.setToolTip(tip("What is measured has a name within the study. Type another name for another case, such as: start-up."))
        self.case.activated.connect(self._choose_case)
        self.often = QDoubleSpinBox()
        self.often.setRange(0, 1_000_000)
        self.often.setDecimals(1)
        self.often.setSpecialValueText("?")
        self.often.setAccessibleName("How often it is run in a day")
        self.often.setToolTip("How often it is run in a day: then Ricerca says what it costs in a week, and when to stop.")
        self.sizes = _line("Sizes", "n=1000,2000,4000,8000: each is put for {n} in the arguments")
        self.name = _line("Name", "A few words, such as: speeds kept")
        self.note = QPlainTextEdit()
        self.note.setObjectName("entry")
        self.note.setAccessibleName("What was changed and why")
        self.note.setPlaceholderText("What was changed, and why it should help")
        self.note.setFixedHeight(52)
        self.note.setTabChangesFocus(True)
        self.plain = QSpinBox()
        self.plain.setRange(0, 99)
        self.plain.setValue(DEFAULT_PLAIN)
        self.plain.setAccessibleName("Plain runs")
        self.how = QComboBox()
        self.how.setAccessibleName("Quick or thorough")
        for words, explained in HOW:
            self.how.addItem(words)
            self.how.setItemData(self.how.count() - 1, explained, Qt.ItemDataRole.ToolTipRole)
        self.how.currentIndexChanged.connect(self._on_how)
        self.lines = _line("Follow lines of", "by itself: the slowest functions of your code")
        self.inside = _line("Only inside", "a function, * allowed; empty: the whole run")
        self.paused = QCheckBox("begin paused: count nothing until “Go on” is pressed")
        self.expected = QLabel()
        self.expected.setObjectName("soft")
        self.expected.setWordWrap(True)
        self.problem = QLabel()
        self.problem.setWordWrap(True)
        self.problem.setTextFormat(Qt.TextFormat.PlainText)
        self.record = QPushButton("Record")
        self.record.setObjectName("main")
        self.record.clicked.connect(self._start)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(self.closed)
        self.cwd.editingFinished.connect(self._offer_interpreters)
        for field in (self.program, self.arguments, self.cwd, self.env, self.input, self.sizes, self.name, self.lines, self.inside):
            field.returnPressed.connect(self._start)
        for field in (self.program, self.cwd):
            field.textChanged.connect(lambda _text: self.problem.setText(""))
        self.plain.valueChanged.connect(lambda _value: self._say_expected())
        browse = QPushButton("Choose…")
        browse.clicked.connect(self._browse)
        program_row = QHBoxLayout()
        program_row.setSpacing(8)
        program_row.addWidget(self.program, 1)
        program_row.addWidget(browse)
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        form.setHorizontalSpacing(16)
        form.setVerticalSpacing(9)
        self._earlier_label = QLabel("Earlier programs")
        case = QHBoxLayout()
        case.setSpacing(8)
        case.addWidget(self.case, 1)
        self._run_words, self._day_words = QLabel("run"), QLabel("times a day")
        case.addWidget(self._run_words)
        case.addWidget(self.often)
        case.addWidget(self._day_words)
        self._form = form
        form.addRow(self._earlier_label, self.earlier)
        form.addRow("Case", case)
        form.addRow("Program", program_row)
        form.addRow("Arguments", self.arguments)
        form.addRow("Folder", self.cwd)
        form.addRow("Interpreter", self.python)
        form.addRow("Environment", self.env)
        form.addRow("Input file", self.input)
        form.addRow("Sizes", self.sizes)
        self._of_one_case = (program_row, self.arguments, self.cwd, self.python, self.env, self.input, self.sizes)
        form.addRow("Name of the round", self.name)
        form.addRow("What changed", self.note)
        runs = QHBoxLayout()
        runs.setSpacing(8)
        runs.addWidget(self.plain)
        runs.addWidget(QLabel("plain runs, without the recorder, and as many that time only long calls"), 1)
        form.addRow("Measure", self.how)
        form.addRow("", runs)
        form.addRow("Follow lines of", self.lines)
        form.addRow("Only inside", self.inside)
        form.addRow("", self.paused)
        buttons = QHBoxLayout()
        buttons.setSpacing(12)
        buttons.addWidget(self.record)
        buttons.addWidget(cancel)
        buttons.addStretch(1)
        inside = QVBoxLayout()
        inside.setContentsMargins(24, 20, 24, 20)
        inside.setSpacing(12)
        inside.addWidget(self.heading)
        inside.addLayout(form)
        inside.addStretch(1)
        holder = QWidget()
        holder.setLayout(inside)
        holder.setMaximumWidth(760)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(holder)
        outer = QVBoxLayout(page)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area, 1)
        below = QVBoxLayout()  # always in sight, however high the window is
        below.setContentsMargins(24, 8, 24, 16)
        below.setSpacing(8)
        below.addWidget(self.problem)
        below.addWidget(self.expected)
        below.addLayout(buttons)
        outer.addLayout(below)
        return page

    def prepare(self, study: Path | None, program: str = "") -> None:
        """Fill the form: for the next round of the open study, or for a program that was dropped."""
        self._study = study
        rounds = self._state.rounds if study is not None and study == self._state.path else ()
        self._subjects = list(dict.fromkeys(round_.subject for round_ in reversed(rounds)))
        self.earlier.clear()
        for subject in self._subjects:
            self.earlier.addItem(" ".join(shlex.quote(part) for part in subject.program))
        for part in (self.earlier, self._earlier_label):
            part.setVisible(len(self._subjects) > 1)
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
        for field in self._of_one_case:
            self._form.setRowVisible(field, not self._all_cases)
        for widget in (self._run_words, self.often, self._day_words):
            widget.setVisible(not self._all_cases)
        for earlier in (self.earlier, self._earlier_label):
            earlier.setVisible(not self._all_cases and len(self._subjects) > 1)
        self._say_expected()
        chosen = next((case for case in self._cases if case.name == self.case.currentText()), None)
        if chosen is not None:
            self._fill_subject(chosen.subject)
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
        self._fill_subject(self._subjects[row])

    def _fill_subject(self, subject: Subject) -> None:
        words = list(subject.program)
        first = 2 if words[0] == "-m" else 1
        self.program.setText(" ".join(words[:first]))
        self.arguments.setText(shlex.join(words[first:]))
        self.cwd.setText(subject.cwd)
        self.python.setCurrentText(subject.python)
        self.lines.setText(" ".join(subject.lines))
        self.env.setText(shlex.join(f"{name}={value}" for name, value in subject.env))
        self.inside.setText(" ".join(subject.inside))
        self.input.setText(subject.input)

    def _browse(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "Program to record", self.cwd.text(), "Python programs (*.py *.pyz);;All files (*)")
        if name:
            self.program.setText(Path(name).name)
            self.cwd.setText(str(Path(name).parent))

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


def _line(name: str, hint: str) -> QLineEdit:
    edit = QLineEdit()
    edit.setAccessibleName(name)
    edit.setPlaceholderText(hint)
    return edit
