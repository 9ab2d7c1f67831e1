"""A layout that sets its parts like words in a line, and begins a new line where they do not fit."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Parts keep their size hint; hidden ones take no room."""

    def __init__(self, parent: QWidget | None = None, gap: int = 8, line_gap: int = 4) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._gap, self._line_gap = gap, line_gap

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._arrange(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        margins = self.contentsMargins()
        return size + QSize(margins.left() + margins.right(), margins.top() + margins.bottom())

    def _arrange(self, rect: QRect, move: bool) -> int:
        margins = self.contentsMargins()
        inner = rect.adjusted(margins.left(), margins.top(), -margins.right(), -margins.bottom())
        x, y, height = inner.x(), inner.y(), 0
        line: list[tuple[QLayoutItem, int, QSize]] = []

        def place() -> None:
            for item, left, size in line:
                if move:
                    item.setGeometry(QRect(QPoint(left, y + (height - size.height()) // 2), size))

        for item in self._items:
            widget = item.widget()
            if widget is not None and widget.isHidden():
                continue
            size = item.sizeHint()
            if line and x + size.width() > inner.right() + 1:
                place()
                x, y, height, line = inner.x(), y + height + self._line_gap, 0, []
            line.append((item, x, size))
            x += size.width() + self._gap
            height = max(height, size.height())
        place()
        return y + height - rect.y() + margins.bottom()
