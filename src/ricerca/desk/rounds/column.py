"""The rounds, one below the other, each a card with its bar; the notice that sources have changed."""

from __future__ import annotations

import html
from collections.abc import Sequence

from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QContextMenuEvent, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QInputDialog, QLabel, QMenu, QPushButton, QScrollArea, QToolTip, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_mark
from ricerca.desk.look.tips import tip
from ricerca.desk.state import DeskState
from ricerca.measure.estimates import FASTER, NO_DIFFERENCE, SLOWER, UNDECIDED, median_ns, spread
from ricerca.model.rounds import KEPT, LINE, PLAIN, RECORDED, UNDONE, Round
from ricerca.report.expectation import Expectation, expectations
from ricerca.report.wording import factor_text, plural, share_text, time_text
from ricerca.study.store import Study

CARD_PX = 88


class Cards(QWidget):
    """Painted cards. A click reads a round; Shift with a click compares with it."""

    chosen = pyqtSignal(int)
    against = pyqtSignal(int)
    rename = pyqtSignal(int)

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self.setAccessibleName("Rounds")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def refresh(self) -> None:
        """Take over the rounds as they are now."""
        self.setMinimumHeight(max(1, len(self._state.rounds)) * CARD_PX)
        self.update()

    @staticmethod
    def time_of(round_: Round) -> int:
        """What a round's bar shows: the median of plain runs, else the recorded run."""
        run = round_.last_run(RECORDED, LINE)
        return median_ns(round_.plain_ns) or (run.wall_ns if run else 0)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        rounds = self._state.rounds
        longest = max((self.time_of(round_) for round_ in rounds), default=1) or 1
        for row, round_ in enumerate(rounds):
            self._paint_card(painter, QRectF(0, row * CARD_PX, self.width(), CARD_PX), round_, longest)
        painter.end()

    def _paint_card(self, painter: QPainter, room: QRectF, round_: Round, longest: int) -> None:
        colours = theme.now()
        now = round_.number == self._state.number
        if now:
            painter.fillRect(room, QColor(colours.chosen))
            painter.fillRect(QRectF(room.left(), room.top(), 3, room.height()), QColor(colours.accent))
        inner = room.adjusted(14, 9, -12, -8)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(theme.TEXT_PX, bold=now))
        words = f"{round_.number}  {round_.name}{', undone' if round_.fate == UNDONE else ''}"
        title = QFontMetrics(painter.font()).elidedText(words, Qt.TextElideMode.ElideRight, int(inner.width()))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, title)
        time_ns = self.time_of(round_)
        bar = QRectF(inner.left(), inner.top() + 25, inner.width() * time_ns / longest, 9)
        if round_.plain_ns:
            painter.fillRect(bar, colours.own("mine"))
        else:  # only a recorded run: slower than the program itself, so not drawn as its time
            painter.setPen(QPen(QColor(colours.soft), 1, Qt.PenStyle.DotLine))
            painter.drawRect(bar)
        self._paint_spread(painter, round_, bar, inner, longest)
        expected = expected_of(self._state.rounds, round_) if round_.plain_ns else None
        if expected is not None:  # a notch below the bar where it was expected to end
            at = inner.left() + inner.width() * min(expected.total_ns / longest, 1.0)
            painter.setPen(QPen(QColor(colours.ink), 1.4))
            painter.drawLine(QPointF(at, bar.bottom() + 1), QPointF(at, bar.bottom() + 6))
        if round_.number == self._state.against:
            painter.setPen(QPen(QColor(colours.soft), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(bar.adjusted(-2, -2, 2, 2))
        below = inner.adjusted(0, 40, 0, 0)
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(colours.soft))
        text = time_text(time_ns) + ("" if round_.plain_ns else " recorded") if time_ns else "no run is kept"
        files = self._state.edited.get(round_.number, ())
        if files:
            self._paint_edited(painter, files, inner)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, text)
        self._paint_gain(painter, round_, below)

    def _paint_edited(self, painter: QPainter, files: tuple[str, ...], inner: QRectF) -> None:
        text = QFontMetrics(painter.font()).elidedText(f"edited: {', '.join(files)}", Qt.TextElideMode.ElideRight, int(inner.width()))
        painter.drawText(inner.adjusted(0, 56, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, text)

    def _paint_spread(self, painter: QPainter, round_: Round, bar: QRectF, inner: QRectF, longest: int) -> None:
        if len(round_.plain_ns) < 2:
            return
        low, high = (inner.left() + inner.width() * value / longest for value in (min(round_.plain_ns), max(round_.plain_ns)))
        painter.setPen(QPen(QColor(theme.now().ink), 1))
        middle = bar.center().y()
        high = min(high, inner.right())
        painter.drawLine(QPointF(low, middle), QPointF(high, middle))
        for x in (low, high):
            painter.drawLine(QPointF(x, middle - 3), QPointF(x, middle + 3))

    def _paint_gain(self, painter: QPainter, round_: Round, below: QRectF) -> None:
        colours = theme.now()
        found = self._state.verdicts.get(round_.number)
        if round_ is self._state.rounds[0]:
            painter.drawText(below, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, "baseline")
        if found is None:
            return
        faster = found.ratio >= 1
        told = found.verdict in (FASTER, SLOWER)
        text = "no verdict" if not found.evidence else found.verdict if found.verdict == NO_DIFFERENCE else factor_text(found.ratio)
        text += ", undecided" if found.evidence and found.verdict == UNDECIDED else ""
        painter.setPen(QColor((colours.faster if faster else colours.slower) if told else colours.soft))
        painter.setFont(theme.font(13 if told else theme.SMALL_PX, bold=told))
        painter.drawText(below.adjusted(0, -2 if told else 0, 0, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, text)
        if told:
            width = QFontMetrics(painter.font()).horizontalAdvance(text)
            paint_mark(painter, QPointF(below.right() - width - 9, below.top() + 8), faster)

    def _at(self, y: float) -> Round | None:
        row = int(y // CARD_PX)
        return self._state.rounds[row] if 0 <= row < len(self._state.rounds) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        clicked = self._at(event.position().y())
        if clicked is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.against.emit(clicked.number)
        else:
            self.chosen.emit(clicked.number)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        round_ = self._at(event.position().y())
        if round_ is not None:
            QToolTip.showText(event.globalPosition().toPoint(), tip(describe(round_, expected_of(self._state.rounds, round_))), self)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        round_ = self._at(event.pos().y())
        if round_ is not None:
            self._menu(round_, event.globalPos())

    def _menu(self, round_: Round, place: QPoint) -> None:
        menu = QMenu(self)
        menu.addAction("Read this round", lambda: self.chosen.emit(round_.number))
        menu.addAction("Compare with it", lambda: self.against.emit(round_.number))
        menu.addAction("Change name or note…", lambda: self.rename.emit(round_.number))
        for text, fate in (("The change was kept", KEPT), ("The change was undone", UNDONE), ("Neither yet", "")):
            if fate != round_.fate:
                menu.addAction(text, lambda fate=fate: self._state.say_fate(round_.number, fate))
        menu.exec(place)
        menu.deleteLater()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        numbers = [round_.number for round_ in self._state.measured()]
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step and self._state.number in numbers:
            row = numbers.index(self._state.number) + step
            if 0 <= row < len(numbers):
                self.chosen.emit(numbers[row])
        else:
            super().keyPressEvent(event)


def expected_of(rounds: Sequence[Round], round_: Round) -> Expectation | None:
    """What the round before a round expected of it."""
    row = next((row for row, other in enumerate(rounds) if other.number == round_.number), 0)
    found = expectations(rounds[row - 1].note) if row > 0 else []
    return found[-1] if found else None


def describe(round_: Round, expected: Expectation | None = None) -> str:
    """A round in words, and what came of what was expected of it."""
    parts = [f"Round {round_.number} “{round_.name}”."]
    if round_.plain_ns:
        wide = spread(round_.plain_ns)
        around = f", ±{share_text(wide)}" if wide is not None else ""
        parts.append(f"{plural(len(round_.plain_ns), 'plain run')}: {time_text(median_ns(round_.plain_ns) or 0)} median{around}.")
    elif any(run.kind == PLAIN for run in round_.runs):
        failed = next(run for run in round_.runs if run.kind == PLAIN)
        parts.append(f"Its plain runs failed: {'; '.join(failed.because)}.")
    else:
        parts.append("No plain runs: how long it takes without the recorder is not known.")
    if expected is not None and round_.plain_ns:
        parts.append(f"{expected.text} It {expected.held(median_ns(round_.plain_ns) or 0)}.")
    run = round_.last_run(RECORDED, LINE)
    if run is not None and not run.complete:
        parts.append(f"Its recording is not complete: {'; '.join(run.because)}.")
    if round_.revision:
        parts.append(f"Code at {round_.revision}.")
    if round_.note:
        parts.append(round_.note)
    return " ".join(parts)


class RoundsColumn(QFrame):
    """Cards, the button for the next round, the notice about changed sources."""

    new_round = pyqtSignal()

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._state = state
        heading = QLabel("rounds")
        heading.setObjectName("heading")
        heading.setContentsMargins(14, 12, 0, 6)
        self.cards = Cards(state)
        area = QScrollArea()
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the cards have the keyboard
        area.setWidget(self.cards)
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.viewport().setAutoFillBackground(False)
        self.cards.setAutoFillBackground(False)
        self.notice = QFrame()
        self.notice.setObjectName("notice")
        self.notice_text = QLabel()
        self.notice_text.setWordWrap(True)
        inside = QVBoxLayout(self.notice)
        inside.setContentsMargins(10, 8, 10, 8)
        inside.addWidget(self.notice_text)
        self.button = QPushButton("New round…")
        self.button.setObjectName("main")
        self.button.setToolTip("Measure the code as it is now (Ctrl+N).")
        self.button.clicked.connect(self.new_round)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(heading)
        layout.addWidget(area, 1)
        foot = QVBoxLayout()
        foot.setContentsMargins(12, 8, 12, 12)
        foot.addWidget(self.notice)
        foot.addWidget(self.button)
        layout.addLayout(foot)
        self.notice.hide()
        self.cards.chosen.connect(lambda number: state.look_at(number, state.against))
        self.cards.against.connect(lambda number: state.look_at(state.number, number))
        self.cards.rename.connect(self._rename)
        state.rounds_changed.connect(self.cards.refresh)
        state.view_changed.connect(self.cards.refresh)

    def say_changed(self, files: list[str]) -> None:
        """Name the sources that differ from the recorded ones; none hides the notice."""
        self.notice.setVisible(bool(files))
        names = ", ".join(file.rsplit("/", 1)[-1] for file in files[:3]) + (f" and {len(files) - 3} more" if len(files) > 3 else "")
        last = self._state.rounds[-1].number if self._state.rounds else 0
        verb = "has" if len(files) == 1 else "have"
        self.notice_text.setText(
            f"<span style='font-weight:600'>{html.escape(names)}</span> {verb} changed since round {last}. Record what it gained?"
        )

    def _rename(self, number: int) -> None:
        round_ = next(round_ for round_ in self._state.rounds if round_.number == number)
        text, agreed = QInputDialog.getMultiLineText(
            self, f"Round {number}", "First line: its name. Below: what was changed and why.", f"{round_.name}\n{round_.note}"
        )
        path = self._state.path
        if not agreed or path is None or not text.strip():
            return
        name, _, note = text.strip().partition("\n")

        def write() -> None:
            with Study.open(path) as study:
                study.describe_round(number, name.strip(), note.strip())

        self._state.workers.request("rename", write, lambda _done: self._state.refresh_rounds())
