"""A ranking as a table: a filter above, a bar in each row, the order shown and remembered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache, partial
from typing import Any

import numpy as np
from PyQt6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QModelIndex,
    QObject,
    QPoint,
    QPointF,
    QRect,
    QRectF,
    QSettings,
    Qt,
    QTimer,
    pyqtSignal,
)
from PyQt6.QtGui import QAction, QColor, QPainter
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QSizePolicy,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.look import theme
from ricerca.desk.look.painting import change_colour, paint_bar, paint_growth, paint_mark
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.column_room import ALWAYS, Wish, share_out
from ricerca.engine.slices import Growth
from ricerca.report.wording import factor_text, time_text

ROW_PX = 30
GROWTH_PX, LEAST_NAME_PX = 30, 60
ELASTIC = "what"
"""The column that gets the room that others leave."""
LEAST_BAR_PX, LEAST_ELASTIC_PX, LEAST_ELASTIC_SHARE, CELL_MARGIN_PX = 60, 150, 0.72, 8
MEASURED_ROWS = 120
SHOWN, HIDDEN = "shown", "hidden"


@dataclass(frozen=True)
class Bar:
    """What a bar shows; times in ns, full_ns fills the column."""

    full_ns: float
    own_ns: float
    whole_ns: float
    base_ns: float | None
    layer: str


@dataclass(frozen=True)
class Column:
    """One column: its words, and how a row is written, ordered and explained."""

    key: str
    title: str
    width: int
    """Pixels of a column without text; of the elastic one, the most that others make room for; of others content decides."""
    text: Callable[[int], str] | None = None
    order: np.ndarray | Sequence[Any] | Callable[[], np.ndarray] | None = None
    explain: Callable[[int], str] | None = None
    bar: Callable[[int], Bar] | None = None
    gain: Callable[[int], float | None] | None = None
    under: Callable[[int], str] | None = None
    grown: Callable[[int], Growth | None] | None = None
    left: bool = False
    mono: bool = False
    soft: bool = False
    sure: Callable[[int], bool] | None = None
    """Whether a change is more than chance; without evidence it is grey."""
    importance: int = ALWAYS
    """Where there is not room for all columns, those of the greatest number are left out first."""
    rising: bool = False
    """Whether the first click on its head sorts from the smallest up."""


@dataclass(frozen=True, slots=True)
class Cell:
    """All that is painted in one place of a table; asked for at once, since each question costs."""

    text: str = ""
    under: str = ""
    bar: Bar | None = None
    gain: float | None = None
    grown: Growth | None = None
    left: bool = False
    mono: bool = False
    soft: bool = False


class FigureModel(QAbstractTableModel):
    """Rows of engine arrays in an order, filtered by text."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.columns: list[Column] = []
        self.rows = np.zeros(0, np.int64)
        self._all = np.zeros(0, np.int64)
        self._words: Callable[[], list[str]] = list
        self._filter = ""
        self.sort_key, self.descending = "", True

    def show(self, columns: list[Column], rows: np.ndarray, words: Callable[[], list[str]]) -> None:
        """Take new columns and rows; words()[row] is what the filter looks through."""
        self.beginResetModel()
        self.columns, self._all, self._words = columns, rows, cache(words)
        if columns and self.sort_key not in [column.key for column in columns]:
            self.sort_key = ""
        self._arrange()
        self.endResetModel()

    def _arrange(self) -> None:
        rows = self._all
        if self._filter:
            parts, words = self._filter.lower().split(), self._words()
            rows = np.asarray([row for row in rows if all(part in words[row] for part in parts)], np.int64)
        column = next((c for c in self.columns if c.key == self.sort_key and c.order is not None), None)
        if column is not None and len(rows):
            keys = np.asarray(column.order() if callable(column.order) else column.order)[rows]
            if keys.dtype.kind in "iuf":
                order = np.argsort(-keys if self.descending else keys, kind="stable")
            else:
                order = np.argsort(keys, kind="stable")
                order = order[::-1] if self.descending else order
            rows = rows[order]
        self.rows = rows

    def set_filter(self, text: str) -> None:
        self.beginResetModel()
        self._filter = text.strip()
        self._arrange()
        self.endResetModel()

    def set_order(self, key: str, descending: bool) -> None:
        self.beginResetModel()
        self.sort_key, self.descending = key, descending
        self._arrange()
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.columns):
            return None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            arrow = (" ↓" if self.descending else " ↑") if column.key == self.sort_key else ""
            return column.title + arrow
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if column.left or column.bar else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def cell(self, index: QModelIndex) -> Cell:
        """What to paint."""
        column, row = self.columns[index.column()], int(self.rows[index.row()])
        if column.bar:
            return Cell(bar=column.bar(row))
        if column.gain:
            return Cell(gain=column.gain(row), soft=column.sure is not None and not column.sure(row))
        if column.key == "rank":
            return Cell(str(index.row() + 1), soft=True)
        text = column.text(row) if column.text else ""
        grown = column.grown(row) if column.grown else None
        return Cell(text, column.under(row) if column.under else "", grown=grown, left=column.left, mono=column.mono, soft=column.soft)

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        if not index.isValid() or index.row() >= len(self.rows):
            return None
        column, row = self.columns[index.column()], int(self.rows[index.row()])
        if role == Qt.ItemDataRole.DisplayRole:
            if column.key == "rank":
                return str(index.row() + 1)
            return column.text(row) if column.text else None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if column.left else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return tip(column.explain(row)) if column.explain else None
        return None


