"""The sentence above the pages that states what is looked at; each part of it is a control."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QActionGroup
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QWidget

from ricerca.desk.state import DeskState
from ricerca.study.store import Round


def round_words(one: Round) -> str:
    """A round as it is named in the sentence."""
    return f"round {one.number} “{one.name}”"


class ReadingLine(QFrame):
    """Reading *round* against *round* · wall time."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("ruled")
        self._state = state
        self._begin = QLabel("Reading")
        self.round_button = self._clause("Which round is looked at")
        self._middle = QLabel("against")
        self.against_button = self._clause("Which round it is held against")
        self._clock = QLabel("· wall time, the recorder's own cost deducted")
        self._clock.setToolTip("The time that passes on the clock on the wall, waiting included.")
        self._clock.setObjectName("soft")
        self.verdict = QLabel()
        self.verdict.setTextFormat(Qt.TextFormat.RichText)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        layout.setSpacing(8)
        for part in (self._begin, self.round_button, self._middle, self.against_button, self._clock):
            layout.addWidget(part)
        layout.addStretch(1)
        layout.addWidget(self.verdict)
        state.rounds_changed.connect(self._fill)
        state.view_changed.connect(self._fill)
        state.loading.connect(lambda: self.verdict.setText("reading …"))

    def _clause(self, name: str) -> QPushButton:
        button = QPushButton()
        button.setObjectName("clause")
        button.setAccessibleName(name)
        button.setToolTip(name + ".")
        button.setMenu(QMenu(button))
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        return button

    def _fill(self) -> None:
        state = self._state
        rounds = state.measured()
        now = next((one for one in rounds if one.number == state.number), None)
        base = next((one for one in rounds if one.number == state.against), None)
        for part in (self._begin, self.round_button, self._clock, self.verdict):
            part.setVisible(now is not None)
        for part in (self._middle, self.against_button):
            part.setVisible(now is not None and len(rounds) > 1)
        if now is None:
            return
        self.round_button.setText(round_words(now))
        self.against_button.setText(round_words(base) if base else "nothing")
        self._menu(self.round_button.menu(), rounds, now, lambda number: state.read(number, state.against))
        self._menu(self.against_button.menu(), [one for one in rounds if one is not now], base,
                   lambda number: state.read(state.number, number), nothing=True)  # fmt: skip
        self.verdict.setText("" if state.view is None else verdict_words(state))

    def _menu(
        self, menu: QMenu | None, rounds: list[Round], chosen: Round | None, choose: Callable[[int | None], None], nothing: bool = False
    ) -> None:
        if menu is None:
            return
        menu.clear()
        group = QActionGroup(menu)
        for one in rounds:
            action = QAction(round_words(one), menu)
            action.setCheckable(True)
            action.setChecked(one is chosen)
            action.triggered.connect(lambda _checked, number=one.number: choose(number))
            group.addAction(action)
            menu.addAction(action)
        if nothing:
            menu.addSeparator()
            menu.addAction("nothing", lambda: choose(None))


def verdict_words(state: DeskState) -> str:
    """What the plain runs say of the two rounds."""
    from ricerca.desk import theme
    from ricerca.wording import factor_text

    view = state.view
    if view is None or view.verdict is None or view.base is None:
        return ""
    found, colours = view.verdict, theme.now()
    words = {
        "faster": f"<span style='font-weight:600; color:{colours.faster}'>{factor_text(found.ratio)} as fast</span>",
        "slower": f"<span style='font-weight:600; color:{colours.slower}'>{factor_text(found.ratio)} as fast, slower</span>",
        "no difference": "<span style='font-weight:600'>no difference</span> beyond the noise",
        "unknown": f"{factor_text(found.ratio)} as fast, not proved",
    }
    return words[found.verdict]
