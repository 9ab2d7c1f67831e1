"""The leads of a reading as cards: what deserves a look, why, what it could bring, and the next step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import QPoint, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_bar
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.row_menu import show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine import leads
from ricerca.engine.leads import Lead
from ricerca.engine.reading import ALL_OTHERS, WAITING
from ricerca.report.cases import worth_text
from ricerca.report.leads import ceiling_words, lead_evidence, lead_sentence
from ricerca.report.wording import place_text, plural, time_text

STEPS = {
    leads.BODY: ("See its lines", "Lines"),
    leads.OFTEN: ("See what calls it", "Graph"),
    leads.SELDOM: ("Follow it in the call tree", "Call tree"),
    leads.GROWS: ("See it over time", "Timeline"),
    leads.CYCLE: ("See the cycle", "Graph"),
    leads.COLLECTION: ("See when", "Timeline"),
    leads.IMPORTS: ("Follow them in the call tree", "Call tree"),
    leads.PROGRAMS: ("See when", "Timeline"),
    leads.SLOWER: ("See all changes", "Functions"),
    leads.NEW: ("See all changes", "Functions"),
    leads.GROWTH: ("See how all functions grow", "Functions"),
    leads.LITTLE: ("See all functions", "Functions"),
}
"""What to look at next: words and page."""
OTHERS_TIME = (leads.COLLECTION, leads.IMPORTS, leads.PROGRAMS)
"""Kinds whose time must be read where it is spent."""
BAR_ROOM, SIDE = 22, 132


class Strip(QWidget):
    """The bar of a lead, on the scale of all that is read."""

    def __init__(self, lead: Lead, full_ns: int, base_ns: float | None) -> None:
        super().__init__()
        self._lead, self._full_ns, self._base_ns = lead, full_ns, base_ns
        self.setFixedHeight(BAR_ROOM)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        room = QRectF(0, 0, self.width(), self.height())
        painter.fillRect(QRectF(0, self.height() / 2 + 7, self.width(), 1), QColor(theme.now().rule))
        paint_bar(painter, room, self._full_ns, self._lead.own_ns, self._lead.inclusive_ns, self._base_ns, self._lead.layer)
        painter.end()


class Place(QLabel):
    """Where to look, cut to the room there is."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setObjectName("soft")
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setToolTip(tip(text))
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(theme.now().soft))
        cut = painter.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, cut)
        painter.end()


class Card(QFrame):
    """One lead. Click, Enter or Space selects it; up and down go to the next card."""

    taken = pyqtSignal()
    moved = pyqtSignal(int)
    asked = pyqtSignal(QPoint)

    def __init__(self, number: int, lead: Lead, view: View, act: Callable[[], None] | None, words: str) -> None:
        super().__init__()
        self.lead = lead
        self.words = lead_sentence(lead, view.loaded.what)
        self.selected = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"Lead {number}: {self.words}")
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._ask)
        base = view.base_times(lead.function) if lead.function >= 0 else None
        layout = QHBoxLayout(self)
        layout.setContentsMargins(20, 14, 20, 12)
        layout.setSpacing(16)
        layout.addLayout(self._middle(number, lead, view, base, act, words), 1)
        layout.addLayout(self._side(lead))

    def _middle(self, number: int, lead: Lead, view: View, base: tuple[int, int, int] | None, act: Callable[[], None] | None,
                words: str) -> QVBoxLayout:  # fmt: skip
        column = QVBoxLayout()
        column.setSpacing(3)
        sentence = QLabel(self.words)
        sentence.setFont(theme.font(16, bold=True))
        sentence.setWordWrap(True)
        sentence.setTextFormat(Qt.TextFormat.PlainText)
        strip = Strip(lead, max(view.loaded.profile.total_ns, 1), base[1] if base else None)
        said = f"Dark: {time_text(lead.own_ns)}, which this lead is about. Light: {time_text(lead.inclusive_ns)} with what it calls."
        said += " The full width is the whole reading."
        strip.setToolTip(tip(said + (f" Dashed: {time_text(base[1])} in round {view.base.round.number}." if base and view.base else "")))
        column.addWidget(sentence)
        column.addWidget(strip)
        for text in lead_evidence(lead, view.loaded.what):
            evidence = QLabel(text[0].upper() + text[1:] + ".")
            evidence.setWordWrap(True)
            evidence.setTextFormat(Qt.TextFormat.PlainText)
            column.addWidget(evidence)
        if lead.uncertain:
            doubt = QLabel("≈ Uncertain: the interval of this time is too wide to act on.")
            doubt.setObjectName("soft")
            doubt.setWordWrap(True)
            column.addWidget(doubt)
        row = QHBoxLayout()
        row.setSpacing(16)
        row.addWidget(Place(_place(lead, view)), 1)
        if act is not None:
            step = QPushButton(words)
            step.setObjectName("quiet")
            step.setAccessibleName(f"{words}, lead {number}")
            step.clicked.connect(lambda _checked: act())
            row.addWidget(step)
        column.addLayout(row)
        return column

    def _side(self, lead: Lead) -> QVBoxLayout:
        side = QVBoxLayout()
        side.setSpacing(0)
        figure, below, explained = ceiling_words(lead.ceiling)
        ceiling, caption = QLabel(figure), QLabel(below)
        ceiling.setFont(theme.font(22, bold=True))
        caption.setObjectName("soft")
        for label in (ceiling, caption):
            label.setAlignment(Qt.AlignmentFlag.AlignRight)
            label.setFixedWidth(SIDE)
            label.setToolTip(tip(explained))
            side.addWidget(label)
        side.addStretch(1)
        return side

    def _ask(self, place: QPoint) -> None:
        self.taken.emit()
        self.asked.emit(place)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        super().mousePressEvent(event)
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self.taken.emit()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.moved.emit(1 if event.key() == Qt.Key.Key_Down else -1)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.taken.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, colours = QPainter(self), theme.now()
        if self.selected or self.hasFocus():
            painter.fillRect(self.rect(), QColor(colours.chosen))
        if self.selected:
            painter.fillRect(0, 0, 3, self.height(), QColor(colours.accent))
        painter.fillRect(0, self.height() - 1, self.width(), 1, QColor(colours.rule))
        painter.end()
        super().paintEvent(event)


