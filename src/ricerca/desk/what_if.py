"""What if the function in hand were so many times faster: the whole would take so long."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QLabel, QPushButton, QWidget

from ricerca.desk.state import View
from ricerca.wording import factor_text, time_text


class WhatIf(QWidget):
    """A factor, what it would make of the whole, and a button that writes it into the round's note."""

    expected = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._view: View | None = None
        self._function = -1
        self.factor = QDoubleSpinBox()
        self.factor.setRange(1.0, 1000.0)
        self.factor.setDecimals(1)
        self.factor.setValue(2.0)
        self.factor.setSuffix("×")
        self.factor.setAccessibleName("How many times faster")
        edit = self.factor.lineEdit()
        if edit is not None:
            edit.setAccessibleName("How many times faster")
        self.factor.valueChanged.connect(lambda _value: self._say())
        self.answer = QLabel()
        self.answer.setWordWrap(True)
        self.note = QPushButton("Note it")
        self.note.setObjectName("quiet")
        self.note.setToolTip("Write this expectation into the round's note, to hold it against the next round.")
        self.note.clicked.connect(lambda _checked: self.expected.emit(self.words()))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(QLabel("Were it"))
        layout.addWidget(self.factor)
        layout.addWidget(self.answer, 1)
        layout.addWidget(self.note)

    def show_function(self, view: View, function: int) -> None:
        """Ask about another function."""
        self._view, self._function = view, function
        self._say()

    def _say(self) -> None:
        if self._view is not None:
            speedup, total_ns = self._view.loaded.if_faster([self._function], self.factor.value())
            now = time_text(self._view.loaded.best_total_ns)
            self.answer.setText(f"as fast: {time_text(total_ns)} in all")
            self.answer.setToolTip(f"The run would take {time_text(total_ns)} instead of {now}, {factor_text(speedup)} as fast.")

    def words(self) -> str:
        """The expectation as a sentence."""
        speedup, total_ns = self._view.loaded.if_faster([self._function], self.factor.value())
        name = self._view.loaded.profile.functions.name[self._function]
        much = f"{time_text(total_ns)} ({factor_text(speedup)})"
        return f"Expected: with {name} {self.factor.value():g}× as fast, the run takes {much}."
