"""The call graph: from left to right, pills for functions, ribbons for calls, lanes for layers."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSizeF, Qt
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QPainter,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import (
    QFileDialog,
    QGraphicsView,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.pages.graph_items import Drawn, drawn_of, paint_lane_name, scene_of
from ricerca.desk.pages.graph_saving import save_graph
from ricerca.desk.pages.row_menu import Extra, show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.graph import DEFAULT_NODES, MOST_NODES
from ricerca.engine.graph_groups import LAYER, Key, path_of
from ricerca.loading import Pair
from ricerca.model.errors import RicercaError
from ricerca.report.graph import graph_of
from ricerca.report.wording import count_text, plural, time_text

FEWER = (26, 23, 20, 17, 14)
"""How many nodes are tried where the usual number does not fit the page."""
LEAST_SCALE = 0.93
"""Smaller, names would be less than 12 pixels high."""

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
        size = self.maximumViewportSize()
        factor = min(size.width() / max(room.width(), 1), size.height() / max(room.height(), 1), 1.0)
        if factor >= LEAST_SCALE:
            self.scale(factor, factor)
            self.centerOn(room.center())
            return
        self.scale(LEAST_SCALE, LEAST_SCALE)  # smaller could not be read: begin at the left
        half = QPointF(size.width(), size.height()) / LEAST_SCALE / 2
        low = room.center().y() if room.height() < 2 * half.y() else room.top() + half.y()
        self.centerOn(QPointF(room.left() + half.x(), low))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if self._fitted:
            self._page.fill_room()
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


def _fold_words(key: Key) -> str:
    return f"Fold all of {key[1]} into one node" if key[0] == LAYER else f"Fold the {key[0]} {key[2]} into one node"


class GraphPage(SeenPage):
    """Callers and callees in the reading, cut to what matters."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self._drawn: Drawn | None = None
        self._opened: set[Key] = set()
        self._folded: set[Key] = set()
        self.view = Sheet(self)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(6, MOST_NODES)
        self.slider.setValue(DEFAULT_NODES)
        self.slider.setFixedWidth(120)
        self.slider.setAccessibleName("Number of nodes")
        self.slider.setToolTip("About how many nodes are shown. All time is in them: smaller parts are in groups.")
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
        most, opened, folded = self.slider.value(), frozenset(self._opened), frozenset(self._folded)
        room, pair = self._room(), view.pair or Pair(view.loaded)

        def make() -> Drawn:
            for nodes in (most, *(FEWER if most == DEFAULT_NODES else ())):
                graph = graph_of(pair, nodes, opened, folded)
                drawn = drawn_of(view, graph, room)
                if drawn.fits:
                    break
            return drawn

        self._state.workers.request("graph", make, self._show)

    def _room(self) -> tuple[float, float]:
        size = self.view.maximumViewportSize()  # else bars that come and go would have it laid out again and again
        return float(size.width()), float(size.height())

    def fill_room(self) -> None:
        """Lay the same graph out in the room that the page has now."""
        if self._drawn is not None and self._drawn.room != self._room():
            self._show(replace(self._drawn, room=self._room()))
            self.refresh()

    def _show(self, drawn: Drawn) -> None:
        if drawn.room != self._room():  # the page has got another size meanwhile
            drawn = replace(drawn, room=self._room())
        self._drawn = drawn
        scene = scene_of(drawn, self, self)
        self.view.setScene(scene)
        self.view.fit()
        graph = drawn.graph
        said = plural(len(graph.nodes), "node")
        groups = [node for node in graph.nodes if node.folded]
        if groups:
            inside, own_ns = sum(len(node.functions) for node in groups), sum(node.self_ns for node in groups)
            said += f"; {count_text(inside)} smaller functions in {plural(len(groups), 'group')}, {time_text(own_ns)}"
        self.summary.setText(said if graph.nodes else "There are no calls in this reading.")

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
        if self._drawn is not None and self.isVisible():
            self.show_hand()

    # ---- acting

    def take(self, node: int) -> None:
        """Select a node's function; of a folded module the one with most time of its own."""
        if self._drawn is not None and 0 <= node < len(self._drawn.graph.nodes):
            figures = self._drawn.view.loaded.figures
            self._state.select(max(self._drawn.graph.nodes[node].functions, key=lambda function: int(figures.self_ns[function])))

    def folds(self, node: int) -> list[Key]:
        """The groups that a node could be folded into, the smallest first; of its layer all is one node."""
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return []
        drawn_node = self._drawn.graph.nodes[node]
        path = path_of(drawn_node.functions[0], self._drawn.view.loaded.profile.functions, self._state.reading.level)[:-1]
        around = path[: path.index(drawn_node.key)] if drawn_node.key in path else path
        return list(reversed(around))

    def fold(self, node: int, into: Key | None = None) -> None:
        """Open a group, or fold a function into the smallest group around it (or into what is given)."""
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return
        one = self._drawn.graph.nodes[node]
        if into is None and one.folded:
            self._folded.discard(one.key)
            self._opened.add(one.key)
        else:
            into = into or next((key for key in self.folds(node)), None)
            if into is None:
                return
            self._opened.discard(into)
            self._folded.add(into)
        self.refresh()

    def show_menu(self, node: int, place: QPoint) -> None:
        """What can be done with a node, at a place of the view."""
        if self._drawn is None or not 0 <= node < len(self._drawn.graph.nodes):
            return
        self.take(node)
        extra: list[Extra] = [(_fold_words(key), partial(self.fold, node, key)) for key in self.folds(node)]
        if self._drawn.graph.nodes[node].folded:
            extra.insert(0, (f"Open {self._drawn.graph.nodes[node].name}", partial(self.fold, node)))
        if self._folded or self._opened:
            extra.append(("Undo all opening and folding", self.unfold_all))
        show_row_menu(self._state, self.view.viewport() or self, place, tuple(extra))

    def menu_at(self, node: int, place: QPointF) -> None:
        """Show what can be done with a node, at a place of the scene."""
        self.show_menu(node, self.view.mapFromScene(place))

    def unfold_all(self) -> None:
        """Show the graph as it opens by itself."""
        self._folded.clear()
        self._opened.clear()
        self.refresh()

    def walk(self, key: int) -> None:
        """Right and left along the heaviest ribbon, up and down within the column."""
        drawn, now = self._drawn, self.selected_node()
        if drawn is None:
            return
        if now < 0:
            self.take(0)
            return
        ribbons = [ribbon for ribbon in drawn.graph.ribbons if ribbon.caller != ribbon.callee]
        if key == Qt.Key.Key_Right:
            found = [ribbon.callee for ribbon in ribbons if ribbon.caller == now]
        elif key == Qt.Key.Key_Left:
            found = [ribbon.caller for ribbon in ribbons if ribbon.callee == now]
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
            except RicercaError as problem:
                self._state.failed.emit(str(problem))

    def save(self, path: Path) -> None:
        """Write the graph in the format of the file's ending."""
        scene = self.view.scene()
        if self._drawn is None or scene is None:
            return
        save_graph(path, self._drawn.graph, scene)
