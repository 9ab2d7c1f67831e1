"""What the call graph is drawn from: where each node lies, lanes with their ribbons, pills."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import QGraphicsItem, QGraphicsSceneContextMenuEvent, QGraphicsSceneMouseEvent, QStyleOptionGraphicsItem, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_mark
from ricerca.desk.look.tips import tip
from ricerca.desk.state import View
from ricerca.engine.graph import Graph, Layout
from ricerca.report.wording import count_text, plural, share_text, time_text

if TYPE_CHECKING:
    from ricerca.desk.pages.graph import GraphPage

CELL_PX, GAP_PX, ROW_PX, LANE_PX = 148, 58, 50, 22
PILL_PX, LEAST_PILL_PX = 16, 10
THICKEST_PX = 22.0
LEAST_COUNTED = 0.03


@dataclass(frozen=True)
class Drawn:
    """A graph with its places, as it is shown for one view."""

    view: View
    graph: Graph
    layout: Layout

    def place(self, node: int) -> QRectF:
        """Cell of a node."""
        lane = next(at for at, (_name, first, rows) in enumerate(self.layout.lanes) if first <= self.layout.row[node] < first + rows)
        y = self.layout.row[node] * ROW_PX + (lane + 1) * LANE_PX
        return QRectF(self.layout.column[node] * (CELL_PX + GAP_PX), y, CELL_PX, ROW_PX - 8)

    def pill(self, node: int) -> QRectF:
        """The pill: as long as the inclusive time, the whole run filling a cell."""
        cell = self.place(node)
        share = self.graph.nodes[node].inclusive_ns / max(self.graph.total_ns, 1)
        return QRectF(cell.left(), cell.bottom() - PILL_PX - 6, max(CELL_PX * min(share, 1.0), LEAST_PILL_PX), PILL_PX)

    def bounds(self) -> QRectF:
        """Room of the whole picture."""
        columns = max(self.layout.column, default=0) + 1
        rows = sum(rows for _name, _first, rows in self.layout.lanes)
        return QRectF(-40, -8, columns * (CELL_PX + GAP_PX) - GAP_PX + 80, rows * ROW_PX + (len(self.layout.lanes) + 1) * LANE_PX + 8)

    def bands(self) -> list[tuple[str, QRectF]]:
        """Layer and room of each lane."""
        room = self.bounds()
        return [
            (name, QRectF(room.left(), first * ROW_PX + at * LANE_PX + 2, room.width(), rows * ROW_PX + LANE_PX - 4))
            for at, (name, first, rows) in enumerate(self.layout.lanes)
        ]


def paint_lane_name(painter: QPainter, name: str, corner: QPointF) -> None:
    """The name of a lane in its upper left corner."""
    painter.setPen(theme.now().own(name))
    painter.setFont(theme.font(theme.SMALL_PX, bold=True))
    painter.drawText(corner + QPointF(8, 15), name)


class Lanes(QGraphicsItem):
    """Faint bands of the layers, cycles as enclosures, and the ribbons."""

    def __init__(self, drawn: Drawn, page: GraphPage) -> None:
        super().__init__()
        self._drawn, self._page = drawn, page
        self.setZValue(-1)

    def boundingRect(self) -> QRectF:
        return self._drawn.bounds()

    def paint(self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None) -> None:
        if painter is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        drawn, colours = self._drawn, theme.now()
        for name, band in drawn.bands():
            faint = QColor(colours.called(name))
            faint.setAlphaF(0.22)
            painter.fillRect(band, faint)
            paint_lane_name(painter, name, band.topLeft())
        for number, cycle in enumerate(drawn.graph.cycles):
            self._enclose(painter, number, cycle.members)
        hand = self._page.selected_node()
        ribbons = drawn.graph.ribbons
        for row in sorted(range(len(ribbons)), key=lambda row: hand in (ribbons[row].caller, ribbons[row].callee)):
            self._ribbon(painter, row, hand)

    def _enclose(self, painter: QPainter, number: int, members: tuple[int, ...]) -> None:
        colours, room = theme.now(), QRectF()
        for member in members:
            room = room.united(self._drawn.place(member))
        pen = QPen(QColor(colours.soft), 1.4)
        pen.setDashPattern([6, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(room.adjusted(-12, -6, 12, 6), 14, 14)
        painter.setFont(theme.font(theme.SMALL_PX))
        cycle = self._drawn.graph.cycles[number]
        said = f"cycle: {count_text(cycle.entries)} in, {count_text(cycle.inner_calls)} round, {time_text(cycle.inclusive_ns)}"
        label = QRectF(room.left() + 2, room.top() - 14, theme.metrics(theme.SMALL_PX).horizontalAdvance(said) + 8, 15)
        painter.fillRect(label, QColor(colours.paper))
        painter.setPen(QColor(colours.soft))
        painter.drawText(label, Qt.AlignmentFlag.AlignCenter, said)

    def _ribbon(self, painter: QPainter, row: int, hand: int) -> None:
        drawn, colours = self._drawn, theme.now()
        ribbon = drawn.graph.ribbons[row]
        share = ribbon.inclusive_ns / max(drawn.graph.total_ns, 1)
        thick = max(THICKEST_PX * share, 1.2)
        start, end = drawn.pill(ribbon.caller), drawn.pill(ribbon.callee)
        colour = QColor(colours.own(drawn.graph.nodes[ribbon.callee].layer))
        selected = hand in (ribbon.caller, ribbon.callee)
        colour.setAlphaF(0.75 if selected else 0.32)
        a, b = QPointF(start.right(), start.center().y()), QPointF(end.left() - 3, end.center().y())
        path = QPainterPath(a)
        if ribbon.caller == ribbon.callee:
            path.cubicTo(a + QPointF(34, -26), a + QPointF(34, 26), a + QPointF(0, 5))
        elif b.x() > a.x():
            bend = max((b.x() - a.x()) / 2, 24)
            path.cubicTo(a + QPointF(bend, 0), b - QPointF(bend, 0), b)
        else:  # back, as a cycle of calls goes
            low = max(start.bottom(), end.bottom()) + 18
            path.cubicTo(a + QPointF(60, 0), QPointF(a.x() + 40, low), QPointF((a.x() + b.x()) / 2, low))
            path.cubicTo(QPointF(b.x() - 40, low), b - QPointF(60, 0), b)
        pen = QPen(colour, thick)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        if share >= LEAST_COUNTED or selected:
            ahead = ribbon.caller != ribbon.callee and b.x() > a.x()
            gap = drawn.place(ribbon.caller).right() + GAP_PX * 0.38  # and not upon the mark of the next node
            self._count(painter, _point_at(path, gap) if ahead else path.pointAtPercent(0.5), count_text(ribbon.calls), selected)

    @staticmethod
    def _count(painter: QPainter, at: QPointF, text: str, selected: bool) -> None:
        colours = theme.now()
        painter.setFont(theme.font(theme.SMALL_PX, bold=selected))
        width = theme.metrics(theme.SMALL_PX, bold=selected).horizontalAdvance(text)
        room = QRectF(at.x() - width / 2 - 3, at.y() - 8, width + 6, 16)
        ground = QColor(colours.paper)
        ground.setAlphaF(0.82)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ground)
        painter.drawRoundedRect(room, 4, 4)
        painter.setPen(QColor(colours.ink))
        painter.drawText(room, Qt.AlignmentFlag.AlignCenter, text)


def _point_at(path: QPainterPath, x: float) -> QPointF:
    """Where a path that leads from left to right is at x: between two columns, where no names stand."""
    low, high = 0.0, 1.0
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (middle, high) if path.pointAtPercent(middle).x() < x else (low, middle)
    return path.pointAtPercent((low + high) / 2)


class Pill(QGraphicsItem):
    """One node. A click selects it, a double click folds or opens its module."""

    def __init__(self, drawn: Drawn, node: int, page: GraphPage) -> None:
        super().__init__()
        self._drawn, self.node, self._page = drawn, node, page
        self.setToolTip(tip(self._words()))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def _words(self) -> str:
        one, total = self._drawn.graph.nodes[self.node], max(self._drawn.graph.total_ns, 1)
        said = (
            f"{one.name}: {plural(one.calls, 'call')}, {time_text(one.self_ns)} itself, {time_text(one.inclusive_ns)} with all it called, "
        )
        said += f"{share_text(one.inclusive_ns / total)} of this reading."
        said += f" {one.name} is folded; double click opens it." if one.folded else " Double click folds its module into one node."
        return said

    def boundingRect(self) -> QRectF:
        return self._drawn.place(self.node).adjusted(-6, -2, 6, 2)

    def paint(self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None) -> None:
        if painter is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        one, colours = self._drawn.graph.nodes[self.node], theme.now()
        cell, pill = self._drawn.place(self.node), self._drawn.pill(self.node)
        if self._page.selected_node() == self.node:
            painter.setPen(QPen(QColor(colours.accent), 2))
            painter.setBrush(QColor(colours.chosen))
            painter.drawRoundedRect(cell.adjusted(-5, -1, 5, 1), 8, 8)
        text = f"{one.name} +{len(one.functions)}" if one.folded else one.name
        edited = any(self._drawn.view.edited(function) for function in one.functions)
        took, words = time_text(one.inclusive_ns) + (" · edited" if edited else ""), theme.metrics(theme.SMALL_PX + 1, bold=one.folded)
        beside = theme.metrics(theme.SMALL_PX).horizontalAdvance(took)
        elided = words.elidedText(text, Qt.TextElideMode.ElideMiddle, int(cell.width()) - beside - 8)
        room, left = QRectF(cell.left(), cell.top(), cell.width(), 20), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(theme.SMALL_PX + 1, bold=one.folded))
        painter.drawText(room, left, elided)
        painter.setPen(QColor(colours.soft))
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.drawText(room.adjusted(words.horizontalAdvance(elided) + 7, 0, 0, 0), left, took)
        shape = QPainterPath()
        shape.addRoundedRect(pill, PILL_PX / 2, PILL_PX / 2)
        painter.fillPath(shape, colours.called(one.layer))
        painter.save()
        painter.setClipPath(shape)
        own = pill.width() * one.self_ns / max(one.inclusive_ns, 1)
        painter.fillRect(QRectF(pill.left(), pill.top(), own, pill.height()), colours.own(one.layer))
        painter.restore()
        self._paint_change(painter, pill, one.functions, one.inclusive_ns)

    def _paint_change(self, painter: QPainter, pill: QRectF, functions: tuple[int, ...], inclusive_ns: int) -> None:
        """Dashed outline: the round compared against; with a mark for faster or slower."""
        base = self._drawn.view.base_times(functions[0]) if len(functions) == 1 else None
        if base is None or base == (0, 0, 0):
            return
        colours = theme.now()
        length = max(CELL_PX * min(base[1] / max(self._drawn.graph.total_ns, 1), 1.0), LEAST_PILL_PX)
        pen = QPen(QColor(colours.soft), 1)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(QRectF(pill.left(), pill.top() - 2, length, pill.height() + 4), PILL_PX / 2 + 2, PILL_PX / 2 + 2)
        if self._drawn.view.part_is_sure(functions[0], base[1], inclusive_ns):
            paint_mark(painter, QPointF(pill.left() - 9, pill.center().y()), base[1] > inclusive_ns)

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.take(self.node)
        super().mousePressEvent(event)

    def mouseDoubleClickEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.fold(self.node)

    def contextMenuEvent(self, event: QGraphicsSceneContextMenuEvent | None) -> None:
        if event is not None:
            self._page.show_menu(self.node, self._page.view.mapFromScene(event.scenePos()))
