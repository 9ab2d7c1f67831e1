"""The page that times ways to write the same thing against each other, and keeps what came of it in the study."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.spread import SpreadRow
from ricerca.desk.state import DeskState
from ricerca.model.errors import InputError, RicercaError
from ricerca.model.languages import PYTHON
from ricerca.model.rounds import Subject
from ricerca.report.snippets import answer_text, beside_median, pair_sentence, short_pair, snippet_facts
from ricerca.report.wording import plural
from ricerca.runner.snippets import SECONDS, SnippetRequest, SnippetTiming, calls_of_a_loop, keep, kept, snippet_that_calls
from ricerca.study.store import Study

HINTS = "A way to write it", "Another way"
LEAST_FIELDS, MOST_FIELDS = 2, 6
MOST_LINES = 6
FIELD_PX = 22
"""Of a field's height, what is not lines."""
SCALE = 1.12
"""How much longer than the slowest middle half the scale of times is."""


def _field(name: str, hint: str) -> QPlainTextEdit:
    """A field for code, as high as its lines."""
    field = QPlainTextEdit()
    field.setObjectName("entry")
    field.setAccessibleName(name)
    field.setPlaceholderText(hint)
    field.setFont(theme.font(theme.CODE_PX, mono=True))
    field.setTabChangesFocus(True)
    field.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)

    def fit() -> None:
        lines = min(max(field.document().blockCount(), 1), MOST_LINES)
        field.setFixedHeight(lines * theme.metrics(theme.CODE_PX, mono=True).lineSpacing() + FIELD_PX)

    field.document().blockCountChanged.connect(lambda _count: fit())
    fit()
    return field


