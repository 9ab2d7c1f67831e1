"""How a round goes while it is made: the step, the slowest functions so far, the program's output, and ways to stop."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPlainTextEdit, QPushButton, QWidget

from ricerca.desk.look import theme
from ricerca.desk.rounds.leaders import Leaders


class ProgressPage(QWidget):
    """Shown by the run sheet, which fills it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.step = QLabel()
        self.step.setFont(theme.font(theme.TITLE_PX, bold=True))
        self.facts = QLabel()
        self.leaders = Leaders()
        self.output = QPlainTextEdit()
        self.output.setReadOnly(True)
        self.output.setAccessibleName("The program's output")
        self.output.setMaximumBlockCount(5000)
        self.finish = QPushButton("Finish now")
        self.finish.setToolTip("End the program; what was recorded so far is kept.")
        layout = QGridLayout(self)
        layout.setContentsMargins(24, 20, 24, 20)
        layout.setVerticalSpacing(8)
        layout.addWidget(self.step, 0, 0)
        self.pause = QPushButton("Pause")
        self.pause.setToolTip("Stop recording for now. The program keeps running.")
        self.enough = QPushButton("End recording")
        self.enough.setToolTip("Keep what was recorded so far and let the program finish.")
        buttons = QHBoxLayout()
        buttons.setSpacing(8)
        for button in (self.pause, self.enough, self.finish):
            buttons.addWidget(button)
        layout.addLayout(buttons, 0, 1, Qt.AlignmentFlag.AlignRight)
        layout.addWidget(self.facts, 1, 0, 1, 2)
        layout.addWidget(_heading("slowest so far (self time)"), 2, 0, 1, 2)
        layout.addWidget(self.leaders, 3, 0, 1, 2)
        layout.addWidget(_heading("output of the program"), 4, 0, 1, 2)
        layout.addWidget(self.output, 5, 0, 1, 2)
        layout.setRowStretch(5, 1)
        layout.setColumnStretch(0, 1)


def _heading(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("heading")
    label.setContentsMargins(0, 8, 0, 0)
    return label
