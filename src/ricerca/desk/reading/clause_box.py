"""The box in which a clause of the reading is typed."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QEvent, QObject, pyqtSignal
from PyQt6.QtGui import QFocusEvent
from PyQt6.QtWidgets import QWidget

from ricerca.desk.reading.find_box import MOST, Find, TypedChoice
from ricerca.desk.state import DeskState
from ricerca.engine.clauses import CHARGED, CLOCK, INSIDE, LEVEL, PROCESS, THREAD, WITHOUT, Names, Offer, offers
from ricerca.report.wording import short_name, time_text

WORDS = {INSIDE: "Only inside {}", WITHOUT: "Leave out {}", CHARGED: "Charge {} to its callers", THREAD: "Only the thread {}",
         PROCESS: "Only {}", CLOCK: "Read {}", LEVEL: "Rows {}"}  # fmt: skip
NAME, BOX_PX = 48, 300


class ClauseBox(TypedChoice):
    """Offers clauses as they match, with their time; also the functions themselves, to select one."""

    left = pyqtSignal()
    """A clause was chosen, or none is wanted."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._names: Names | None = None
        self.setPlaceholderText("function, module, layer, thread, clock …")
        self.setAccessibleName("Add a clause")
        self.setFixedWidth(BOX_PX)
        state.view_changed.connect(self._forget)

    def _forget(self) -> None:
        self._names = None

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        view = self._state.view
        if view is not None and self._names is None:
            self._state.workers.request("names", lambda: view.loaded.names, self._know)

    def _know(self, names: Names) -> None:
        self._names = names
        if self.text():
            self._search()

    def found(self, text: str) -> list[Find]:
        """Clauses that fit, then the functions to select."""
        if self._names is None:
            return []
        clauses = [
            Find(_words(offer), partial(self._state.set_reading, offer.reading)) for offer in offers(self._names, self._state.reading, text)
        ]
        return clauses[: MOST - 3] + self._functions(text.lower().split())[:3]

    def _functions(self, parts: list[str]) -> list[Find]:
        view = self._state.view
        if view is None:
            return []
        table, figures = view.loaded.profile.functions, view.loaded.figures
        rows = [row for row in (-figures.self_ns).argsort(kind="stable").tolist()
                if figures.shown[row] and all(part in table.name[row].lower() for part in parts)]  # fmt: skip
        return [Find(f"Select {short_name(table.name[row], NAME)}", partial(self._state.select, row)) for row in rows[:3]]

    def leave(self) -> None:
        self.clear()
        self.left.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self and event.type() == QEvent.Type.FocusOut and not self.text():
            self.left.emit()
        return super().eventFilter(watched, event)


def _words(offer: Offer) -> str:
    said = WORDS[offer.kind].format(short_name(offer.name, NAME))
    return said + (f"   {time_text(offer.time_ns)}" if offer.time_ns >= 0 else "")