def _place(lead: Lead, view: View) -> str:
    """Where to look: file and line, and the line itself where its source was kept."""
    if lead.function < 0:
        return ""
    table = view.loaded.profile.functions
    file, line = table.file[lead.function], lead.line or int(table.first_line[lead.function])
    rows = view.loaded.sources.get(file, "").splitlines()
    text = rows[line - 1].strip() if lead.line and 0 < line <= len(rows) else ""
    return place_text(file, line, table.module[lead.function]) + (f"   {text}" if text else "")


class LeadsPage(SeenPage):
    """The first page after recording."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self.head = QLabel()
        self.head.setObjectName("soft")
        self.head.setWordWrap(True)
        self.head.setContentsMargins(20, 10, 20, 4)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.cards: list[Card] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.head)
        layout.addWidget(self.area, 1)
        state.selection_changed.connect(self._mark)

    def clear(self) -> None:
        """No cards."""
        self.head.setText("")
        self.cards = []
        self.area.setWidget(QWidget())

    def draw(self, view: View) -> None:
        """Lay the cards out."""
        found = view.leads
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.cards = []
        for number, lead in enumerate(found, 1):
            words, act = self._step(lead)
            card = Card(number, lead, view, act, words)
            card.taken.connect(partial(self._take, lead))
            card.moved.connect(partial(self._walk, number - 1))
            card.asked.connect(partial(self._ask, card))
            self.cards.append(card)
            column.addWidget(card)
        column.addStretch(1)
        self.area.setWidget(holder)
        words = (
            f"{plural(len(found), 'place')} worth a look, the largest possible gain first" if found else "There is no time in this reading"
        )
        self.head.setText(". ".join(filter(None, [words, worth_text(view.worth).rstrip(".") if view.worth is not None else ""])) + ".")
        self._mark()

    def to_cards(self) -> None:
        """Give the keyboard to the selected card, else to the first."""
        card = next((card for card in self.cards if card.selected), next(iter(self.cards), None))
        if card is not None:
            card.setFocus()

    def _step(self, lead: Lead) -> tuple[str, Callable[[], None] | None]:
        """The next step of a lead: words, and what it does."""
        if lead.kind == leads.WAITING:
            return "Show only waiting", lambda: self._state.set_reading(replace(self._state.reading, clock=WAITING))
        words, page = STEPS[lead.kind]
        return words, partial(self._go, lead, page)

    def _go(self, lead: Lead, page: str) -> None:
        self._take(lead)
        reading = self._state.reading
        if lead.kind in OTHERS_TIME and ALL_OTHERS in reading.charged:
            self._state.switch_charge()
        self._state.page_asked.emit(page)

    def _take(self, lead: Lead) -> None:
        if lead.function < 0:
            return
        if lead.line:
            self._state.select_line(lead.function, lead.line)
        else:
            self._state.select(lead.function)

    def _walk(self, at: int, step: int) -> None:
        if 0 <= at + step < len(self.cards):
            card = self.cards[at + step]
            card.setFocus(Qt.FocusReason.TabFocusReason)
            self.area.ensureWidgetVisible(card)
            self._take(card.lead)

    def _ask(self, card: Card, place: QPoint) -> None:
        if card.lead.function >= 0:
            show_row_menu(self._state, card, place)

    def _mark(self) -> None:
        for card in self.cards:
            card.selected = card.lead.function >= 0 and card.lead.function == self._state.selected
            card.update()
