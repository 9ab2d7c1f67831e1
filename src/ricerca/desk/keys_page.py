"""All keys on one page, over the window; Press Esc to close."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from ricerca.desk.look import theme

KEYS: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    ("Everywhere", (
        ("F1", "This page"), ("Shift+F1", "The guide"),
        ("Ctrl+K", "Find a function, file, line, round or action"), ("Ctrl+1 … Ctrl+8", "The pages"),
        ("Ctrl+N", "New round"), ("Ctrl+O", "Open a study"), ("Ctrl+E", "Open the selected function in your editor"),
        ("Ctrl+F", "Filter the table"), ("Tab", "To the next part of the window"),
        ("Menu or right click", "Actions of a row or node: layers, folds, chains"), ("Ctrl+Q", "Quit"),
    )),
    ("The reading", (
        ("Ctrl+G", "Charge time to my code, or not"), ("Ctrl+I", "Only inside the selected function"),
        ("Ctrl+Shift+I", "Leave out the selected function"), ("Ctrl+Shift+G", "Charge the selected function to its callers"),
        ("Ctrl+Shift+K", "Add a clause by typing"), ("Alt+Left, Alt+Right", "Back and forward through readings"),
    )),
    ("Leads", (("Up, Down", "From card to card; its function is selected"),)),
    ("Call tree", (("Right, Left", "Open and close a row"), ("Up, Down", "Move to another row and select it"))),
    ("Graph", (
        ("Right, Left", "Along the heaviest ribbon: callee, caller"), ("Up, Down", "Within a column"), ("Space", "Fit all of it"),
        ("+, -", "Larger, smaller"), ("Enter", "Open a group, or fold a function into its group"),
    )),
    ("Timeline", (("Left, Right", "Move the mark"), ("Shift+Left, Shift+Right", "Choose a stretch"), ("Enter", "Read the stretch"))),
)  # fmt: skip


class KeysPage(QFrame):
    """A sheet over the window."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Keys")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(40, 28, 40, 28)
        layout.setSpacing(8)
        title = QLabel("Keys")
        title.setFont(theme.font(theme.TITLE_PX, bold=True))
        layout.addWidget(title)
        columns = QHBoxLayout()
        columns.setSpacing(56)
        for groups in (KEYS[:2], KEYS[2:]):
            column = QVBoxLayout()
            column.setSpacing(20)
            for heading, keys in groups:
                column.addLayout(self._group(heading, keys))
            column.addStretch(1)
            columns.addLayout(column)
        columns.addStretch(1)
        layout.addSpacing(8)
        layout.addLayout(columns)
        layout.addStretch(1)
        leave = QLabel("Press Esc to close.")
        leave.setObjectName("soft")
        layout.addWidget(leave)

    @staticmethod
    def _group(heading: str, keys: tuple[tuple[str, str], ...]) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(28)
        grid.setColumnMinimumWidth(0, 168)
        grid.setColumnStretch(1, 1)
        grid.setVerticalSpacing(6)
        label = QLabel(heading)
        label.setObjectName("heading")
        grid.addWidget(label, 0, 0, 1, 2)
        for row, (key, does) in enumerate(keys, 1):
            name = QLabel(key)
            name.setFont(theme.font(theme.TEXT_PX, bold=True))
            grid.addWidget(name, row, 0)
            grid.addWidget(QLabel(does), row, 1)
        return grid

    def show_over(self, window: QWidget) -> None:
        """Cover the window."""
        self.setGeometry(window.rect())
        self.show()
        self.raise_()
        self.setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Escape, Qt.Key.Key_F1):
            self.hide()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: object) -> None:
        self.hide()
