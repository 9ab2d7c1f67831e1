"""What is shown without a study: drop a program, take up a recent study, open the example."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QDragEnterEvent, QDropEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFileDialog, QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.state import DeskState


class DropPlace(QFrame):
    """A place to drop a program or a study on."""

    dropped = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAcceptDrops(True)
        title = QLabel("Drop a Python program here")
        title.setFont(theme.font(theme.TITLE_PX, bold=True))
        title.setAlignment(Qt.AlignmentFlag.AlignCenter)
        text = QLabel("It is recorded exactly: every call, with its time, its caller and its line.")
        text.setAlignment(Qt.AlignmentFlag.AlignCenter)
        text.setWordWrap(True)
        self.choose = QPushButton("Choose a program…")
        self.choose.setObjectName("main")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(32, 32, 32, 32)
        layout.setSpacing(12)
        layout.addStretch(1)
        layout.addWidget(title)
        layout.addWidget(text)
        layout.addWidget(self.choose, 0, Qt.AlignmentFlag.AlignCenter)
        layout.addStretch(1)

    def sizeHint(self) -> QSize:
        return QSize(560, 220)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(theme.now().soft), 1.2, Qt.PenStyle.DashLine))
        painter.drawRoundedRect(self.rect().adjusted(2, 2, -2, -2), 8, 8)
        painter.end()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        urls = event.mimeData().urls()
        if urls and urls[0].isLocalFile():
            self.dropped.emit(urls[0].toLocalFile())


class StartPage(QWidget):
    """Shown when no study is open."""

    program_chosen = pyqtSignal(str)
    study_chosen = pyqtSignal(object)
    example_wanted = pyqtSignal()

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self.drop = DropPlace()
        self.drop.dropped.connect(self._on_drop)
        self.drop.choose.clicked.connect(self._choose_program)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(2)
        self._heading = QLabel("recent studies")
        self._heading.setObjectName("heading")
        open_button = QPushButton("Open a study…")
        open_button.clicked.connect(self._choose_study)
        self.example = QPushButton("Open the harbour example")
        self.example.setToolTip("A tide-table program in four states of its code; it is recorded on this machine.")
        self.example.clicked.connect(self.example_wanted)
        row = QHBoxLayout()
        row.addWidget(open_button)
        row.addWidget(self.example)
        row.addStretch(1)
        inside = QVBoxLayout()
        inside.setSpacing(16)
        inside.addStretch(1)
        inside.addWidget(self.drop)
        inside.addLayout(row)
        inside.addSpacing(8)
        inside.addWidget(self._heading)
        inside.addLayout(self._recent)
        inside.addStretch(2)
        layout = QHBoxLayout(self)
        layout.addStretch(1)
        layout.addLayout(inside, 2)
        layout.addStretch(1)
        self.refresh()

    def refresh(self) -> None:
        """List the recent studies that are still there."""
        while (item := self._recent.takeAt(0)) is not None:
            if item.widget():
                item.widget().deleteLater()
        there = [path for path in self._state.recent() if Path(path).is_file()]
        self._heading.setVisible(bool(there))
        for path in there[:6]:
            button = QPushButton(f"{Path(path).stem}    {Path(path).parent}")
            button.setObjectName("quiet")
            button.setStyleSheet("text-align: left;")
            button.clicked.connect(lambda _checked, chosen=path: self.study_chosen.emit(Path(chosen)))
            self._recent.addWidget(button)

    def _on_drop(self, path: str) -> None:
        if path.endswith(".ricerca"):
            self.study_chosen.emit(Path(path))
        else:
            self.program_chosen.emit(path)

    def _choose_program(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "Program to record", str(Path.cwd()), "Python programs (*.py *.pyz);;All files (*)")
        if name:
            self.program_chosen.emit(name)

    def _choose_study(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "Study to open", str(Path.cwd()), "Studies (*.ricerca)")
        if name:
            self.study_chosen.emit(Path(name))
