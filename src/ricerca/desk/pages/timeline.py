"""The timeline: a stave for each thread, time to the right; a stretch that is dragged enters the sentence."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFocusEvent, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QScrollArea, QToolTip, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.reading import ELAPSED, WALL
from ricerca.engine.timeline import Stave, Timeline, timeline
from ricerca.report.wording import plural, time_text

NAME_PX, SIDE_PX, HEAD_PX = 120, 16, 34
DENSITY_PX, WAIT_PX, SPAN_PX, GAP_PX = 72, 8, 17, 26
MOST_ROWS = 6
LEAST_SPAN_PX = 3
MOST_STEPS = 160


def _of_waiting(colour: QColor) -> QColor:
    """A layer's colour where it waits: the same hue, so faint that it is told from running at once."""
    faint = QColor(colour)
    faint.setAlphaF(0.22)
    return faint


class Staves(QWidget):
    """Paints the timeline and takes the dragged stretch."""

    def __init__(self, state: DeskState | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._line: Timeline | None = None
        self._view: View | None = None
        self._base: Timeline | None = None
        self._from = self._to = -1
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Timeline. Shift and arrow keys select a stretch, Enter reads it")

    def show_line(self, view: View, line: Timeline, base: Timeline | None, stretch: tuple[int, int] | None) -> None:
        """Take a timeline, that of the round compared with, and the stretch that is read."""
        self._view, self._line, self._base = view, line, base
        self._from, self._to = stretch or (-1, -1)
        self.setMinimumHeight(int(self._height()))
        self.update()

    def _rows(self, stave: Stave) -> int:
        return min(max((row for _function, _start, _end, row in stave.spans), default=-1) + 1, MOST_ROWS)

    def _height(self) -> float:
        staves = self._line.staves if self._line else ()
        return HEAD_PX + sum(DENSITY_PX + WAIT_PX + self._rows(stave) * SPAN_PX + GAP_PX for stave in staves) + 8

    def _field(self) -> QRectF:
        return QRectF(SIDE_PX + NAME_PX, HEAD_PX, max(self.width() - SIDE_PX * 2 - NAME_PX, 40), self.height() - HEAD_PX)

    def _whole_ns(self) -> float:
        """What the width of the field stands for: the longer of the two rounds."""
        return max([line.slice_ns * line.slices for line in (self._line, self._base) if line is not None] or [0.0])

    def _x(self, at_slice: float, of: Timeline | None = None) -> float:
        """Where a slice begins; of the round that is read, or of the one compared against."""
        field, line = self._field(), of or self._line
        return field.left() + field.width() * at_slice * (line.slice_ns if line else 0.0) / max(self._whole_ns(), 1)

    def _slice(self, x: float) -> int:
        field, line = self._field(), self._line
        if line is None or not line.slice_ns:
            return 0
        at = (x - field.left()) / field.width() * self._whole_ns() / line.slice_ns
        return int(min(max(at, 0), line.slices))

    # ---- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        line = self._line
        if line is None or not line.staves:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_scale(painter)
        top = float(HEAD_PX)
        for stave in line.staves:
            self._paint_stave(painter, line, stave, top)
            top += DENSITY_PX + WAIT_PX + self._rows(stave) * SPAN_PX + GAP_PX
        self._paint_phases(painter, line)
        self._paint_choice(painter)
        self._paint_counterpart(painter)

    def _paint_scale(self, painter: QPainter) -> None:
        colours, field, whole = theme.now(), self._field(), self._whole_ns()
        painter.setFont(theme.font(theme.SMALL_PX))
        step = 10.0 ** np.floor(np.log10(max(whole, 1)))
        step = next((step * part for part in (0.1, 0.2, 0.5, 1) if whole / (step * part) <= 8), step)
        at = 0.0
        while at <= whole:
            x = field.left() + field.width() * at / max(whole, 1)
            painter.setPen(QColor(colours.rule))
            painter.drawLine(QPointF(x, HEAD_PX - 6), QPointF(x, self.height()))
            painter.setPen(QColor(colours.soft))
            painter.drawText(QRectF(x - 40, 6, 80, 18), Qt.AlignmentFlag.AlignCenter, time_text(at) if at else "0")
            at += step

    def _paint_stave(self, painter: QPainter, line: Timeline, stave: Stave, top: float) -> None:
        colours, field = theme.now(), self._field()
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(theme.SMALL_PX + 1, bold=True))
        name = theme.metrics(theme.SMALL_PX + 1, bold=True).elidedText(stave.name, Qt.TextElideMode.ElideRight, NAME_PX - 12)
        painter.drawText(QRectF(SIDE_PX, top, NAME_PX - 8, 18), Qt.AlignmentFlag.AlignLeft, name)
        painter.setPen(QColor(colours.soft))
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.drawText(QRectF(SIDE_PX, top + 18, NAME_PX - 8, 16), Qt.AlignmentFlag.AlignLeft, f"process {stave.process}")
        painter.drawText(QRectF(SIDE_PX, top + DENSITY_PX - 5, NAME_PX - 8, 16), Qt.AlignmentFlag.AlignLeft, "waiting")
        base = np.full(line.slices, top + DENSITY_PX)
        width = self._x(1) - self._x(0)
        parts = [(stave.density[row] - stave.waiting_density[row], colours.own(layer)) for row, layer in enumerate(line.layers)]
        parts += [(stave.waiting_density[row], _of_waiting(colours.own(layer))) for row, layer in enumerate(line.layers)]
        for part, colour in parts:
            high = part / max(line.slice_ns, 1) * DENSITY_PX
            for at in np.flatnonzero(high > 0.2).tolist():
                tall = min(float(high[at]), base[at] - top)
                painter.fillRect(QRectF(self._x(at), base[at] - tall, width + 0.6, tall), colour)
                base[at] -= tall
        self._paint_base(painter, stave, top)
        waiting = QColor(colours.soft)
        for at in np.flatnonzero(stave.waiting > 0.02 * line.slice_ns).tolist():
            waiting.setAlphaF(float(min(0.25 + 0.75 * stave.waiting[at] / max(line.slice_ns, 1), 1.0)))
            painter.fillRect(QRectF(self._x(at), top + DENSITY_PX + 1, width + 0.6, WAIT_PX - 2), waiting)
        painter.setPen(QPen(QColor(colours.rule), 1))
        painter.drawLine(QPointF(field.left(), top + DENSITY_PX + 0.5), QPointF(field.right(), top + DENSITY_PX + 0.5))
        self._paint_spans(painter, line, stave, top + DENSITY_PX + WAIT_PX)

    def _paint_base(self, painter: QPainter, stave: Stave, top: float) -> None:
        """Dashed outline: the thread of the same name in the round compared with."""
        base = self._base
        twin = next((other_stave for other_stave in base.staves if other_stave.name == stave.name), None) if base else None
        if base is None or twin is None or not base.slices:
            return
        steps = np.array_split(twin.density.sum(axis=0) / max(base.slice_ns, 1), min(base.slices, MOST_STEPS))
        at = 0
        path = QPainterPath(QPointF(self._x(at, base), top + DENSITY_PX))
        for step in steps:
            high = top + DENSITY_PX * (1 - min(float(step.mean()), 1.0))
            for end in (at, at + len(step)):
                path.lineTo(self._x(end, base), high)
            at += len(step)
        path.lineTo(self._x(at, base), top + DENSITY_PX)
        pen = QPen(QColor(theme.now().soft), 1)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _paint_spans(self, painter: QPainter, line: Timeline, stave: Stave, top: float) -> None:
        """Long calls as brackets that hang from the stave, the outer ones lower; names where they fit."""
        colours, table = theme.now(), self._view.loaded.profile.functions
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for function, start, end, row in stave.spans:
            room = self._span_room(line, stave, start, end, row, top)
            if row >= MOST_ROWS or room.width() < LEAST_SPAN_PX:
                continue
            chosen = self._state is not None and function == self._state.selected
            colour = QColor(colours.accent) if chosen else colours.own(table.layer[function])
            colour.setAlphaF(1.0 if chosen else 0.6)
            painter.setPen(QPen(colour, 2.4 if chosen else 1.2))
            low, bend = room.center().y(), min(8.0, room.width() / 2)
            path = QPainterPath(QPointF(room.left() + 0.5, top + 2))
            path.lineTo(room.left() + 0.5, low - bend)
            path.quadTo(room.left() + 0.5, low, room.left() + bend, low)
            path.lineTo(room.right() - bend, low)
            path.quadTo(room.right() - 0.5, low, room.right() - 0.5, low - bend)
            path.lineTo(room.right() - 0.5, top + 2)
            painter.drawPath(path)
            if room.width() > 52:
                words = theme.metrics(theme.SMALL_PX)
                text = words.elidedText(table.name[function], Qt.TextElideMode.ElideRight, int(room.width()) - 24)
                wide = words.horizontalAdvance(text) + 8
                label = QRectF(room.center().x() - wide / 2, low - 8, wide, 16)
                painter.fillRect(label, QColor(colours.paper))
                painter.setPen(QColor(colours.accent if chosen else colours.ink))
                painter.drawText(label, Qt.AlignmentFlag.AlignCenter, text)

    def _span_room(self, line: Timeline, stave: Stave, start: int, end: int, row: int, top: float) -> QRectF:
        left, right = self._x(start / max(line.slice_ns, 1)), self._x(end / max(line.slice_ns, 1))
        return QRectF(left, top + 3 + (self._rows(stave) - 1 - row) * SPAN_PX, right - left, SPAN_PX)

    def _paint_phases(self, painter: QPainter, line: Timeline) -> None:
        pen = QPen(QColor(theme.now().ink), 1)
        pen.setDashPattern([1, 4])
        painter.setPen(pen)
        for at in line.phases:
            painter.drawLine(QPointF(self._x(at), HEAD_PX - 8), QPointF(self._x(at), self.height() - 6))

    def _paint_choice(self, painter: QPainter) -> None:
        if self._from < 0 or self._from == self._to:
            return
        colour = QColor(theme.now().accent)
        left, right = sorted((self._x(self._from), self._x(self._to)))
        painter.setPen(QPen(colour, 1.5))
        colour.setAlphaF(0.14)
        painter.setBrush(colour)
        painter.drawRect(QRectF(left, HEAD_PX - 6, right - left, self.height() - HEAD_PX))

    def _paint_counterpart(self, painter: QPainter) -> None:
        """Where the round compared against did the work of the stretch that is read: dashed, as all of that round."""
        base, theirs = self._base, self._view.base if self._view else None
        if self._from < 0 or base is None or theirs is None or theirs.reading.stretch is None:
            return
        left, right = (self._x(at, base) for at in theirs.reading.stretch)
        pen = QPen(QColor(theme.now().accent), 1.5)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(left, HEAD_PX - 3, right - left, self.height() - HEAD_PX - 6))

    # ---- acting

    def _read_choice(self) -> None:
        first, last = sorted((self._from, self._to))
        self._from = self._to = -1
        self.update()
        if first >= 0 and last > first:
            self._state.set_reading(replace(self._state.reading, stretch=(first, last)))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._from = self._to = self._slice(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton and self._from >= 0:
            self._to = self._slice(event.position().x())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if self._from != self._to:
            self._read_choice()
            return
        self._from = self._to = -1
        function = self._function_at(event.position())
        if function >= 0:
            self._state.select(function)
            self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or self._line is None:
            return
        step = max(self._line.slices // 50, 1)
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            sign = step if event.key() == Qt.Key.Key_Right else -step
            start = self._to if self._to >= 0 else self._line.slices // 2 if sign < 0 else 0
            self._to = min(max(start + sign, 0), self._line.slices)
            if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier or self._from < 0:
                self._from = start if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else self._to
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._read_choice()
        elif event.key() == Qt.Key.Key_Escape:
            self._from = self._to = -1
            self.update()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self.update()

    def _function_at(self, at: QPointF) -> int:
        line = self._line
        if line is None:
            return -1
        top = float(HEAD_PX)
        for stave in line.staves:
            for function, start, end, row in stave.spans:
                if row < MOST_ROWS and self._span_room(line, stave, start, end, row, top + DENSITY_PX + WAIT_PX).contains(at):
                    return function
            top += DENSITY_PX + WAIT_PX + self._rows(stave) * SPAN_PX + GAP_PX
        return -1

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._line is not None:
            QToolTip.showText(event.globalPos(), tip(self._words(QPointF(event.pos()))), self)
            return True
        return super().event(event)  # type: ignore[arg-type]

    def _words(self, at: QPointF) -> str:
        line, function = self._line, self._function_at(at)
        if function >= 0:
            return f"A long call of {self._view.loaded.profile.functions.name[function]}. Click to select it."
        where, top = self._slice(at.x()), float(HEAD_PX)
        for stave in line.staves:
            tall = DENSITY_PX + WAIT_PX + self._rows(stave) * SPAN_PX + GAP_PX
            if top <= at.y() < top + tall and where < line.slices:
                parts = [(float(stave.density[row][where]), layer) for row, layer in enumerate(line.layers)]
                said = ", ".join(f"{layer} {time_text(value)}" for value, layer in sorted(parts, reverse=True) if value > 0)
                waits = f"; {time_text(float(stave.waiting[where]))} of it waiting" if stave.waiting[where] > 0 else ""
                return f"At {time_text(where * line.slice_ns)}, within {time_text(line.slice_ns)}: {said or 'nothing'}{waits}."
            top += tall
        return "Drag to select a stretch of the run; every page then shows that stretch only."


class TimelinePage(SeenPage):
    """What happened when."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self.staves = Staves(state)
        self.summary = QLabel()
        self.summary.setObjectName("soft")
        self.summary.setWordWrap(True)
        self.legend = QLabel()
        self.legend.setTextFormat(Qt.TextFormat.RichText)
        self.whole = QPushButton("Whole run")
        self.whole.setObjectName("quiet")
        self.whole.setToolTip("Remove this stretch from the reading.")
        self.whole.clicked.connect(lambda _checked: state.set_reading(replace(state.reading, stretch=None)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.staves)
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 16, 4)
        head.addWidget(self.summary, 1)
        head.addWidget(self.whole)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        self.legend.setContentsMargins(16, 0, 16, 0)
        layout.addWidget(self.legend)
        layout.addWidget(area, 1)
        state.selection_changed.connect(self.staves.update)

    def draw(self, view: View) -> None:
        """Spread the run over time away from the interface, then show it; the chosen stretch is marked, not cut out."""
        # Each thread has its own time here: what waited beside others that ran is what one looks for.
        clock = WALL if self._state.reading.clock == ELAPSED else self._state.reading.clock
        reading = replace(self._state.reading, stretch=None, clock=clock)
        self.whole.setVisible(self._state.reading.stretch is not None)

        def make() -> tuple[View, Timeline, Timeline | None]:
            base = timeline(view.base.through(reading.of_another_run).profile) if view.base is not None else None
            return view, timeline(view.loaded.through(reading).profile), base

        self._state.workers.request("timeline", make, self._show)

    def _show(self, found: tuple[View, Timeline, Timeline | None]) -> None:
        view, line, base = found
        self.staves.show_line(view, line, base, self._state.reading.stretch)
        colours = theme.now()
        drawn = [layer for row, layer in enumerate(line.layers) if any(stave.density[row].any() for stave in line.staves)]
        patch = "<span style='background-color:{}'>&nbsp;&nbsp;&nbsp;</span> {}"
        self.legend.setText("&nbsp;&nbsp; ".join(patch.format(colours.own(layer).name(), layer) for layer in drawn))
        if not line.slices:
            self.summary.setText("This round has no timeline: it was recorded without slices of time.")
            return
        words = f"{plural(len(line.staves), 'thread')}, in slices of {time_text(line.slice_ns)}; faint: waiting"
        phases = f"; dotted: the mix of functions changes ({plural(len(line.phases), 'time')})" if line.phases else ""
        if base is not None and base.slices and view.base is not None:
            phases += f"; dashed: round {view.base.round.number}" + (
                ", and where it did the same work" if view.base.reading.stretch else ""
            )
        cut = view.loaded.whole.facts.not_by_time
        phases += f". No room was left for more: {cut}" if cut else ""
        self.summary.setText(words + phases + ". Times include the recording overhead. Drag over a stretch to read only that.")
