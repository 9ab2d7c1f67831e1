"""The fan: callers on the left, callees on the right, ribbons as thick as the time they carry."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent
from PyQt6.QtWidgets import QToolTip, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.desk.state import View
from ricerca.engine.neighbours import Neighbour, neighbours
from ricerca.report.wording import count_text, plural, time_text

MOST = 5
SLOT_PX = 34
HEAD_PX = 22
MIDDLE_PX = 46


@dataclass(frozen=True)
class Blade:
    """One neighbour as it is drawn; function -1 is where a thread starts, -2 the gathered rest."""

    function: int
    name: str
    calls: str
    explain: str
    time_ns: int
    left: bool


class Fan(QWidget):
    """Surroundings of the selected function. A click or Enter selects a neighbour."""

    chosen = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Callers and callees")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._blades: list[Blade] = []
        self._whole_ns = 1
        self._layer = "mine"
        self._marked = -1
        self.setMinimumHeight(HEAD_PX + SLOT_PX)

    def show_function(self, view: View | None, function: int) -> None:
        """Draw the neighbours of a function."""
        self._blades, self._marked = [], -1
        if view is not None and function >= 0:
            figures = view.loaded.figures
            callers, callees = neighbours(view.loaded.edges, function)
            self._whole_ns = max(int(figures.inclusive_ns[function]), 1)
            self._layer = view.loaded.profile.functions.layer[function]
            name = view.loaded.profile.functions.name[function]
            self._blades = self._side(view, callers, int(figures.calls[function]), name, True)
            self._blades += self._side(view, callees, 0, name, False)
        rows = max(sum(b.left for b in self._blades), sum(not b.left for b in self._blades), 1)
        self.setFixedHeight(HEAD_PX + rows * SLOT_PX + 4)
        self.update()

    def _side(self, view: View, found: tuple[Neighbour, ...], all_calls: int, name: str, left: bool) -> list[Blade]:
        table, figures = view.loaded.profile.functions, view.loaded.figures
        blades = []
        shown = found if len(found) <= MOST else found[: MOST - 1]
        for neighbour in shown:
            other = "start of a thread" if neighbour.function < 0 else table.name[neighbour.function]
            whole = all_calls if left else int(figures.calls[neighbour.function])
            calls = f"{count_text(neighbour.calls)} of {count_text(whole)}"
            lines = ", ".join(str(line) for line in neighbour.lines if line)
            from_lines = f", from line {lines}" if lines else ""
            said = f"{other} makes {calls} calls of {name}" if left else f"{name} makes {calls} calls of {other}"
            blades.append(Blade(neighbour.function, other, calls, f"{said}{from_lines}; they bring {time_text(neighbour.inclusive_ns)}.",
                                neighbour.inclusive_ns, left))  # fmt: skip
        rest = found[len(shown) :]
        if rest:
            more, time_ns = sum(neighbour.calls for neighbour in rest), sum(neighbour.inclusive_ns for neighbour in rest)
            names = ", ".join(table.name[neighbour.function] for neighbour in rest[:12])
            blades.append(Blade(-2, f"{len(rest)} more", count_text(more),
                                f"{plural(more, 'call')}, {time_text(time_ns)}: {names}", time_ns, left))  # fmt: skip
        return blades

    def _slot(self, number: int, left: bool) -> QRectF:
        side = (self.width() - MIDDLE_PX) / 2
        x = 0 if left else self.width() - side
        return QRectF(x, HEAD_PX + number * SLOT_PX, side, SLOT_PX)

    def _rooms(self) -> list[QRectF]:
        counts = {True: 0, False: 0}
        rooms = []
        for blade in self._blades:
            rooms.append(self._slot(counts[blade.left], blade.left))
            counts[blade.left] += 1
        return rooms

    def paintEvent(self, _event: QPaintEvent) -> None:
        colours = theme.now()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(theme.SMALL_PX, bold=True))
        painter.setPen(QColor(colours.soft))
        half = self.width() / 2
        callers = any(blade.left for blade in self._blades)
        callees = any(not blade.left for blade in self._blades)
        painter.drawText(QRectF(0, 0, half, HEAD_PX), Qt.AlignmentFlag.AlignLeft, "called by" if callers else "called by nothing")
        painter.drawText(QRectF(half, 0, half, HEAD_PX), Qt.AlignmentFlag.AlignRight, "calls" if callees else "calls nothing")
        middle = QRectF(half - 4, HEAD_PX, 8, max(self.height() - HEAD_PX - 4, 8))
        rooms = self._rooms()
        for left in (True, False):
            self._paint_ribbons(painter, middle, rooms, left)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours.own(self._layer))
        painter.drawRoundedRect(middle, 3, 3)
        for number, (blade, room) in enumerate(zip(self._blades, rooms, strict=True)):
            self._paint_blade(painter, blade, room, number == self._marked)
        painter.end()

    def _paint_ribbons(self, painter: QPainter, middle: QRectF, rooms: list[QRectF], left: bool) -> None:
        """Each ribbon joins its slot to its share of the middle, in order, so that none cross."""
        colours = theme.now()
        y = middle.top()
        for blade, room in zip(self._blades, rooms, strict=True):
            if blade.left != left:
                continue
            share = min(blade.time_ns / self._whole_ns, 1.0)
            thick = max(share * middle.height(), 1.0)
            near = min(thick, SLOT_PX - 10.0)
            x0, x1 = (room.right(), middle.left()) if left else (room.left(), middle.right())
            y0 = room.center().y() - near / 2
            path = QPainterPath(QPointF(x0, y0))
            bend = (x1 - x0) / 2
            path.cubicTo(x0 + bend, y0, x1 - bend, y, x1, y)
            path.lineTo(x1, y + thick)
            path.cubicTo(x1 - bend, y + thick, x0 + bend, y0 + near, x0, y0 + near)
            path.closeSubpath()
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colours.called(self._layer))
            painter.drawPath(path)
            y += thick if y + thick < middle.bottom() else 0

    def _paint_blade(self, painter: QPainter, blade: Blade, room: QRectF, marked: bool) -> None:
        colours = theme.now()
        if marked:
            painter.fillRect(room, QColor(colours.chosen))
        text = room.adjusted(2, 1, -6, 0) if blade.left else room.adjusted(6, 1, -2, 0)
        side = Qt.AlignmentFlag.AlignLeft
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(13))
        metrics = QFontMetrics(painter.font())
        painter.drawText(text, side | Qt.AlignmentFlag.AlignTop,
                         metrics.elidedText(blade.name, Qt.TextElideMode.ElideRight, int(text.width())))  # fmt: skip
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(colours.soft))
        small = QFontMetrics(painter.font())
        line = f"{blade.calls} · {time_text(blade.time_ns)}"
        if small.horizontalAdvance(line) > text.width():
            line = blade.calls.split(" of ")[0] + f" · {time_text(blade.time_ns)}"
        painter.drawText(text.adjusted(0, 15, 0, 0), side | Qt.AlignmentFlag.AlignTop,
                         small.elidedText(line, Qt.TextElideMode.ElideRight, int(text.width())))  # fmt: skip

    def _at(self, place: QPointF) -> int:
        return next((number for number, room in enumerate(self._rooms()) if room.contains(place)), -1)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        number = self._at(event.position())
        if number != self._marked:
            self._marked = number
            self.update()
        if number >= 0:
            QToolTip.showText(event.globalPosition().toPoint(), tip(self._blades[number].explain), self)

    def leaveEvent(self, _event: object) -> None:
        self._marked = -1
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(self._at(event.position()))

    def _choose(self, number: int) -> None:
        if 0 <= number < len(self._blades) and self._blades[number].function >= 0:
            self.chosen.emit(self._blades[number].function)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        if step and self._blades:
            self._marked = (self._marked + step) % len(self._blades)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._choose(self._marked)
        else:
            super().keyPressEvent(event)
