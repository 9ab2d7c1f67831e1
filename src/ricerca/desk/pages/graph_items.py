"""What the call graph is drawn from: where each node lies, lanes with their ribbons, pills."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import (
    QGraphicsItem,
    QGraphicsScene,
    QGraphicsSceneContextMenuEvent,
    QGraphicsSceneMouseEvent,
    QStyleOptionGraphicsItem,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_mark
from ricerca.desk.look.tips import tip
from ricerca.desk.state import View
from ricerca.engine.graph import Graph, Layout, Node, lay_out, main_callers, seen_ribbons
from ricerca.engine.levels import CLASS, MODULE
from ricerca.report.wording import brief_count, count_text, plural, share_text, time_text

CELL_PX, GAP_PX, ROW_PX = (84.0, 250.0), (32.0, 72.0), (39.0, 66.0)
"""Least and largest size: between them the picture takes the room that the page has."""
GAP_SHARE = 0.055
LANE_PX, MARGIN_PX = 22, 26
PILL_PX, LEAST_PILL_PX = 14, 8
NAME_PX = theme.SMALL_PX + 1
THICKEST_PX, MARK_PX = 22.0, 14
LEAST_COUNTED = 0.03


@dataclass(frozen=True)
class Drawn:
    """A graph with its places, as it is shown for one view."""

    view: View
    graph: Graph
    layout: Layout
    seen: tuple[int, ...] = ()
    """Places of the ribbons that are drawn."""
    main: frozenset[int] = frozenset()
    """Those by which each node is reached on the heaviest way: their calls are always written."""
    room: tuple[float, float] = (0.0, 0.0)
    """Width and height that the page has."""

    @cached_property
    def _columns(self) -> int:
        return max(self.layout.column, default=0) + 1

    @cached_property
    def gap(self) -> float:
        """Room between two columns."""
        left = self.room[0] - 2 * MARGIN_PX - self._columns * CELL_PX[0]
        return _between(GAP_PX, min(self.room[0] * GAP_SHARE, left / max(self._columns - 1, 1)))

    @cached_property
    def cell(self) -> float:
        """Width of a node's cell: its pill is so long where it takes the whole run."""
        width = self.room[0] - 2 * MARGIN_PX - (self._columns - 1) * self.gap
        return _between(CELL_PX, width / self._columns)

    @cached_property
    def row(self) -> float:
        """Height of a row."""
        rows = sum(rows for _name, _first, rows in self.layout.lanes)
        return _between(ROW_PX, (self.room[1] - len(self.layout.lanes) * LANE_PX - 16) / max(rows, 1))

    @property
    def fits(self) -> bool:
        """Whether all of it has room in the page."""
        bounds = self.bounds()
        return bounds.width() <= self.room[0] + 1 and bounds.height() <= self.room[1] + 1

    @cached_property
    def taken(self) -> frozenset[tuple[int, int]]:
        """Column and row of each node."""
        return frozenset(zip(self.layout.column, self.layout.row, strict=True))

    def name_room(self, node: int) -> float:
        """Width for the name of a node: its cell, and what is free to the right of it."""
        column, row = self.layout.column[node], self.layout.row[node]
        if (column + 1, row) in self.taken:
            return self.cell + self.gap * 0.6
        return self.cell + self.gap + (self.cell * 0.9 if column + 1 < self._columns else 0)

    def place(self, node: int) -> QRectF:
        """Cell of a node."""
        lane = next(at for at, (_name, first, rows) in enumerate(self.layout.lanes) if first <= self.layout.row[node] < first + rows)
        y = self.layout.row[node] * self.row + (lane + 1) * LANE_PX
        return QRectF(self.layout.column[node] * (self.cell + self.gap), y, self.cell, self.row - 6)

    def pill(self, node: int) -> QRectF:
        """The pill: as long as the inclusive time, the whole run filling a cell."""
        cell = self.place(node)
        share = self.graph.nodes[node].inclusive_ns / max(self.graph.total_ns, 1)
        return QRectF(cell.left(), cell.top() + 19, max(self.cell * min(share, 1.0), LEAST_PILL_PX), PILL_PX)

    def bounds(self) -> QRectF:
        """Room of the whole picture."""
        rows = sum(rows for _name, _first, rows in self.layout.lanes)
        width = max(self._columns * (self.cell + self.gap) - self.gap + 2 * MARGIN_PX, self.room[0])
        return QRectF(-MARGIN_PX, 0, width, max(rows * self.row + len(self.layout.lanes) * LANE_PX + 8, self.room[1]))

    def bands(self) -> list[tuple[str, QRectF]]:
        """Layer and room of each lane."""
        room = self.bounds()
        return [
            (name, QRectF(room.left(), first * self.row + at * LANE_PX + 2, room.width(), rows * self.row + LANE_PX - 4))
            for at, (name, first, rows) in enumerate(self.layout.lanes)
        ]


