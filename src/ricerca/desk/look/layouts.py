"""Layouts that several parts of the window share."""

from __future__ import annotations

from PyQt6.QtWidgets import QLayout, QSplitter, QStackedWidget, QVBoxLayout, QWidget


def stacked(holder: QWidget, *parts: QWidget | QLayout) -> None:
    """Parts below each other without space in between; the largest of them takes the room there is."""
    column = QVBoxLayout(holder)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    for part in parts:
        if isinstance(part, QLayout):
            column.addLayout(part)
        else:
            column.addWidget(part, 1 if isinstance(part, QStackedWidget | QSplitter) else 0)
