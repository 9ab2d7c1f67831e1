"""Find anything: functions, files and lines, rounds, actions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QWidget

from ricerca.desk.reading.words import round_words
from ricerca.desk.state import DeskState
from ricerca.report.wording import place_text, time_text

MOST, MOST_TEXT, LEAST_PX = 14, 80, 520
MOST_LINES = 20_000
"""Of more lines the slowest are looked through, so that typing stays quick."""


@dataclass(frozen=True)
class Find:
    """One thing to be found, and what happens when it is chosen."""

    text: str
    act: Callable[[], None]


class TypedChoice(QLineEdit):
    """A line in which one types a part of a name; what fits is listed below, arrows and Enter choose."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setClearButtonEnabled(True)
        self.popup = QListWidget(self.window())
        self.popup.setWindowFlags(Qt.WindowType.ToolTip)
        self.popup.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.popup.setAccessibleName("Found")
        self.popup.setObjectName("found")
        self.popup.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.popup.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.popup.itemClicked.connect(lambda item: self._choose(item))
        self.textEdited.connect(lambda _text: self._search())
        self.installEventFilter(self)

    def found(self, text: str) -> list[Find]:
        """What fits a text, the best first."""
        raise NotImplementedError

    def leave(self) -> None:
        """What is done when one has chosen or gives up."""
        self.clear()
        self.clearFocus()

    def _search(self) -> None:
        self.popup.clear()
        for find in self.found(self.text()):
            item = QListWidgetItem(find.text)
            item.setData(Qt.ItemDataRole.UserRole, find)
            self.popup.addItem(item)
        if not self.text().strip():
            self.popup.hide()
            return
        if not self.popup.count():
            item = QListWidgetItem("Nothing of that name")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.popup.addItem(item)
        width = max(self.width(), LEAST_PX)
        rows = self.popup.sizeHintForRow(0) * self.popup.count() + 4
        place = self.mapToGlobal(QPoint(self.width() - width, self.height() + 2))
        self.popup.setGeometry(place.x(), place.y(), width, rows)
        self.popup.setCurrentRow(0)
        self.popup.show()

    def _choose(self, item: QListWidgetItem | None) -> None:
        find = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if find is not None:
            self.popup.hide()
            self.leave()
            find.act()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.popup.isVisible():
            step = 1 if key == Qt.Key.Key_Down else -1
            self.popup.setCurrentRow((self.popup.currentRow() + step) % max(self.popup.count(), 1))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._choose(self.popup.currentItem() if self.popup.isVisible() else None)
        elif key == Qt.Key.Key_Escape:
            self.popup.hide()
            self.leave()
        else:
            super().keyPressEvent(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self and event.type() == QEvent.Type.FocusOut:
            self.popup.hide()
        return super().eventFilter(watched, event)


class FindBox(TypedChoice):
    """Finds functions, lines, rounds and actions."""

    def __init__(
        self, state: DeskState, actions: Callable[[], list[tuple[str, Callable[[], None]]]], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._state, self._actions = state, actions
        self.setPlaceholderText("Find anything…  Ctrl+K")
        self.setAccessibleName("Find anything")

    def found(self, text: str) -> list[Find]:
        """What matches, functions by self time first, then rounds, actions and lines."""
        parts = text.lower().split()
        if not parts:
            return []
        result = [Find(name, act) for name, act in self._actions() if all(part in name.lower() for part in parts)]
        for round_ in self._state.measured():
            words = "Read " + round_words(round_)
            if all(part in words.lower() for part in parts):
                result.append(Find(words, partial(self._state.look_at, round_.number, self._state.against)))
        return (self._functions(parts) + result + self._lines(parts))[:MOST]

    def _functions(self, parts: list[str]) -> list[Find]:
        view = self._state.view
        if view is None:
            return []
        table, figures = view.loaded.profile.functions, view.loaded.figures
        found = []
        for number in (-figures.self_ns).argsort(kind="stable"):
            n = int(number)
            place = place_text(table.file[n], int(table.first_line[n]), table.module[n])
            words = f"{table.name[n]} {table.module[n]} {place}".lower()
            if figures.shown[n] and all(part in words for part in parts):
                text = f"{table.name[n]}   {place}   {time_text(figures.self_ns[n])}"
                found.append(Find(text, partial(self._state.select, n)))
                if len(found) == MOST - 4:
                    break
        return found

    def _lines(self, parts: list[str]) -> list[Find]:
        """Lines by place or text, the slowest first."""
        view = self._state.view
        if view is None:
            return []
        table, lines, found = view.loaded.line_table, view.loaded.lines, []
        numbers = zip(lines.function[:MOST_LINES].tolist(), lines.line[:MOST_LINES].tolist(), view.texts[:MOST_LINES], strict=True)
        for row, (function, line, text) in enumerate(numbers):
            place = place_text(table.file[function], line, table.module[function])
            if text and all(part in f"{place} {text}".lower() for part in parts):
                words = f"{place}   {time_text(lines.total_ns[row])}   {text[:MOST_TEXT]}"
                found.append(Find(words, partial(self._state.select_line, int(view.loaded.row_of[function]), line)))
                if len(found) == MOST - 4:
                    break
        return found
