"""The order in which Tab goes through a window: pane by pane, and in each line by line."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QWidget

LINE_PX = 14
"""Centres that lie no further apart are on one line."""


def put_in_order(panes: Sequence[QWidget]) -> None:
    """Let Tab go through what can be seen of the panes; what is made or shown later needs another call."""
    for before, after in pairwise([widget for pane in panes for widget in by_line(pane)]):
        QWidget.setTabOrder(before, after)


def by_line(pane: QWidget) -> Iterator[QWidget]:
    """What Tab stops at in a pane, line by line and from left to right; the pane itself first where it takes the keyboard."""
    places = []
    for widget in (pane, *pane.findChildren(QWidget)):
        if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.focusProxy() is None and widget.isVisibleTo(pane):
            corner = widget.mapTo(pane, QPoint(0, 0))
            # What fills a pane begins where its first line does.
            centre = corner.y() + min(widget.height(), 3 * LINE_PX) // 2
            places.append((centre, corner.x(), widget))
    places.sort(key=lambda place: place[0])
    while places:
        line = [place for place in places if place[0] - places[0][0] <= LINE_PX]
        del places[: len(line)]
        yield from (widget for _centre, _left, widget in sorted(line, key=lambda place: place[1]))
