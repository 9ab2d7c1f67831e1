"""The form of a new round: its fields and where they stand. What fills them and what is made of them is the run sheet's."""

from __future__ import annotations

import shlex
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
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
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.model.rounds import Subject

DEFAULT_PLAIN = 5
WIDEST_PX = 760
HOW = (
    (
        "Thorough: times, lines and every call",
        "One recorded run, one that follows lines, plain runs, and as many that time only long calls.",
    ),
    ("Quick: every call, once", "One recorded run: where the time goes. How long it takes without the recorder is not measured."),
)


class SheetForm(QWidget):
    """What to run, how the round is named, and what is measured; the buttons below are always in sight."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.heading = QLabel()
        self.heading.setFont(theme.font(theme.TITLE_PX, bold=True))
        self.rows = QFormLayout()
        self.rows.setLabelAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.rows.setHorizontalSpacing(16)
        self.rows.setVerticalSpacing(9)
        self._add_case()
        self._add_work()
        self._add_names()
        self._add_measure()
        self._lay_out(self._make_foot())
        for field in self.lines_of_text():
            field.returnPressed.connect(self.record.click)
        for field in (self.program, self.cwd):
            field.textChanged.connect(lambda _text: self.problem.setText(""))

    def lines_of_text(self) -> tuple[QLineEdit, ...]:
        """The fields in which Enter starts the round."""
        return (self.program, self.arguments, self.cwd, self.env, self.input, self.sizes, self.name, self.lines, self.inside)

    def _add_case(self) -> None:
        self.earlier, self._earlier_label = _choice("Earlier programs"), QLabel("Earlier programs")
        self.case = _choice("Case", "What is measured has a name within the study. Type another name for another case, such as: start-up.")
        self.case.setEditable(True)
        self.often = QDoubleSpinBox()
        self.often.setRange(0, 1_000_000)
        self.often.setDecimals(1)
        self.often.setSpecialValueText("?")
        self.often.setAccessibleName("How often it is run in a day")
        self.often.setToolTip("How often it is run in a day: then Ricerca says what it costs in a week, and when to stop.")
        self._often_words = QLabel("run"), QLabel("times a day")
        self.rows.addRow(self._earlier_label, self.earlier)
        self.rows.addRow("Case", _beside(self.case, self._often_words[0], self.often, self._often_words[1]))

    def _add_work(self) -> None:
        self.program = _line("Program", "A Python or shell script, -m and a module, or a command")
        self.arguments = _line("Arguments", "As you would type them; quotes are understood")
        self.cwd = _line("Folder", "Where the program runs")
        self.python = _choice(
            "Interpreter", "Environments near the program come first, then the Pythons of this machine. Any other path may be typed."
        )
        self.python.setEditable(True)
        self.env = _line("Environment", "NAME=value, several with blanks between")
        self.input = _line("Input file", "What it reads from its standard input; empty: nothing")
        self.sizes = _line("Sizes", "n=1000,2000,4000,8000: each is put for {n} in the arguments")
        program = _beside(self.program, _button("Choose…", "Choose the program", self._choose_program))
        input_ = _beside(self.input, _button("Choose…", "Choose the input file", self._choose_input))
        self._of_one_case = (program, self.arguments, self.cwd, self.python, self.env, input_, self.sizes)
        self.rows.addRow("Program", program)
        self.rows.addRow("Arguments", self.arguments)
        self.rows.addRow("Folder", self.cwd)
        self.rows.addRow("Interpreter", self.python)
        self.rows.addRow("Environment", self.env)
        self.rows.addRow("Input file", input_)
        self.rows.addRow("Sizes", self.sizes)

    def _add_names(self) -> None:
        self.name = _line("Name", "A few words, such as: speeds kept")
        self.note = QPlainTextEdit()
        self.note.setObjectName("entry")
        self.note.setAccessibleName("What was changed and why")
        self.note.setPlaceholderText("What was changed, and why it should help")
        self.note.setFixedHeight(52)
        self.note.setTabChangesFocus(True)
        self.rows.addRow("Name of the round", self.name)
        self.rows.addRow("What changed", self.note)

    def _add_measure(self) -> None:
        self.how = _choice("Quick or thorough")
        for words, explained in HOW:
            self.how.addItem(words)
            self.how.setItemData(self.how.count() - 1, explained, Qt.ItemDataRole.ToolTipRole)
        self.plain = QSpinBox()
        self.plain.setRange(0, 99)
        self.plain.setValue(DEFAULT_PLAIN)
        self.plain.setAccessibleName("Plain runs")
        self.lines = _line("Follow lines of", "by itself: the slowest functions of your code")
        self.inside = _line("Only inside", "a function, * allowed; empty: the whole run")
        self.paused = QCheckBox("begin paused: count nothing until “Go on” is pressed")
        runs = QHBoxLayout()
        runs.setSpacing(8)
        runs.addWidget(self.plain)
        runs.addWidget(QLabel("plain runs, without the recorder, and as many that time only long calls"), 1)
        self.rows.addRow("Measure", self.how)
        self.rows.addRow("", runs)
        self.rows.addRow("Follow lines of", self.lines)
        self.rows.addRow("Only inside", self.inside)
        self.rows.addRow("", self.paused)

    def _make_foot(self) -> QVBoxLayout:
        self.expected = QLabel()
        self.expected.setObjectName("soft")
        self.expected.setWordWrap(True)
        self.problem = QLabel()
        self.problem.setWordWrap(True)
        self.problem.setTextFormat(Qt.TextFormat.PlainText)
        self.record = QPushButton("Record")
        self.record.setObjectName("main")
        self.cancel = QPushButton("Cancel")
        buttons = QHBoxLayout()
        buttons.setSpacing(12)
        buttons.addWidget(self.record)
        buttons.addWidget(self.cancel)
        buttons.addStretch(1)
        foot = QVBoxLayout()
        foot.setContentsMargins(24, 8, 24, 16)
        foot.setSpacing(8)
        foot.addWidget(self.problem)
        foot.addWidget(self.expected)
        foot.addLayout(buttons)
        return foot

    def _lay_out(self, foot: QVBoxLayout) -> None:
        inside = QVBoxLayout()
        inside.setContentsMargins(24, 20, 24, 20)
        inside.setSpacing(12)
        inside.addWidget(self.heading)
        inside.addLayout(self.rows)
        inside.addStretch(1)
        holder = QWidget()
        holder.setLayout(inside)
        holder.setMaximumWidth(WIDEST_PX)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(holder)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area, 1)
        outer.addLayout(foot)

    def show_work(self, of_one_case: bool, several_programs: bool) -> None:
        """Show what belongs to one case, or hide it where all cases are measured."""
        for field in self._of_one_case:
            self.rows.setRowVisible(field, of_one_case)
        for widget in (*self._often_words, self.often):
            widget.setVisible(of_one_case)
        self._earlier_label.setVisible(of_one_case and several_programs)
        self.earlier.setVisible(of_one_case and several_programs)

    def fill_subject(self, subject: Subject) -> None:
        """Put a program into the fields."""
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

    def _choose_program(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "Program to record", self.cwd.text(), "Python programs (*.py *.pyz);;All files (*)")
        if name:
            self.program.setText(Path(name).name)
            self.cwd.setText(str(Path(name).parent))

    def _choose_input(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "Input file", self.cwd.text())
        if name:
            self.input.setText(name)


def _line(name: str, hint: str) -> QLineEdit:
    edit = QLineEdit()
    edit.setAccessibleName(name)
    edit.setPlaceholderText(hint)
    return edit


def _choice(name: str, explained: str = "") -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(name)
    if explained:
        box.setToolTip(tip(explained))
    return box


def _button(words: str, name: str, pressed: Callable[[], None]) -> QPushButton:
    button = QPushButton(words)
    button.setAccessibleName(name)
    button.clicked.connect(pressed)
    return button


def _beside(*widgets: QWidget) -> QHBoxLayout:
    """Widgets in a row, of which the first takes what room there is."""
    row = QHBoxLayout()
    row.setSpacing(8)
    for number, widget in enumerate(widgets):
        row.addWidget(widget, 1 if number == 0 else 0)
    return row
