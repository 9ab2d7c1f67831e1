"""The panel about the selected function: a sentence, its callers and callees, its source."""

from __future__ import annotations

import html
from pathlib import Path

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ricerca.desk.details.editor import open_at
from ricerca.desk.details.fan import Fan
from ricerca.desk.details.size_growth import SizeGrowth
from ricerca.desk.details.source_view import SourceView
from ricerca.desk.details.what_if import WhatIf
from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_growth
from ricerca.desk.look.tips import tip
from ricerca.desk.state import DeskState, View
from ricerca.engine.neighbours import neighbours
from ricerca.engine.ranking import ceiling
from ricerca.engine.slices import Growth
from ricerca.model.errors import RicercaError
from ricerca.report.wording import count_text, factor_text, place_text, plural, share_text, time_text

LEAST_UNCERTAIN = 0.01


class GrowthLine(QWidget):
    """Time per call of a function over the run, where it grew."""

    def __init__(self) -> None:
        super().__init__()
        self._grown: Growth | None = None
        self.setFixedHeight(54)
        self.setAccessibleName("Time per call over the run")

    def show_growth(self, grown: Growth | None) -> None:
        """Draw another line; None hides it."""
        self._grown = grown
        self.setVisible(grown is not None)
        if grown is not None:
            said = f"From {time_text(grown.first_ns)} to {time_text(grown.last_ns)} a call. Dashed: the straight line through it."
            self.setToolTip(tip(f"Self time per call, from the start of the run on the left to its end on the right. {said}"))
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        if self._grown is None:
            return
        painter, colours = QPainter(self), theme.now()
        words = theme.metrics(theme.SMALL_PX)
        first, last = time_text(self._grown.first_ns), time_text(self._grown.last_ns)
        left, right = words.horizontalAdvance(first) + 8, words.horizontalAdvance(last) + 8
        room = QRectF(left, 4, self.width() - left - right, self.height() - 22)
        paint_growth(painter, room, self._grown)
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(colours.soft))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 4, left, room.height()), middle | Qt.AlignmentFlag.AlignLeft, first)
        painter.drawText(QRectF(left, room.bottom() + 2, room.width(), 16), Qt.AlignmentFlag.AlignCenter, "self time per call over the run")
        painter.setPen(QColor(colours.slower))
        painter.drawText(QRectF(self.width() - right, 4, right, room.height()), middle | Qt.AlignmentFlag.AlignRight, last)
        painter.end()


class DetailsPanel(QFrame):
    """Follows the selected function."""

    failed = pyqtSignal(str)

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self.title = QLabel()
        self.title.setFont(theme.font(theme.TITLE_PX, bold=True))
        self.title.setTextFormat(Qt.TextFormat.PlainText)
        self.title.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.place = QLabel()
        self.place.setObjectName("soft")
        self.place.setTextFormat(Qt.TextFormat.PlainText)
        self.open_button = QPushButton("Open in editor")
        self.open_button.setObjectName("quiet")
        self.open_button.setToolTip("Open the file at this function in $VISUAL, or the system's editor (Ctrl+E).")
        self.open_button.clicked.connect(lambda _checked: self.open_file())
        self.sentence = QLabel()
        self.sentence.setWordWrap(True)
        self.sentence.setTextFormat(Qt.TextFormat.RichText)
        self.growth = GrowthLine()
        self.by_size = SizeGrowth()
        self.what_if = WhatIf()
        self.what_if.expected.connect(state.note_expectation)
        self.fan = Fan()
        self.fan.chosen.connect(state.select)
        self.source_head = QLabel("source as recorded")
        self.source_head.setObjectName("heading")
        self.difference = QPushButton("Show what was edited")
        self.difference.setObjectName("quiet")
        self.difference.setCheckable(True)
        self.difference.setToolTip("Show the text of the round compared with, too, with the time of its lines.")
        self.difference.toggled.connect(self._show_difference)
        self.source = SourceView(state.workers)
        self.source.line_chosen.connect(self.open_file)
        row = QHBoxLayout()
        row.addWidget(self.place, 1)
        row.addWidget(self.open_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 8, 8)
        layout.setSpacing(6)
        layout.addWidget(self.title)
        layout.addLayout(row)
        layout.addWidget(self.sentence)
        layout.addWidget(self.growth)
        layout.addWidget(self.by_size)
        layout.addWidget(self.what_if)
        layout.addSpacing(6)
        layout.addWidget(self.fan)
        layout.addSpacing(6)
        head = QHBoxLayout()
        head.addWidget(self.source_head, 1)
        head.addWidget(self.difference)
        layout.addLayout(head)
        layout.addWidget(self.source, 1)
        state.editor_asked.connect(self.open_file)
        state.line_changed.connect(self.source.show_line)
        state.selection_changed.connect(self.refresh)
        state.view_changed.connect(lambda: None if state.view else self.refresh())  # else what is selected changes next

    def refresh(self) -> None:
        """Show the selected function."""
        view, function = self._state.view, self._state.selected
        there = view is not None and function >= 0
        for part in (self.open_button, self.what_if, self.fan, self.source, self.source_head):
            part.setVisible(there)
        self.difference.setVisible(there and view is not None and view.edited(function))
        self.growth.show_growth(view.growing.get(function) if view is not None else None)
        self.by_size.show_row(view.by_size.get(function) if view is not None else None)
        if view is None or function < 0:
            self.title.setText("")
            self.place.setText("")
            self.sentence.setText("Select a function to see what calls it, what it calls, and its source." if view else "")
            return
        table = view.loaded.profile.functions
        name = table.name[function]
        metrics = self.title.fontMetrics()
        self.title.setText(metrics.elidedText(name, Qt.TextElideMode.ElideRight, max(self.width() - 40, 200)))
        self.title.setToolTip(tip(name))
        place = place_text(table.file[function], int(table.first_line[function]), table.module[function])
        self.place.setText(f"{place} · {table.layer[function]}")
        self.place.setToolTip(tip(table.file[function] or table.module[function]))
        self.open_button.setVisible(bool(table.file[function]) and not table.file[function].startswith("<"))
        self.sentence.setText(f"<span style='white-space: pre-wrap'>{sentence(view, function)}</span>")  # else thin spaces become wide
        self.what_if.ask(view, [function])
        self.fan.show_function(view, function)
        self.source.show_function(view, function)
        self.source_head.setText(self.source.heading)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        view, function = self._state.view, self._state.selected
        if view is not None and function >= 0:
            name, metrics = view.loaded.profile.functions.name[function], self.title.fontMetrics()
            self.title.setText(metrics.elidedText(name, Qt.TextElideMode.ElideRight, max(self.width() - 40, 200)))

    def _show_difference(self, wanted: bool) -> None:
        self.source.difference = wanted
        self.difference.setText("Hide what was edited" if wanted else "Show what was edited")
        self.source.show_function(self._state.view, self._state.selected)
        self.source_head.setText(self.source.heading)

    def open_file(self, line: int = 0) -> None:
        """Open the file of the selected function: at the line given, else at the selected one, else where the function begins."""
        view, function = self._state.view, self._state.selected
        if view is None or function < 0:
            return
        table = view.loaded.profile.functions
        try:
            file = Path(view.loaded.round.subject.cwd, table.file[function])
            open_at(str(file), line or self._state.selected_line or int(table.first_line[function]))
        except (RicercaError, OSError) as problem:
            self.failed.emit(str(problem))