def _between(ends: tuple[float, float], value: float) -> float:
    return min(max(value, ends[0]), ends[1])


def drawn_of(view: View, graph: Graph, room: tuple[float, float]) -> Drawn:
    """A graph laid out in the room there is."""
    main = frozenset(ribbon for ribbon in main_callers(graph) if ribbon >= 0)
    return Drawn(view, graph, lay_out(graph), seen_ribbons(graph), main, room)


def label_of(node: Node) -> str:
    """What a node is called in the picture."""
    if node.rest:
        return f"rest of {short_label(node)}"
    if node.name == "<module>":
        return f"{node.module} module body"
    return short_label(node)


def short_label(node: Node) -> str:
    """The name of a node without what stands around it: of a module or class its last part."""
    name = node.name.replace(".<locals>", "")
    return name.rpartition(".")[2] if node.level in (MODULE, CLASS) and node.folded else name


def paint_lane_name(painter: QPainter, name: str, corner: QPointF) -> None:
    """The name of a lane in its upper left corner."""
    painter.setPen(theme.now().own(name))
    painter.setFont(theme.font(theme.SMALL_PX, bold=True))
    painter.drawText(corner + QPointF(8, 15), name)


class Selection(Protocol):
    """Whoever knows which node is selected, and what is done with nodes."""

    def selected_node(self) -> int:
        """Place of the selected node, -1 for none."""

    def take(self, node: int) -> None:
        """Select a node."""

    def fold(self, node: int) -> None:
        """Open or fold a node."""

    def menu_at(self, node: int, place: QPointF) -> None:
        """Show what can be done with a node, at a place of the scene."""


class NoSelection:
    """Of a picture nothing is selected and nothing can be done with it."""

    def selected_node(self) -> int:
        return -1

    def take(self, node: int) -> None:
        pass

    def fold(self, node: int) -> None:
        pass

    def menu_at(self, node: int, place: QPointF) -> None:
        pass


def scene_of(drawn: Drawn, page: Selection | None = None, parent: QWidget | None = None) -> QGraphicsScene:
    """All of a graph as a scene."""
    page = page or NoSelection()
    scene = QGraphicsScene(parent)
    scene.setSceneRect(drawn.bounds())
    scene.addItem(Lanes(drawn, page))
    for node in range(len(drawn.graph.nodes)):
        scene.addItem(Pill(drawn, node, page))
    return scene


