"""What is shown without a study: drop a program, take up a recent study, open the example."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QDragEnterEvent, QDropEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFileDialog, QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.state import DeskState
from ricerca.loading import judge
from ricerca.model.errors import RicercaError
from ricerca.report.wording import plural, verdict_text
from ricerca.study.store import Study

STEPS = (
    ("Record", "Choose a program. It runs as always, while every call is counted and timed."),
    ("Read", "See the few places worth a look, and what each could gain at most."),
    ("Compare", "Change the code and record again: is it faster, by how much, and is the answer the same?"),
)
MOST_RECENT, NAME_ROOM_PX = 6, 150


class DropPlace(QFrame):
    """A place to drop a program or a study on."""

    dropped = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAcceptDrops(True)
        title = QLabel("Drop a program or a script here")
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


def _steps() -> QHBoxLayout:
    """What one does here, in three steps."""
    row = QHBoxLayout()
    row.setSpacing(24)
    for number, (head, text) in enumerate(STEPS, 1):
        title = QLabel(f"{number}  {head}")
        title.setFont(theme.font(theme.TEXT_PX, bold=True))
        words = QLabel(text)
        words.setWordWrap(True)
        words.setObjectName("soft")
        words.setAlignment(Qt.AlignmentFlag.AlignTop)
        column = QVBoxLayout()
        column.setSpacing(4)
        column.addWidget(title)
        column.addWidget(words, 1)
        row.addLayout(column, 1)
    return row


def last_verdict(path: Path) -> str:
    """How many rounds a study has, and how the last compares with the first; empty where it cannot be read."""
    try:
        with Study.open(path) as study:
            rounds = study.rounds()
    except (RicercaError, OSError):
        return ""
    if len(rounds) < 2:
        return plural(len(rounds), "round")
    return f"{plural(len(rounds), 'round')}, the last {verdict_text(judge(rounds[0], rounds[-1]))}"


class StartPage(QWidget):
    """Shown when no study is open."""

    program_chosen = pyqtSignal(str)
    study_chosen = pyqtSignal(object)
    example_wanted = pyqtSignal(bool)
    """The example is to be opened; true: recorded anew on this machine."""
    nightly_wanted = pyqtSignal()
    example_stopped = pyqtSignal()

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
        self.example.setToolTip("A tide-table program in four states of its code, recorded before.")
        self.example.clicked.connect(lambda _checked: self.example_wanted.emit(False))
        self.nightly = QPushButton("Open the nightly script")
        self.nightly.setObjectName("quiet")
        self.nightly.setToolTip("A shell script that starts the tide-table program and a compiled kernel, before and after a change.")
        self.nightly.clicked.connect(self.nightly_wanted)
        self.record_example = QPushButton("Record it on this machine")
        self.record_example.setObjectName("quiet")
        self.record_example.setToolTip("Records all four states of the example here. This takes some minutes and can be stopped.")
        self.record_example.clicked.connect(lambda _checked: self.example_wanted.emit(True))
        self.progress = QLabel()
        self.progress.setObjectName("soft")
        self.stop = QPushButton("Stop")
        self.stop.setAccessibleName("Stop recording the example")
        self.stop.clicked.connect(self.example_stopped)
        row = QHBoxLayout()
        row.addWidget(open_button)
        row.addWidget(self.example)
        row.addWidget(self.record_example)
        row.addWidget(self.nightly)
        row.addStretch(1)
        doing = QHBoxLayout()
        doing.addWidget(self.progress, 1)
        doing.addWidget(self.stop)
        self.show_progress("")
        inside = QVBoxLayout()
        inside.setSpacing(16)
        inside.addStretch(1)
        inside.addLayout(_steps())
        inside.addWidget(self.drop)
        inside.addLayout(row)
        inside.addLayout(doing)
        inside.addSpacing(8)
        inside.addWidget(self._heading)
        inside.addLayout(self._recent)
        inside.addStretch(2)
        layout = QHBoxLayout(self)
        layout.addStretch(1)
        layout.addLayout(inside, 2)
        layout.addStretch(1)
        self.refresh()

    def show_progress(self, text: str) -> None:
        """What is being done for the example; empty: nothing."""
        self.progress.setText(text)
        for part in (self.progress, self.stop):
            part.setVisible(bool(text))
        for button in (self.example, self.record_example, self.nightly):
            button.setEnabled(not text)

    def refresh(self) -> None:
        """List the recent studies that are still there, each with its last verdict once that is read."""
        while (item := self._recent.takeAt(0)) is not None:
            if item.widget():
                item.widget().deleteLater()
        there = [path for path in self._state.recent() if Path(path).is_file()]
        self._heading.setVisible(bool(there))
        labels = {}
        for path in there[:MOST_RECENT]:
            button = QPushButton(Path(path).stem)
            button.setObjectName("quiet")
            button.setStyleSheet("text-align: left;")
            button.setMinimumWidth(NAME_ROOM_PX)
            button.clicked.connect(lambda _checked, chosen=path: self.study_chosen.emit(Path(chosen)))
            labels[path] = QLabel(str(Path(path).parent))
            labels[path].setObjectName("soft")
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.setSpacing(16)
            row.addWidget(button)
            row.addWidget(labels[path], 1)
            self._recent.addWidget(line)

        def show(found: dict[str, str]) -> None:
            for path, said in found.items():
                if said and path in labels:
                    labels[path].setText(f"{said} · {Path(path).parent}")

        self._state.workers.request("recent studies", lambda: {path: last_verdict(Path(path)) for path in labels}, show)

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
