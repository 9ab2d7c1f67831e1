"""The call tree, opened along the heaviest path; rows are made when they are first seen."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractItemModel, QModelIndex, QObject, QPoint, QSettings, Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTreeView, QVBoxLayout, QWidget

from ricerca.desk.look.tips import tip
from ricerca.desk.pages.figure_table import ROW_PX, Bar, Cell, FigureDelegate
from ricerca.desk.pages.row_menu import show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.levels import FUNCTION
from ricerca.engine.reading import STEP
from ricerca.engine.tree import children, context_of, heaviest_path, path_to, roots
from ricerca.engine.view import match_children
from ricerca.report.wording import count_text, place_text, plural, share_text, time_text

SMALL_SHARE = 0.01
COLUMNS = ("call", "time", "inclusive", "change", "self", "calls")


class Node:
    """One row: a context, or the gathered remainder of small siblings (context -1)."""

    __slots__ = ("base", "children", "context", "parent", "rest", "row")

    def __init__(self, context: int, base: int, parent: Node | None, row: int) -> None:
        self.context, self.base, self.parent, self.row = context, base, parent, row
        self.children: list[Node] | None = None
        self.rest: list[tuple[int, int]] = []


class TreeModel(QAbstractItemModel):
    """Contexts as rows. Siblings below one percent of the run are gathered in a row that opens."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._view: View | None = None
        self._top = Node(-1, -1, None, 0)
        self._top.children = []

    def show(self, view: View | None) -> None:
        self.beginResetModel()
        self._view = view
        self._top = Node(-1, -1, None, 0)
        self._top.children = []
        if view is not None:
            firsts = roots(view.loaded.tree)
            bases = [-1] * len(firsts)
            if view.comparison:
                bases = self._match_roots(view, firsts)
            self._top.children = self._make(list(zip(map(int, firsts), bases, strict=True)), self._top)
        self.endResetModel()

    def shows(self, view: View) -> bool:
        """Whether the rows are those of this view."""
        return self._view is view

    @staticmethod
    def _match_roots(view: View, firsts: np.ndarray) -> list[int]:
        left = [int(context) for context in roots(view.base.tree)]
        found = []
        for context in firsts:
            wanted = view.comparison.partner.get(int(view.loaded.tree.function[context]), -1)
            twin = next((c for c in left if int(view.base.tree.function[c]) == wanted), -1)
            if twin >= 0:
                left.remove(twin)
            found.append(twin)
        return found

    def _make(self, pairs: list[tuple[int, int]], parent: Node) -> list[Node]:
        profile = self._view.loaded.tree
        floor = SMALL_SHARE * max(profile.total_ns, 1)
        large = [pair for pair in pairs if profile.inclusive_ns[pair[0]] >= floor]
        small = pairs[len(large) :]
        if len(small) < 2 or (parent.context == -1 and parent.rest):
            large, small = pairs, []
        nodes = [Node(context, base, parent, row) for row, (context, base) in enumerate(large)]
        if small:
            rest = Node(-1, -1, parent, len(nodes))
            rest.rest = small
            nodes.append(rest)
        return nodes

    def _children_of(self, node: Node) -> list[Node]:
        if node.children is None:
            if node.rest:
                node.children = self._make(node.rest, node)
            else:
                below = children(self._view.loaded.tree, node.context)
                bases = [-1] * len(below)
                if self._view.comparison:
                    bases = match_children(self._view.comparison, below, node.base, self._view.base.tree, self._view.loaded.tree)
                node.children = self._make(list(zip(map(int, below), bases, strict=True)), node)
        return node.children

    def node(self, index: QModelIndex) -> Node:
        """The row's node; the invisible top for an invalid index."""
        return index.internalPointer() if index.isValid() else self._top

    def index(self, row: int, column: int, parent: QModelIndex = QModelIndex()) -> QModelIndex:  # noqa: B008
        below = self._children_of(self.node(parent))
        return self.createIndex(row, column, below[row]) if 0 <= row < len(below) else QModelIndex()

    def parent(self, index: QModelIndex = QModelIndex()) -> QModelIndex:  # noqa: B008
        node = self.node(index).parent
        return QModelIndex() if node is None or node.parent is None else self.createIndex(node.row, 0, node)

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.column() > 0 or self._view is None else len(self._children_of(self.node(parent)))

    def hasChildren(self, parent: QModelIndex = QModelIndex()) -> bool:  # noqa: B008
        if self._view is None:
            return False
        node = self.node(parent)
        if node.context < 0:
            return True
        return int(self._view.loaded.tree.end[node.context]) > node.context + 1

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if section < 2 else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def _figures(self, node: Node) -> tuple[int, int, int, int | None]:
        """Inclusive ns, self ns, calls, inclusive ns in the base round."""
        profile = self._view.loaded.tree
        contexts = [node.context] if node.context >= 0 else [context for context, _base in node.rest]
        base = None
        if self._view.base is not None:
            bases = [node.base] if node.context >= 0 else [b for _context, b in node.rest]
            base = int(sum(self._view.base.tree.inclusive_ns[b] for b in bases if b >= 0))
        return (
            int(profile.inclusive_ns[contexts].sum()),
            int(profile.self_ns[contexts].sum()),
            int(profile.calls[contexts].sum()),
            base,
        )

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        if not index.isValid() or self._view is None:
            return None
        node, column = self.node(index), COLUMNS[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if index.column() < 2 else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        profile = self._view.loaded.tree
        function = int(profile.function[node.context]) if node.context >= 0 else -1
        if column == "call":
            return self._name(node, function, role)
        inclusive, own, calls, _base = self._figures(node)
        if role == Qt.ItemDataRole.DisplayRole:
            return {"inclusive": time_text(inclusive), "self": time_text(own) if function >= 0 else "",
                    "calls": count_text(calls)}.get(column)  # fmt: skip
        if role == Qt.ItemDataRole.ToolTipRole:
            share, what = share_text(inclusive / max(profile.total_ns, 1)), self._view.loaded.what
            return tip(f"{time_text(inclusive)} here and below, {share} of {what}; {time_text(own)} of it here; {plural(calls, 'call')}.")
        return None

    def cell(self, index: QModelIndex) -> Cell:
        """What to paint."""
        node, column = self.node(index), COLUMNS[index.column()]
        profile = self._view.loaded.tree
        function = int(profile.function[node.context]) if node.context >= 0 else -1
        if column == "call":
            line = int(profile.line[node.context]) if function >= 0 else 0
            name, thread = self._name(node, function, Qt.ItemDataRole.DisplayRole) or "", self._thread(node)
            if thread:  # the first rows are told apart by it
                return Cell(thread, name, left=True)
            return Cell(name, f"from line {line}" if line else "", left=True)
        inclusive, own, calls, base = self._figures(node)
        own = own if function >= 0 else 0
        if column == "time":
            full = max(profile.total_ns, self._view.base.tree.total_ns if self._view.base else 0, 1)
            layer = profile.functions.layer[function] if function >= 0 else "mine"
            return Cell(bar=Bar(float(full), own, inclusive, base, layer))
        if column == "change":
            sure = base is not None and function >= 0 and self._view.part_is_sure(function, base, inclusive)
            return Cell(gain=None if base is None else float(base - inclusive), soft=not sure)
        return Cell(
            {"inclusive": time_text(inclusive), "self": time_text(own) if function >= 0 else "", "calls": count_text(calls)}[column]
        )

    def _thread(self, node: Node) -> str:
        """Thread and process of a first row, where there are several."""
        tree = self._view.loaded.tree
        if node.context < 0 or len(tree.thread_name) < 2 or tree.parent[int(tree.parent[node.context])] >= 0:
            return ""
        thread = int(tree.thread[node.context])
        processes = len(set(np.asarray(tree.thread_process).tolist()))
        return tree.thread_name[thread] + (f", process {int(tree.thread_process[thread])}" if processes > 1 else "")

    def _name(self, node: Node, function: int, role: int) -> str | None:
        table = self._view.loaded.tree.functions
        if function < 0:
            return f"{count_text(len(node.rest))} smaller calls" if role == Qt.ItemDataRole.DisplayRole else None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return table.name[function]
        line = int(self._view.loaded.tree.line[node.context])
        if role == Qt.ItemDataRole.ToolTipRole:
            place = place_text(table.file[function], int(table.first_line[function]), table.module[function])
            return tip(f"{table.name[function]} ({place})" + (f", called from line {line}" if line else ""))
        return None


INDENT_PX, LEAST_INDENT_PX, INDENT_SHARE = 14, 4, 0.45


class TreePage(SeenPage):
    """The tree of calls, each bar on the scale of the whole run."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self._settings: QSettings = state.settings
        self.model = TreeModel(self)
        self.view = QTreeView()
        self.view.setAccessibleName("Call tree")
        self.view.setModel(self.model)
        self.view.setItemDelegate(FigureDelegate(self.view))
        self.view.setUniformRowHeights(True)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self._deepest = 1
        self.view.setIndentation(INDENT_PX)
        self.view.expanded.connect(self._opened)
        self.view.setStyleSheet(f"QTreeView::item {{ height: {ROW_PX}px; }}")
        header = self.view.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.sectionResized.connect(lambda section, _old, _new: self._indent() if section == 0 else None)
        for section, width in enumerate((240, 108, 80, 92, 76, 80)):
            self.view.setColumnWidth(section, width)
        self.view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.view.customContextMenuRequested.connect(self._show_menu)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.addWidget(self.view)
        self._following = False
        self.view.selectionModel().currentChanged.connect(lambda _now, _before: self._take_current())
        self.view.selectionModel().selectionChanged.connect(lambda _now, _before: self._take_current())  # the mouse selects later
        state.selection_changed.connect(self._follow_hand)

    def _show_menu(self, place: QPoint) -> None:
        """What can be done with a row: with the function, and with this chain of calls alone."""
        view, node = self._state.view, self.model.node(self.view.currentIndex())
        if view is None or node.context < 0:
            return
        tree, extra = view.loaded.tree, []
        path, now = path_to(tree, node.context), self._state.reading
        if len(path) > 1 and now.level == FUNCTION:
            chain = STEP.join(tree.functions.name[tree.function[context]] for context in path)
            reading = replace(now, inside=(*now.inside, chain))
            extra.append(("Only inside this chain of calls", lambda: self._state.set_reading(reading)))
        show_row_menu(self._state, self.view.viewport() or self, place, tuple(extra))

    def _opened(self, index: QModelIndex) -> None:
        depth = 1
        while index.isValid():
            index, depth = index.parent(), depth + 1
        if depth > self._deepest:
            self._deepest = depth
            self._indent()

    def _indent(self) -> None:
        """Deep trees step in by less, so that names keep room."""
        room = self.view.columnWidth(0) * INDENT_SHARE / self._deepest
        self.view.setIndentation(int(min(max(room, LEAST_INDENT_PX), INDENT_PX)))

    def clear(self) -> None:
        """No rows."""
        self.model.show(None)

    def draw(self, view: View) -> None:
        """Show the tree, open along the heaviest path and at the selected function."""
        self._following = True
        self.model.show(view)
        self._deepest = 1
        self._indent()
        self.view.setColumnHidden(COLUMNS.index("change"), view.base is None)
        self._open(heaviest_path(view.loaded.tree), select=False)
        self._following = False
        self._follow_hand()

    def _open(self, path: tuple[int, ...], select: bool) -> None:
        """Open the rows of a chain of contexts, the gathered ones too where it leads through them."""
        index = QModelIndex()
        for context in path:
            found = self._row_of(index, context)
            if not found.isValid():
                return
            for opened in (found.parent(), index):
                if opened.isValid():
                    self.view.setExpanded(opened, True)
            index = found
        if index.isValid() and select:
            self.view.setCurrentIndex(index)
            self.view.scrollTo(index)
        elif index.isValid():
            self.view.setExpanded(index, True)

    def _row_of(self, parent: QModelIndex, context: int) -> QModelIndex:
        for row in range(self.model.rowCount(parent)):
            index = self.model.index(row, 0, parent)
            node = self.model.node(index)
            if node.context == context:
                return index
            if node.rest and any(pair[0] == context for pair in node.rest):
                return self._row_of(index, context)
        return QModelIndex()

    def _take_current(self) -> None:
        index = self.view.currentIndex()
        node = self.model.node(index)
        chosen = index.isValid() and self.view.selectionModel().isSelected(index)  # and not merely current, as at a first focus
        if not self._following and chosen and node.context >= 0 and self._state.view:
            self._following = True
            self._state.select(int(self._state.view.loaded.tree.function[node.context]))
            self._following = False

    def _follow_hand(self) -> None:
        view = self._state.view
        if self._following or view is None or self._state.selected < 0 or not self.isVisible() or not self.model.shows(view):
            return
        context = context_of(view.loaded.tree, self._state.selected)
        if context >= 0:
            self._following = True
            self._open(path_to(view.loaded.tree, context), select=True)
            self._following = False