class Lanes(QGraphicsItem):
    """Faint bands of the layers, cycles as enclosures, and the ribbons."""

    def __init__(self, drawn: Drawn, page: Selection) -> None:
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
        for row in sorted(drawn.seen, key=lambda row: hand in (ribbons[row].caller, ribbons[row].callee)):
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
        said = f"cycle: entered {plural(cycle.entries, 'time')}, {plural(cycle.inner_calls, 'call')} inside"
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
        colour.setAlphaF(0.75 if selected else 0.32 if row in drawn.main else 0.2)
        a, b = QPointF(start.right(), start.center().y()), QPointF(end.left() - 3, end.center().y())
        path = QPainterPath(a)
        if ribbon.caller == ribbon.callee:
            path.cubicTo(a + QPointF(34, -26), a + QPointF(34, 26), a + QPointF(0, 5))
        elif drawn.layout.column[ribbon.caller] == drawn.layout.column[ribbon.callee] == 0:
            down = end.top() > start.top()
            path = QPainterPath(QPointF(start.left() + 5, start.bottom() if down else drawn.place(ribbon.caller).top()))
            path.lineTo(QPointF(start.left() + 5, drawn.place(ribbon.callee).top() + 2 if down else end.bottom()))
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
        if (share >= LEAST_COUNTED and row in drawn.main) or selected:
            ahead = ribbon.caller != ribbon.callee and b.x() > a.x()
            gap, text = drawn.place(ribbon.caller).right() + drawn.gap * 0.38, count_text(ribbon.calls)  # and not upon the next node's mark
            if theme.metrics(theme.SMALL_PX, bold=selected).horizontalAdvance(text) > drawn.gap - MARK_PX / 2:
                text = brief_count(ribbon.calls)
            self._count(painter, _point_at(path, gap) if ahead else path.pointAtPercent(0.5), text, selected)

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
    """One node. A click selects it, a double click opens it, or folds it into what it belongs to."""

    def __init__(self, drawn: Drawn, node: int, page: Selection) -> None:
        super().__init__()
        self._drawn, self.node, self._page = drawn, node, page
        self.setToolTip(tip(self._words()))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def _words(self) -> str:
        one, total = self._drawn.graph.nodes[self.node], max(self._drawn.graph.total_ns, 1)
        said = f"{'rest of ' if one.rest else ''}{one.name}: {plural(one.calls, 'call')}, {time_text(one.self_ns)} self time, "
        said += f"{time_text(one.inclusive_ns)} with what it calls, {share_text(one.inclusive_ns / total)} of this reading."
        if not one.folded:
            return said + " Double-click to fold it into what it belongs to."
        return said + f" A {one.level} of {plural(len(one.functions), 'function')}. Double-click to open it."

    def boundingRect(self) -> QRectF:
        cell = self._drawn.place(self.node)
        return QRectF(cell.left() - 12, cell.top() - 3, self._drawn.name_room(self.node) + 18, cell.height() + 6)

    def paint(self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None) -> None:
        if painter is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        one, colours = self._drawn.graph.nodes[self.node], theme.now()
        cell, pill = self._drawn.place(self.node), self._drawn.pill(self.node)
        if self._page.selected_node() == self.node:
            painter.setPen(QPen(QColor(colours.accent), 2))
            painter.setBrush(QColor(colours.chosen))
            width = max(
                cell.width(),
                min(theme.metrics(NAME_PX, bold=one.folded).horizontalAdvance(label_of(one)), self._drawn.name_room(self.node)),
            )
            painter.drawRoundedRect(QRectF(cell.left() - 6, cell.top() - 2, width + 12, 42), 8, 8)
        self._paint_name(painter, cell, one)
        shape = QPainterPath()
        shape.addRoundedRect(pill, PILL_PX / 2, PILL_PX / 2)
        painter.fillPath(shape, colours.called(one.layer))
        painter.save()
        painter.setClipPath(shape)
        own = pill.width() * one.self_ns / max(one.inclusive_ns, 1)
        painter.fillRect(QRectF(pill.left(), pill.top(), own, pill.height()), colours.own(one.layer))
        painter.restore()
        self._paint_change(painter, pill, one)

    def _paint_name(self, painter: QPainter, cell: QRectF, node: Node) -> None:
        """The whole name where there is room for it, then the time, then whether it was edited."""
        colours, width = theme.now(), self._drawn.name_room(self.node) - 6
        words, small = theme.metrics(NAME_PX, bold=node.folded), theme.metrics(theme.SMALL_PX)
        name = words.elidedText(label_of(node), Qt.TextElideMode.ElideRight, int(width))
        room, left = QRectF(cell.left(), cell.top(), width, 20), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        ground = QColor(colours.paper)
        ground.setAlphaF(0.6)
        painter.fillRect(QRectF(cell.left() - 2, cell.top() + 3, words.horizontalAdvance(name) + 4, 15), ground)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(NAME_PX, bold=node.folded))
        painter.drawText(room, left, name)
        painter.setPen(QColor(colours.soft))
        painter.setFont(theme.font(theme.SMALL_PX))
        at = words.horizontalAdvance(name) + 7
        edited = any(self._drawn.view.edited(function) for function in node.functions)
        for text in (*(["edited"] if edited else []), time_text(node.inclusive_ns)):
            if at + small.horizontalAdvance(text) <= width:
                painter.drawText(room.adjusted(at, 0, 0, 0), left, text)
                at += small.horizontalAdvance(text) + 7

    def _paint_change(self, painter: QPainter, pill: QRectF, node: Node) -> None:
        """Dashed outline: the round compared with; with a mark for faster or slower where that is known."""
        if not node.base_ns:
            return
        colours = theme.now()
        length = max(self._drawn.cell * min(node.base_ns / max(self._drawn.graph.total_ns, 1), 1.0), LEAST_PILL_PX)
        pen = QPen(QColor(colours.soft), 1)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(QRectF(pill.left(), pill.top() - 2, length, pill.height() + 4), PILL_PX / 2 + 2, PILL_PX / 2 + 2)
        if not node.folded and self._drawn.view.part_is_sure(node.functions[0], node.base_ns, node.inclusive_ns):
            paint_mark(painter, QPointF(pill.left() - 9, pill.center().y()), node.base_ns > node.inclusive_ns)

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.take(self.node)
        super().mousePressEvent(event)

    def mouseDoubleClickEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.fold(self.node)

    def contextMenuEvent(self, event: QGraphicsSceneContextMenuEvent | None) -> None:
        if event is not None:
            self._page.menu_at(self.node, event.scenePos())