class SnippetsPage(QWidget):
    """A form above, what came of it below; earlier ones can be shown again."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._timing: SnippetTiming | None = None
        self._kept: list[dict[str, Any]] = []
        self.facts: dict[str, Any] | None = None
        self.setup = _field("Set-up", "What is done before the clock starts: imports, data. It may be empty.")
        self.fields: list[QPlainTextEdit] = []
        self._form = QFormLayout()
        self._form.setContentsMargins(16, 4, 16, 0)
        self._form.setHorizontalSpacing(12)
        self._form.setVerticalSpacing(6)
        self._form.setLabelAlignment(Qt.AlignmentFlag.AlignRight)
        self._form.addRow("Set-up", self.setup)
        for _ in range(LEAST_FIELDS):
            self._add_field()
        self.results = QVBoxLayout()
        self.results.setContentsMargins(16, 8, 16, 8)
        self.results.setSpacing(2)
        self.results.addStretch(1)
        holder = QWidget()
        holder.setLayout(self.results)
        self.scroller = QScrollArea()
        self.scroller.setWidget(holder)
        self.scroller.setWidgetResizable(True)
        self.scroller.setFrameShape(QScrollArea.Shape.NoFrame)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(self._make_head())
        layout.addLayout(self._form)
        layout.addLayout(self._make_choices())
        layout.addWidget(self.scroller, 1)
        state.study_opened.connect(self._begin_anew)

    # ---- building

    def _make_head(self) -> QHBoxLayout:
        words = QLabel("Time ways to write the same thing against each other. Blocks of loops are run in turn.")
        words.setObjectName("soft")
        words.setWordWrap(True)
        self.from_selected = QPushButton("From selected")
        self.from_selected.setObjectName("quiet")
        self.from_selected.setToolTip(tip("Begin with the selected line, or with a call of the selected function; type its arguments."))
        self.from_selected.clicked.connect(self.begin_with_selected)
        self.earlier = QComboBox()
        self.earlier.setAccessibleName("Earlier snippets")
        self.earlier.setMaximumWidth(220)
        self.earlier.activated.connect(self._recall)
        self.earlier.hide()
        head = QHBoxLayout()
        head.setContentsMargins(16, 10, 16, 4)
        head.addWidget(words, 1)
        head.addWidget(self.from_selected)
        head.addWidget(self.earlier)
        return head

    def _make_choices(self) -> QHBoxLayout:
        self.add_button = QPushButton("Add another")
        self.add_button.setObjectName("quiet")
        self.add_button.setToolTip(f"Up to {MOST_FIELDS} ways are timed in turn.")
        self.add_button.clicked.connect(lambda: self._add_field().setFocus())
        self.pythons = QLineEdit()
        self.pythons.setAccessibleName("Interpreters")
        self.pythons.setPlaceholderText("interpreter of the case")
        self.pythons.setToolTip(tip("Interpreters to time them in, several with blanks between. Empty: the interpreter of this case."))
        self.seconds = QDoubleSpinBox()
        self.seconds.setRange(0.5, 600)
        self.seconds.setValue(SECONDS)
        self.seconds.setDecimals(1)
        self.seconds.setSuffix(" s")
        self.seconds.setMaximumWidth(92)
        self.seconds.setAccessibleName("How long to measure")
        self.calls = QCheckBox("count calls")
        self.calls.setToolTip(tip("Record each snippet, too, and say how many calls one loop makes."))
        self.collect = QCheckBox("collector on")
        self.collect.setToolTip(tip("Leave the garbage collector on. Without it, times vary less."))
        self.start_button = QPushButton("Time them")
        self.start_button.setObjectName("main")
        self.start_button.setToolTip("Ctrl+Enter in a field does the same.")
        self.start_button.setShortcut("Ctrl+Return")
        self.start_button.clicked.connect(self._start_or_stop)
        row = QHBoxLayout()
        row.setContentsMargins(16, 0, 16, 4)
        row.setSpacing(12)
        row.addWidget(self.add_button)
        row.addWidget(self.pythons, 1)
        row.addWidget(self.seconds)
        row.addWidget(self.collect)
        row.addWidget(self.calls)
        row.addWidget(self.start_button)
        return row

    def _add_field(self) -> QPlainTextEdit:
        number = len(self.fields)
        field = _field(f"Snippet {number + 1}", HINTS[min(number, 1)])
        self.fields.append(field)
        self._form.addRow(str(number + 1), field)
        if hasattr(self, "add_button"):
            self.add_button.setEnabled(len(self.fields) < MOST_FIELDS)
        return field

    # ---- filling

    @property
    def _subject(self) -> Subject | None:
        view = self._state.view
        return view.loaded.round.subject if view is not None else None

    def begin_with_selected(self) -> None:
        """Fill the form with the selected line, or with a call of the selected function."""
        view, place, subject = self._state.view, self._state.selected_place(), self._subject
        if view is None or place is None or subject is None:
            self._state.failed.emit("Select a function or a line first.")
            return
        loaded, line = view.loaded, self._state.selected_line
        language = loaded.profile.functions.language_of(self._state.selected)
        if language != PYTHON:
            self._state.failed.emit(f"A snippet is Python code; {place[1]} is {language}.")
            return
        lines = loaded.sources.get(place[2], "").splitlines()
        own = loaded.profile.functions.layer[self._state.selected] == "mine"
        try:
            setup, text = snippet_that_calls(*place, subject.cwd, own)
        except InputError as problem:
            if not 0 < line <= len(lines):
                self._state.failed.emit(str(problem))
                return
            setup, text = "", ""
        if 0 < line <= len(lines):
            text = lines[line - 1].strip().removeprefix("return ")
        self.setup.setPlainText(setup)
        for field in self.fields:
            field.clear()
        self.fields[0].setPlainText(text)
        self.fields[0].setFocus()
        if text.endswith("()"):
            cursor = self.fields[0].textCursor()
            cursor.setPosition(len(text) - 1)
            self.fields[0].setTextCursor(cursor)

    def _begin_anew(self) -> None:
        """Another study is open: nothing of the one before stays."""
        self.stop()
        self.facts = None
        for field in (self.setup, *self.fields):
            field.clear()
        self._clear()
        self._fetch()

    def _fetch(self) -> None:
        path = self._state.path
        if path is None:
            return

        def fetch() -> list[dict[str, Any]]:
            with Study.open(path) as study:
                return list(kept(study))

        self._state.workers.request("kept snippets", fetch, self._offer)

    def _offer(self, known: list[dict[str, Any]]) -> None:
        """Show what is kept; the latest is shown where nothing else is."""
        self._kept = known[::-1]
        self.earlier.clear()
        self.earlier.addItem("Earlier…")
        self.earlier.addItems([" ".join(facts["snippets"][0]["text"].split())[:60] for facts in self._kept])
        self.earlier.setVisible(bool(known))
        if known and self.facts is None and not any(field.toPlainText() for field in self.fields):
            self._recall(1)

    def _recall(self, at: int) -> None:
        if at < 1:
            return
        facts = self._kept[at - 1]
        texts = [row["text"] for row in facts["snippets"] if row["python"] == facts["snippets"][0]["python"]]
        self.setup.setPlainText(facts["setup"])
        while len(self.fields) < min(len(texts), MOST_FIELDS):
            self._add_field()
        for number, field in enumerate(self.fields):
            field.setPlainText(texts[number] if number < len(texts) else "")
        self.collect.setChecked(bool(facts.get("collect")))
        self.show_facts(facts)
        self.earlier.setCurrentIndex(0)

    # ---- timing

    def _start_or_stop(self) -> None:
        if self._timing is not None:
            self.stop()
        else:
            self.start()

    def stop(self) -> None:
        """Stop timing; nothing is kept of it."""
        if self._timing is not None:
            self._timing.stop()
            self._state.workers.forget("snippets")
            self._ended()
            self._say(["Stopped; nothing was kept."])

    def _ended(self) -> None:
        self._timing = None
        self.start_button.setText("Time them")

    def start(self) -> None:
        """Time what the form says, away from the interface."""
        texts = tuple(text for field in self.fields if (text := field.toPlainText().strip("\n")).strip())
        if not texts or self._timing is not None:
            self._state.failed.emit("Type a snippet to time.")
            return
        subject, path = self._subject, self._state.path
        python = subject.python if subject is not None and Path(subject.python).exists() else ""
        pythons = tuple(self.pythons.text().split()) or (python,)
        cwd = subject.cwd if subject is not None and Path(subject.cwd).is_dir() else str(Path.home())
        request = SnippetRequest(texts, self.setup.toPlainText(), pythons, self.seconds.value(), self.collect.isChecked(), cwd)
        timing, counting = SnippetTiming(request), self.calls.isChecked()

        def make() -> dict[str, Any] | RicercaError:
            try:
                found = timing.run()
                counts = [calls_of_a_loop(request, text, pythons[0]) for text in texts] if counting else []
            except RicercaError as problem:
                return problem
            facts = snippet_facts(request, found, counts)
            if path is not None:
                keep(path, facts)
            return facts

        self._timing = timing
        self.start_button.setText("Stop")
        self._say([f"Timing {plural(len(texts), 'snippet')} for about {request.seconds * len(pythons):g} s …"])
        self._state.workers.request("snippets", make, partial(self._done, timing))

    def _done(self, timing: SnippetTiming, facts: dict[str, Any] | RicercaError) -> None:
        if self._timing is not timing:
            return
        self._ended()
        if isinstance(facts, RicercaError):
            self._clear()
            self._state.failed.emit(str(facts))
        else:
            self.show_facts(facts)
            self._fetch()

    # ---- showing

    def _clear(self) -> None:
        while self.results.count() > 1:
            item = self.results.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()

    def _say(self, texts: list[str]) -> None:
        self._clear()
        for text in texts:
            self._add_words(text)

    def _add_words(self, text: str, heading: bool = False) -> None:
        label = QLabel(text)
        label.setObjectName("heading" if heading else "soft")
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.results.insertWidget(self.results.count() - 1, label)

    def show_facts(self, facts: dict[str, Any]) -> None:
        """Show what came of timing: a row for each snippet and interpreter, all on one scale, then the verdicts."""
        self.facts = facts
        rows = facts["snippets"]
        self._clear()
        longest_ns = max(row["spread_ns"][3] for row in rows) * SCALE
        first = 0
        for place, row in enumerate(rows):
            if place == 0 or row["python"] != rows[place - 1]["python"]:
                first = place
                blocks = plural(row["blocks"], "block")
                self._add_words(f"Python {row['python']}, {blocks} of each in turn; time of one loop", heading=True)
            pair = next((pair for pair in facts["pairs"] if pair["first"] == first and pair["second"] == place), None)
            verdict = short_pair(pair) if pair is not None else ""
            spread = SpreadRow(row, longest_ns, beside_median(row), verdict, pair["verdict"] if pair is not None else "")
            self.results.insertWidget(self.results.count() - 1, spread)
        others = [pair for pair in facts["pairs"] if rows[pair["first"]]["number"] > 1]
        for text in [answer_text(facts), *(pair_sentence(facts, pair) for pair in others)]:
            if text:
                self._add_words(text)
