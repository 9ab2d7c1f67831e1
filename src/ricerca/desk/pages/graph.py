"""The call graph: from left to right, pills for functions, ribbons for calls, lanes for layers."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QPainter,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import (
    QFileDialog,
    QGraphicsScene,
    QGraphicsView,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.pages.graph_items import Drawn, Lanes, Pill, paint_lane_name
from ricerca.desk.pages.graph_saving import save_graph
from ricerca.desk.pages.row_menu import Extra, show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.graph import DEFAULT_NODES, Fold, call_graph, folds_of, lay_out
from ricerca.engine.levels import MODULE, PACKAGE
from ricerca.report.wording import count_text, plural, time_text

MOST_NODES = 120
LEAST_SHARE = 0.001
"""Of the whole: nodes with less are shown when more nodes are asked for."""
LEAST_SCALE = 0.8

LANE_NAME_PX = 20


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
        self.setViewportUpdateMode(QGraphicsView.ViewportUpdateMode.FullViewportUpdate)  # for the names that stay in sight

    def drawForeground(self, painter: QPainter | None, rect: QRectF) -> None:
        """The names of lanes whose beginning is scrolled out of sight."""
        viewport = self.viewport()
        if painter is None or viewport is None:
            return
        seen = self.mapToScene(viewport.rect()).boundingRect()
        for name, band in self._page.lane_bands():
            if band.left() < seen.left() and band.bottom() > seen.top() + LANE_NAME_PX:
                corner = QPointF(seen.left(), max(band.top(), seen.top()))
                wide = theme.metrics(theme.SMALL_PX, bold=True).horizontalAdvance(name) + 16
                ground = QColor(theme.now().paper)
                ground.setAlphaF(0.85)
                painter.fillRect(QRectF(corner, QSizeF(wide, LANE_NAME_PX)), ground)
                paint_lane_name(painter, name, corner)

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
            self._page.fold(self._page.selected_node())
        elif event.key() == keys.Key_Menu:
            self._page.show_menu(self._page.selected_node(), self.rect().center())
        else:
            super().keyPressEvent(event)


class GraphPage(SeenPage):
    """Callers and callees in the reading, cut to what matters."""

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
        state.selection_changed.connect(self._follow_hand)

    # ---- what is shown

    def draw(self, view: View) -> None:
        """Choose and lay out the graph away from the interface, then show it."""
        most, folded, hand = self.slider.value(), frozenset(self._folded), self._state.selected

        def make() -> Drawn:
            graph = call_graph(view.loaded.profile, most, folded, hand, LEAST_SHARE if most == DEFAULT_NODES else 0.0)
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
        self.summary.setText(said if graph.nodes else "There are no calls in this reading.")
        self.show_hand()

    def lane_bands(self) -> list[tuple[str, QRectF]]:
        """Layer and room of each lane that is drawn."""
        return self._drawn.bands() if self._drawn is not None and self._drawn.graph.nodes else []

    def selected_node(self) -> int:
        """Place of the node that holds the selected function, -1 where it is hidden."""
        if self._drawn is None:
            return -1
        hand = self._state.selected
        return next((at for at, node in enumerate(self._drawn.graph.nodes) if hand in node.functions), -1)

    def show_hand(self) -> bool:
        """Bring the selected node into sight; whether there is one, which there need not be in what is read."""
        scene, node = self.view.scene(), self.selected_node()
        if scene is not None and self._drawn is not None:
            scene.update()
            if node >= 0:
                self.view.ensureVisible(self._drawn.place(node), 40, 40)
        return node >= 0

    def _follow_hand(self) -> None:
        if self._drawn is None or not self.isVisible() or self.show_hand():
            return
        if self._drawn.view is self._state.view and self._state.selected >= 0:
            self.refresh()

    # ---- acting

    def take(self, node: int) -> None:
        """Select a node's function; of a folded module the one with most time of its own."""
        if self._drawn is not None and 0 <= node < len(self._drawn.graph.nodes):
            figures = self._drawn.view.loaded.figures
            self._state.select(max(self._drawn.graph.nodes[node].functions, key=lambda one: int(figures.self_ns[one])))

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
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return
        if into is None and self._drawn.graph.nodes[node].folded:
            self.unfold(node)
            return
        into = into or next((one for one in self.folds(node) if one[0] == MODULE), None)
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
        drawn, now = self._drawn, self.selected_node()
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
