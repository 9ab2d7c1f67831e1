"""What if a function, or several, were so many times faster: the whole would take so long."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDoubleSpinBox, QLabel, QPushButton, QWidget

from ricerca.desk.look.flow import FlowLayout
from ricerca.desk.state import View
from ricerca.report.expectation import expectation_text
from ricerca.report.wording import factor_text, time_text


class WhatIf(QWidget):
    """A factor, what it would make of the whole, and a button that writes it into the round's note."""

    expected = pyqtSignal(str)

    def __init__(self, subject: str = "If it were", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._view: View | None = None
        self._functions: list[int] = []
        self.factor = QDoubleSpinBox()
        self.factor.setRange(1.0, 1000.0)
        self.factor.setDecimals(1)
        self.factor.setValue(2.0)
        self.factor.setSuffix("×")
        self.factor.setMaximumWidth(76)
        self.factor.setAccessibleName("How many times faster")
        edit = self.factor.lineEdit()
        if edit is not None:
            edit.setAccessibleName("How many times faster")
        self.factor.valueChanged.connect(lambda _value: self._say())
        self.answer = QLabel()
        self.note = QPushButton("Add to note")
        self.note.setObjectName("quiet")
        self.note.setToolTip("Write this expectation into the round's note. The next round is compared with it.")
        self.note.clicked.connect(lambda _checked: self.expected.emit(self.words()))
        layout = FlowLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(QLabel(subject))
        layout.addWidget(self.factor)
        layout.addWidget(self.answer)
        layout.addWidget(self.note)

    def ask(self, view: View, functions: list[int]) -> None:
        """Ask about other functions."""
        self._view, self._functions = view, functions
        self._say()

    def _say(self) -> None:
        if self._view is not None:
            speedup, total_ns = self._view.loaded.if_faster(self._functions, self.factor.value())
            now = time_text(self._view.loaded.best_total_ns)
            self.answer.setText(f"faster: {time_text(total_ns)} in total")
            self.answer.setToolTip(f"The run would take {time_text(total_ns)} instead of {now}, {factor_text(speedup)} faster.")

    def words(self) -> str:
        """The expectation as a sentence."""
        if self._view is None:
            return ""
        speedup, total_ns = self._view.loaded.if_faster(self._functions, self.factor.value())
        names = [self._view.loaded.profile.functions.name[number] for number in self._functions]
        return expectation_text(names, self.factor.value(), total_ns, speedup)