def sentence(view: View, function: int) -> str:
    """A function's figures in a few sentences."""
    loaded = view.loaded
    figures, total = loaded.figures, max(loaded.profile.total_ns, 1)
    calls, own, whole = int(figures.calls[function]), int(figures.self_ns[function]), int(figures.inclusive_ns[function])
    if not calls and not whole and not int(figures.resumes[function]):
        return "It does not run in this reading."
    callers, _callees = neighbours(loaded.edges, function)
    places = sum(max(len([line for line in caller.lines if line]), 1) for caller in callers if caller.function >= 0)
    said = f"Called <span style='font-weight:600'>{plural(calls, 'time')}</span>"
    if places:
        said += f" from {plural(places, 'place')}"
    share = html.escape(f"{share_text(own / total)} of {loaded.what}")
    said += f". It takes <span style='font-weight:600'>{time_text(own)}</span> itself, {share}"
    said += f"; {time_text(whole)} with what it calls." if whole > own else "."
    gain = ceiling(own, max(loaded.whole.total_ns, 1))
    if own / total >= 0.02:
        said += (
            f" Without it the run would be <span style='font-weight:600'>{factor_text(gain)}</span> faster." if gain != float("inf") else ""
        )
    else:
        said += " Making its own body faster gains next to nothing."
    resumes = int(figures.resumes[function])
    if resumes:
        said += f" Resumed {plural(resumes, 'time')}."
    half = float(figures.self_half_ns[function])
    if half == half and own / total >= LEAST_UNCERTAIN:
        doubt = "Uncertain: its" if figures.uncertain[function] else "Its"
        said += f" {doubt} self time is between {time_text(max(own - half, 0))} and {time_text(own + half)} in 95 of 100 cases."
    grown = view.growing.get(function)
    if grown is not None:
        said += (
            f" Calls got slower during the run: {time_text(grown.first_ns)} per call at the start, "
            f"<span style='font-weight:600'>{time_text(grown.last_ns)}</span> at the end."
        )
    grew = view.grew_before.get(function)
    if grew is not None and view.base is not None:
        said += f" In round {view.base.round.number} it went from {time_text(grew.first_ns)} to {time_text(grew.last_ns)} per call."
    base = view.base_times(function)
    if base is not None:
        said += " " + _change(view, function, own, calls, base)
    return said


def _change(view: View, function: int, own: int, calls: int, base: tuple[int, int, int]) -> str:
    number = view.base.round.number
    if base == (0, 0, 0):
        return f"<span style='font-weight:600'>New</span> since round {number}."
    colours = theme.now()
    gain = base[0] - own
    sure = view.sure_of(function)
    colour = colours.soft if not sure or not gain else colours.faster if gain > 0 else colours.slower
    way = "less" if gain > 0 else "more"
    said = f"Self time in round {number}: {html.escape(time_text(base[0]))}"
    if gain:
        said += f"; now <span style='font-weight:600; color:{colour}'>{time_text(abs(gain))} {way}</span>"
        said += "" if sure else ", not a clear change"
    said += "; edited since then" if view.edited(function) else ""
    return said + (f"; {count_text(base[2])} calls then." if base[2] != calls else "; the same number of calls.")
