"""The call graph: from left to right, pills for functions, ribbons for calls, lanes for layers."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QPainter,
    QPainterPath,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import (
    QFileDialog,
    QGraphicsItem,
    QGraphicsScene,
    QGraphicsSceneContextMenuEvent,
    QGraphicsSceneMouseEvent,
    QGraphicsView,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QStyleOptionGraphicsItem,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk import theme
from ricerca.desk.graph_saving import save_graph
from ricerca.desk.painting import paint_mark
from ricerca.desk.row_menu import Extra, show_row_menu
from ricerca.desk.seen_page import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.desk.tips import tip
from ricerca.engine.graph import DEFAULT_NODES, Fold, Graph, Layout, call_graph, folds_of, lay_out
from ricerca.engine.levels import MODULE, PACKAGE
from ricerca.wording import count_text, plural, share_text, time_text

CELL_PX, GAP_PX, ROW_PX, LANE_PX = 148, 58, 50, 22
PILL_PX, LEAST_PILL_PX = 16, 10
THICKEST_PX = 22.0
MOST_NODES = 120
LEAST_COUNTED = 0.03
LEAST_SCALE = 0.8


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
        bounds = drawn.bounds()
        for at, (name, first, rows) in enumerate(drawn.layout.lanes):
            band = QRectF(bounds.left(), first * ROW_PX + (at + 1) * LANE_PX - LANE_PX + 2, bounds.width(), rows * ROW_PX + LANE_PX - 4)
            faint = QColor(colours.called(name))
            faint.setAlphaF(0.22)
            painter.fillRect(band, faint)
            painter.setPen(colours.own(name))
            painter.setFont(theme.font(theme.SMALL_PX, bold=True))
            painter.drawText(QPointF(band.left() + 8, band.top() + 15), name)
        for number, cycle in enumerate(drawn.graph.cycles):
            self._enclose(painter, number, cycle.members)
        hand = self._page.node_in_hand()
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
        in_hand = hand in (ribbon.caller, ribbon.callee)
        colour.setAlphaF(0.75 if in_hand else 0.32)
        a, b = QPointF(start.right(), start.center().y()), QPointF(end.left() - 3, end.center().y())
        path = QPainterPath(a)
        if ribbon.caller == ribbon.callee:
            path.cubicTo(a + QPointF(34, -26), a + QPointF(34, 26), a + QPointF(0, 5))
        elif b.x() > a.x():
            bend = max((b.x() - a.x()) / 2, 24)
            path.cubicTo(a + QPointF(bend, 0), b - QPointF(bend, 0), b)
        else:  # back, as a ring of calls goes
            low = max(start.bottom(), end.bottom()) + 18
            path.cubicTo(a + QPointF(60, 0), QPointF(a.x() + 40, low), QPointF((a.x() + b.x()) / 2, low))
            path.cubicTo(QPointF(b.x() - 40, low), b - QPointF(60, 0), b)
        pen = QPen(colour, thick)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        if share >= LEAST_COUNTED or in_hand:
            ahead = ribbon.caller != ribbon.callee and b.x() > a.x()
            gap = drawn.place(ribbon.caller).right() + GAP_PX * 0.38  # and not upon the mark of the next node
            self._count(painter, _point_at(path, gap) if ahead else path.pointAtPercent(0.5), count_text(ribbon.calls), in_hand)

    @staticmethod
    def _count(painter: QPainter, at: QPointF, text: str, in_hand: bool) -> None:
        colours = theme.now()
        painter.setFont(theme.font(theme.SMALL_PX, bold=in_hand))
        width = theme.metrics(theme.SMALL_PX, bold=in_hand).horizontalAdvance(text)
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
    """One node. A click takes it in hand, a double click folds or opens its module."""

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
        said += f"{share_text(one.inclusive_ns / total)} of what is read."
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
        if self._page.node_in_hand() == self.node:
            painter.setPen(QPen(QColor(colours.accent), 2))
            painter.setBrush(QColor(colours.chosen))
            painter.drawRoundedRect(cell.adjusted(-5, -1, 5, 1), 8, 8)
        text = f"{one.name} +{len(one.functions)}" if one.folded else one.name
        took, words = time_text(one.inclusive_ns), theme.metrics(theme.SMALL_PX + 1, bold=one.folded)
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
        if abs(base[1] - inclusive_ns) > 0.02 * max(base[1], inclusive_ns):
            paint_mark(painter, QPointF(pill.left() - 9, pill.center().y()), base[1] > inclusive_ns)

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.take(self.node)
        super().mousePressEvent(event)

    def mouseDoubleClickEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        self._page.fold(self.node)

    def contextMenuEvent(self, event: QGraphicsSceneContextMenuEvent | None) -> None:
        if event is not None:
            self._page.show_menu(self.node, self._page.view.mapFromScene(event.scenePos()))


class Sheet(QGraphicsView):
    """Drag pans, the wheel zooms, Space fits, arrow keys walk."""

    def __init__(self, page: GraphPage) -> None:
        super().__init__(page)
        self._page = page
        self._fitted = True
        self.setAccessibleName("Call graph")
        self.setFrameShape(QGraphicsView.Shape.NoFrame)
        self.setDragMode(QGraphicsView.DragMode.ScrollHandDrag)
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
        self.setRenderHint(QPainter.RenderHint.Antialiasing)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.zoom(1.0015 ** event.angleDelta().y())

    def zoom(self, factor: float) -> None:
        """Make the picture larger or smaller."""
        now = self.transform().m11() * factor
        if 0.1 < now < 6:
            self._fitted = False
            self.scale(factor, factor)

    def fit(self) -> None:
        """Show all of it, but no larger than it is drawn."""
        scene = self.scene()
        if scene is None:
            return
        self._fitted = True
        self.resetTransform()
        room = scene.sceneRect()
        size = self.viewport().size() if self.viewport() else QSize(1, 1)
        factor = min(size.width() / max(room.width(), 1), size.height() / max(room.height(), 1), 1.0)
        if factor >= LEAST_SCALE:
            self.scale(factor, factor)
            self.centerOn(room.center())
            return
        self.scale(LEAST_SCALE, LEAST_SCALE)  # smaller could not be read: begin at the left
        half = QPointF(size.width(), size.height()) / LEAST_SCALE / 2
        low = room.center().y() if room.height() < 2 * half.y() else room.top() + half.y()
        self.centerOn(QPointF(room.left() + half.x(), low))
        self._page.show_hand()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if self._fitted:
            self.fit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        keys = Qt.Key
        if event.key() == keys.Key_Space:
            self.fit()
        elif event.key() in (keys.Key_Plus, keys.Key_Equal):
            self.zoom(1.2)
        elif event.key() == keys.Key_Minus:
            self.zoom(1 / 1.2)
        elif event.key() in (keys.Key_Left, keys.Key_Right, keys.Key_Up, keys.Key_Down):
            self._page.walk(event.key())
        elif event.key() in (keys.Key_Return, keys.Key_Enter):
            self._page.fold(self._page.node_in_hand())
        elif event.key() == keys.Key_Menu:
            self._page.show_menu(self._page.node_in_hand(), self.rect().center())
        else:
            super().keyPressEvent(event)


class GraphPage(SeenPage):
    """Who calls whom in the reading, cut to what matters."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self._drawn: Drawn | None = None
        self._pills: list[Pill] = []
        self._folded: set[Fold] = set()
        self.view = Sheet(self)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(5, MOST_NODES)
        self.slider.setValue(DEFAULT_NODES)
        self.slider.setFixedWidth(120)
        self.slider.setAccessibleName("Most nodes shown")
        self.slider.setToolTip("How many nodes are shown at most.")
        self.slider.valueChanged.connect(self.refresh)
        self.summary = QLabel()
        self.summary.setObjectName("soft")
        self.summary.setWordWrap(True)
        fit = QPushButton("Fit")
        fit.setObjectName("quiet")
        fit.setToolTip("Show all of it (Space).")
        fit.clicked.connect(lambda _checked: self.view.fit())
        save = QPushButton("Save…")
        save.setObjectName("quiet")
        save.setToolTip("Save this picture: SVG, PDF, PNG, DOT or GraphML.")
        save.clicked.connect(lambda _checked: self.ask_save())
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 16, 4)
        head.setSpacing(12)
        label = QLabel("nodes")
        label.setObjectName("soft")
        head.addWidget(label)
        head.addWidget(self.slider)
        head.addWidget(self.summary, 1)
        head.addWidget(fit)
        head.addWidget(save)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self.view, 1)
        state.hand_changed.connect(self._follow_hand)

    # ---- what is shown

    def draw(self, view: View) -> None:
        """Choose and lay out the graph away from the interface, then show it."""
        most, folded, hand = self.slider.value(), frozenset(self._folded), self._state.in_hand

        def make() -> Drawn:
            graph = call_graph(view.loaded.profile, most, folded, hand)
            return Drawn(view, graph, lay_out(graph))

        self._state.workers.request("graph", make, self._show)

    def _show(self, drawn: Drawn) -> None:
        self._drawn = drawn
        scene = QGraphicsScene(self)
        scene.setSceneRect(drawn.bounds())
        scene.addItem(Lanes(drawn, self))
        self._pills = [Pill(drawn, node, self) for node in range(len(drawn.graph.nodes))]
        for pill in self._pills:
            scene.addItem(pill)
        self.view.setScene(scene)
        self.view.fit()
        graph = drawn.graph
        said = plural(len(graph.nodes), "node")
        if graph.hidden:
            said += f"; {count_text(graph.hidden)} more are hidden, with {time_text(graph.hidden_ns)} of their own"
        self.summary.setText(said if graph.nodes else "Nothing is called in what is read.")
        self.show_hand()

    def node_in_hand(self) -> int:
        """Place of the node that holds the function in hand, -1 where it is hidden."""
        if self._drawn is None:
            return -1
        hand = self._state.in_hand
        return next((at for at, node in enumerate(self._drawn.graph.nodes) if hand in node.functions), -1)

    def show_hand(self) -> bool:
        """Bring the node in hand into sight; whether there is one, which there need not be in what is read."""
        scene, node = self.view.scene(), self.node_in_hand()
        if scene is not None and self._drawn is not None:
            scene.update()
            if node >= 0:
                self.view.ensureVisible(self._drawn.place(node), 40, 40)
        return node >= 0

    def _follow_hand(self) -> None:
        if self._drawn is None or not self.isVisible() or self.show_hand():
            return
        if self._drawn.view is self._state.view and self._state.in_hand >= 0:
            self.refresh()

    # ---- acting

    def take(self, node: int) -> None:
        """Take a node's function in hand; of a folded module the one with most time of its own."""
        if self._drawn is not None and 0 <= node < len(self._drawn.graph.nodes):
            figures = self._drawn.view.loaded.figures
            self._state.take_in_hand(max(self._drawn.graph.nodes[node].functions, key=lambda one: int(figures.self_ns[one])))

    def _folds(self, node: int) -> list[Fold]:
        """What a node is part of, the smallest first."""
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return []
        table, first = self._drawn.view.loaded.profile.functions, self._drawn.graph.nodes[node].functions[0]
        return list(folds_of(table.module[first], table.name[first], int(table.kind[first])).values())

    def folds(self, node: int) -> list[Fold]:
        """What a node could be folded into, the smallest first; for a folded one, into more."""
        found = self._folds(node)
        around = max((row + 1 for row, one in enumerate(found) if one in self._folded), default=0)
        modules = {name for level, name in found if level == MODULE}
        return [one for one in found[around:] if one[0] != PACKAGE or one[1] not in modules]

    def fold(self, node: int, into: Fold | None = None) -> None:
        """Fold a node into its module (or into what is given), or open a folded one."""
        folds = self.folds(node)
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return
        if into is None and self._drawn.graph.nodes[node].folded:
            self.unfold(node)
            return
        into = into or next((one for one in folds if one[0] == MODULE), None)
        if into is not None:
            self._folded.add(into)
            self.refresh()

    def unfold(self, node: int) -> None:
        """Open whatever a node is folded into."""
        self._folded -= set(self._folds(node))
        self.refresh()

    def show_menu(self, node: int, place: QPoint) -> None:
        """What can be done with a node, at a place of the view."""
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return
        self.take(node)
        extra: list[Extra] = [(f"Fold the {one[0]} {one[1]} into one node", partial(self.fold, node, one)) for one in self.folds(node)]
        if self._drawn.graph.nodes[node].folded:
            extra.insert(0, (f"Open {self._drawn.graph.nodes[node].name}", partial(self.unfold, node)))
        if self._folded:
            extra.append(("Open all that is folded", self.unfold_all))
        show_row_menu(self._state, self.view.viewport() or self, place, tuple(extra))

    def unfold_all(self) -> None:
        """Open everything that is folded."""
        self._folded.clear()
        self.refresh()

    def walk(self, key: int) -> None:
        """Right and left along the heaviest ribbon, up and down within the column."""
        drawn, now = self._drawn, self.node_in_hand()
        if drawn is None:
            return
        if now < 0:
            self.take(0)
            return
        ribbons = [one for one in drawn.graph.ribbons if one.caller != one.callee]
        if key == Qt.Key.Key_Right:
            found = [one.callee for one in ribbons if one.caller == now]
        elif key == Qt.Key.Key_Left:
            found = [one.caller for one in ribbons if one.callee == now]
        else:
            sign = 1 if key == Qt.Key.Key_Down else -1
            row = drawn.layout.row[now]
            found = sorted(
                (at for at in range(len(drawn.graph.nodes)) if drawn.layout.column[at] == drawn.layout.column[now]
                 and (drawn.layout.row[at] - row) * sign > 0),
                key=lambda at: abs(drawn.layout.row[at] - row),
            )  # fmt: skip
        if found:
            self.take(found[0])

    # ---- saving

    def ask_save(self) -> None:
        """Ask for a file and save the picture."""
        kinds = "SVG picture (*.svg);;PDF (*.pdf);;PNG picture (*.png);;DOT graph (*.dot);;GraphML (*.graphml)"
        name, _kind = QFileDialog.getSaveFileName(self, "Save the call graph", str(Path.cwd() / "calls.svg"), kinds)
        if name:
            try:
                self.save(Path(name))
            except OSError as problem:
                self._state.failed.emit(f"{name} could not be written: {problem.strerror}.")

    def save(self, path: Path) -> None:
        """Write the graph in the format of the file's ending."""
        scene = self.view.scene()
        if self._drawn is None or scene is None:
            return
        save_graph(path, self._drawn.graph, scene)