class FigureDelegate(QStyledItemDelegate):
    """Paints bars, changes with their mark, names with their place beside them."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        colours = theme.now()
        room = QRect(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(room, QColor(colours.chosen))
        room.adjust(8, 0, -8, 0)
        model = index.model()
        cell: Cell = model.cell(index)
        if cell.bar is not None:
            bar = cell.bar
            paint_bar(painter, QRectF(room), bar.full_ns, bar.own_ns, bar.whole_ns, bar.base_ns, bar.layer)
            return
        painter.save()
        if cell.gain is not None:
            self._paint_gain(painter, room, cell.gain, not cell.soft)
        else:
            if cell.grown is not None:
                room = self._paint_growth(painter, room, cell.grown)
            self._paint_text(painter, room, cell)
        painter.restore()

    def _paint_gain(self, painter: QPainter, room: QRect, gain: float, sure: bool) -> None:
        painter.setFont(theme.font())
        painter.setPen(change_colour(gain if sure else 0))
        sign = "−" if gain > 0 else "+" if gain < 0 else ""
        text = sign + time_text(abs(gain))
        painter.drawText(room, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        if gain and sure:
            width = theme.metrics().horizontalAdvance(text)
            paint_mark(painter, QPointF(room.right() - width - 8, room.center().y() + 1), gain > 0)

    def _paint_growth(self, painter: QPainter, room: QRect, grown: Growth) -> QRect:
        """The small line at the right end, with by how much; returns the room that is left."""
        text = factor_text(grown.factor)
        width = theme.metrics(theme.SMALL_PX).horizontalAdvance(text)
        if room.width() < width + GROWTH_PX + LEAST_NAME_PX + 16:
            return room
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(theme.now().slower))
        painter.drawText(room, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        line = QRectF(room.right() - width - 16 - GROWTH_PX, room.top() + 7, GROWTH_PX, room.height() - 14)
        paint_growth(painter, line, grown)
        paint_mark(painter, QPointF(room.right() - width - 7, room.center().y() + 1), False)
        return room.adjusted(0, 0, -width - GROWTH_PX - 24, 0)

    def _paint_text(self, painter: QPainter, room: QRect, cell: Cell) -> None:
        colours = theme.now()
        size = theme.CODE_PX if cell.mono else theme.TEXT_PX
        painter.setFont(theme.font(size, mono=cell.mono))
        painter.setPen(QColor(colours.soft if cell.soft else colours.ink))
        metrics = theme.metrics(size, mono=cell.mono)
        shown, width = cell.text, metrics.horizontalAdvance(cell.text)
        if width > room.width():
            shown, width = metrics.elidedText(cell.text, Qt.TextElideMode.ElideRight, room.width()), room.width()
        baseline = room.center().y() + (metrics.ascent() - metrics.descent()) // 2 + 1
        painter.drawText(room.left() if cell.left else room.right() - width, baseline, shown)
        used = width + 8
        if cell.under and room.width() - used >= theme.metrics(theme.SMALL_PX).horizontalAdvance(cell.under):  # whole or not at all
            painter.setFont(theme.font(theme.SMALL_PX))
            painter.setPen(QColor(colours.soft))
            painter.drawText(room.left() + used, baseline, cell.under)


class FigureTable(QWidget):
    """Filter and table. Emits the engine row that is chosen."""

    chosen = pyqtSignal(int)
    opened = pyqtSignal(int)
    gathered = pyqtSignal(list)
    """The engine rows that are selected together."""
    asked = pyqtSignal(QPoint)
    """A menu is asked for, at this place of the table's view."""

    def __init__(self, name: str, settings: QSettings, default_order: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._name, self._settings = name, settings
        self._wishes: list[Wish] = []
        self.model = FigureModel(self)
        self.model.sort_key = str(settings.value(f"order/{name}/key", default_order))
        self.model.descending = settings.value(f"order/{name}/descending", "true") in (True, "true")
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter: part of a name, file or layer")
        self.filter.setAccessibleName(f"Filter {name}")
        self.filter.setClearButtonEnabled(True)
        self.filter.setFixedWidth(290)
        self.summary = QLabel()
        self.summary.setObjectName("soft")
        self.summary.setWordWrap(True)
        self.summary.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.view = QTableView()
        self.view.setAccessibleName(f"Ranking of {name}")
        self._dress_view()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(120)
        self._timer.timeout.connect(self._apply_filter)
        self.filter.textChanged.connect(lambda _text: self._timer.start())
        above = QHBoxLayout()
        above.setContentsMargins(8, 8, 8, 8)
        above.addWidget(self.filter)
        above.addSpacing(12)
        above.addWidget(self.summary, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(above)
        self.below_head = QVBoxLayout()
        self.below_head.setContentsMargins(12, 0, 12, 0)
        layout.addLayout(self.below_head)
        layout.addWidget(self.view, 1)
        self._wanted = -1

    def _dress_view(self) -> None:
        view = self.view
        view.setModel(self.model)
        view.setItemDelegate(FigureDelegate(view))
        view.setShowGrid(False)
        view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        view.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        view.setTabKeyNavigation(False)
        view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        view.customContextMenuRequested.connect(self.asked)
        view.verticalHeader().hide()
        view.verticalHeader().setDefaultSectionSize(ROW_PX)
        header = view.horizontalHeader()
        header.setSectionsClickable(True)
        header.setHighlightSections(False)
        header.setSortIndicatorShown(False)
        header.setMinimumSectionSize(24)
        header.sectionClicked.connect(self._on_head)
        header.sectionResized.connect(self._keep_width)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        header.customContextMenuRequested.connect(lambda place: self.column_menu().exec(header.mapToGlobal(place)))
        header.setToolTip("Click a head to sort. Right-click to choose columns.")
        view.installEventFilter(self)
        view.selectionModel().currentRowChanged.connect(lambda _now, _before: self._take_current())
        view.selectionModel().selectionChanged.connect(lambda _now, _before: self._on_selection())
        view.doubleClicked.connect(lambda index: self.opened.emit(int(self.model.rows[index.row()])))

    def show_rows(self, columns: list[Column], rows: np.ndarray, words: Callable[[], list[str]]) -> None:
        """Fill the table."""
        self.view.selectionModel().blockSignals(True)
        self.model.show(columns, rows, words)
        self.view.selectionModel().blockSignals(False)
        self._wishes = [self._wish(column) for column in columns]
        self.fit_columns()
        self.select(self._wanted)

    def _wish(self, column: Column) -> Wish:
        """What a column asks for: what a person gave it, else what its content takes in the rows that are seen first."""
        elastic, bar = column.key == ELASTIC, column.bar is not None
        given = self._settings.value(f"width/{self._name}/{column.key}")
        if given is not None and not elastic:
            return Wish(column.key, int(given), column.importance)
        if bar:
            return Wish(column.key, column.width, column.importance, least=LEAST_BAR_PX)
        if column.key == "rank":
            return Wish(column.key, column.width)
        size = theme.CODE_PX if column.mono else theme.TEXT_PX
        metrics = theme.metrics(size, mono=column.mono)
        rows = [int(row) for row in self.model.rows[:MEASURED_ROWS]]
        texts = [column.text(row) for row in rows] if column.text else []
        if column.gain is not None:
            texts = ["▼ " + time_text(abs(column.gain(row) or 0)) for row in rows]
        longest = max(map(metrics.horizontalAdvance, texts), default=0)
        head = theme.metrics(theme.SMALL_PX, bold=True).horizontalAdvance(column.title + " ↓") + 4
        wanted = max(longest, head) + 2 * CELL_MARGIN_PX + 2
        if elastic:
            wanted = min(max(wanted, LEAST_ELASTIC_PX), column.width)
            return Wish(column.key, wanted, least=max(LEAST_ELASTIC_PX, int(wanted * LEAST_ELASTIC_SHARE)), elastic=True)
        return Wish(column.key, wanted, column.importance)

    def fit_columns(self) -> None:
        """Share the table's width out among the columns."""
        header = self.view.horizontalHeader()
        choice = {key: str(self._settings.value(f"column/{self._name}/{key}", "")) for key in (wish.key for wish in self._wishes)}
        fixed, hidden = ([key for key, value in choice.items() if value == wanted] for wanted in (SHOWN, HIDDEN))
        bar = self.view.verticalScrollBar().sizeHint().width()
        widths = share_out(self._wishes, self.view.width() - bar, fixed, hidden)
        header.blockSignals(True)
        for number, wish in enumerate(self._wishes):
            self.view.setColumnHidden(number, wish.key not in widths)
            if wish.key in widths:
                self.view.setColumnWidth(number, widths[wish.key])
        header.blockSignals(False)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if watched is self.view and event is not None and event.type() == QEvent.Type.Resize:
            self.fit_columns()
        return super().eventFilter(watched, event)

    def column_menu(self) -> QMenu:
        """Which columns are shown: as there is room, always, or never."""
        menu = QMenu(self)
        for column in self.model.columns:
            if column.key in (ELASTIC, "rank"):
                continue
            number = [other.key for other in self.model.columns].index(column.key)
            action = QAction(column.title, menu)
            action.setCheckable(True)
            action.setChecked(not self.view.isColumnHidden(number))
            action.triggered.connect(partial(self.show_column, column.key))
            menu.addAction(action)
        menu.addSeparator()
        menu.addAction("Columns and widths as they fit", self.reset_columns)
        return menu

    def show_column(self, key: str, shown: bool) -> None:
        """Show a column in any case, or not at all; remembered."""
        self._settings.setValue(f"column/{self._name}/{key}", SHOWN if shown else HIDDEN)
        self.fit_columns()

    def reset_columns(self) -> None:
        """Forget which columns and widths a person wanted."""
        for column in self.model.columns:
            self._settings.remove(f"column/{self._name}/{column.key}")
            self._settings.remove(f"width/{self._name}/{column.key}")
        self._wishes = [self._wish(column) for column in self.model.columns]
        self.fit_columns()

    def _on_head(self, section: int) -> None:
        column = self.model.columns[section]
        if column.order is None:
            return
        same = column.key == self.model.sort_key
        descending = not self.model.descending if same else not column.rising
        self.model.set_order(column.key, descending)
        self._settings.setValue(f"order/{self._name}/key", column.key)
        self._settings.setValue(f"order/{self._name}/descending", "true" if descending else "false")
        self.select(self._wanted)

    def _keep_width(self, section: int, _old: int, new: int) -> None:
        if section < len(self.model.columns) and self.model.columns[section].key != ELASTIC and new > 0:
            self._settings.setValue(f"width/{self._name}/{self.model.columns[section].key}", new)
            self._wishes[section] = self._wish(self.model.columns[section])

    def _apply_filter(self) -> None:
        self.model.set_filter(self.filter.text())
        self.select(self._wanted)

    def _on_selection(self) -> None:
        self._take_current()  # the mouse makes a row current first and selects it then; keys do both at once
        self.gathered.emit(self.selected_rows())

    def _take_current(self) -> None:
        # a view that merely gets the keyboard makes its first row current without selecting it
        index = self.view.currentIndex()
        if index.isValid() and index.row() < len(self.model.rows) and self.view.selectionModel().isSelected(index):
            row = int(self.model.rows[index.row()])
            if row != self._wanted:
                self._wanted = row
                self.chosen.emit(row)

    def selected_rows(self) -> list[int]:
        """The engine rows that are selected."""
        return [
            int(self.model.rows[index.row()]) for index in self.view.selectionModel().selectedRows() if index.row() < len(self.model.rows)
        ]

    def select(self, row: int) -> None:
        """Mark an engine row without telling anyone, and bring it into sight; several that were selected with it stay so."""
        self._wanted = row
        together = self.selected_rows()
        if len(together) > 1 and row in together:
            return
        found = np.flatnonzero(self.model.rows == row)
        selection = self.view.selectionModel()
        before = self.view.currentIndex().row()
        selection.blockSignals(True)
        if len(found):
            self.view.selectRow(int(found[0]))
            self.view.scrollTo(self.model.index(int(found[0]), 0))
        else:
            self.view.clearSelection()
        selection.blockSignals(False)
        for place in {before, self.view.currentIndex().row()}:  # the view was not told, so it does not repaint by itself
            if place >= 0:
                self.view.viewport().update(0, self.view.rowViewportPosition(place), self.view.viewport().width(), ROW_PX)
