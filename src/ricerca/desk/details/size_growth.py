"""How the selected function grows with the size of the input: calls and self time, both axes by factors, with the law through them."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.measure.growth import GrowthRow, growth_between
from ricerca.report.growth import growth_words, law_text
from ricerca.report.wording import brief_count, time_text

HEIGHT_PX = 128
LEFT_PX, RIGHT_PX, TOP_PX, BOTTOM_PX = 8, 8, 22, 20
STEPS = 24


class SizeGrowth(QWidget):
    """Two small pictures side by side: calls, then self time, against the size. Lines that are as steep grow alike."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._row: GrowthRow | None = None
        self.setFixedHeight(HEIGHT_PX)
        self.setAccessibleName("Growth with the size of the input")
        self.hide()

    def show_row(self, row: GrowthRow | None) -> None:
        """Show how a function grows; None hides it."""
        self._row = row
        self.setVisible(row is not None)
        self.setToolTip(tip(growth_words(row)) if row is not None else "")
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        row = self._row
        if row is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        half = self.width() / 2
        law = row.calls_law.law
        exponent = f"n^{row.time_exponent:.1f}" if row.time_exponent is not None else "not known"
        self._paint(painter, QRectF(0, 0, half, self.height()), row.calls, f"calls: {law_text(row)}", law is not None, brief_count)
        self._paint(painter, QRectF(half, 0, half, self.height()), row.self_ns, f"self time: {exponent}", False, time_text)
        painter.end()

    def _paint(self, painter: QPainter, room: QRectF, values: Sequence[int], title: str, by_law: bool, write: Callable[[int], str]) -> None:
        row, colours = self._row, theme.now()
        assert row is not None
        painter.setFont(theme.font(theme.SMALL_PX, bold=True))
        painter.setPen(QColor(colours.soft))
        painter.drawText(room.adjusted(LEFT_PX, 0, -RIGHT_PX, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, title)
        field = room.adjusted(LEFT_PX, TOP_PX, -RIGHT_PX, -BOTTOM_PX)
        painter.setPen(QPen(QColor(colours.rule), 1))
        painter.drawLine(field.bottomLeft(), field.bottomRight())
        there = [(size, value) for size, value in zip(row.sizes, values, strict=True) if size > 0 and value > 0]
        if not there:
            return
        sizes, counts = [math.log(size) for size, _ in there], [math.log(value) for _, value in there]
        wide = max(sizes[-1] - sizes[0], 1e-9)
        high = max(_range(row.calls), _range(row.self_ns), wide)  # one scale for both, so that what is steeper grows faster

        def at(size: float, value: float) -> QPointF:
            inner = field.adjusted(6, 6, -6, -6)
            return QPointF(
                inner.left() + inner.width() * (size - sizes[0]) / wide, inner.bottom() - inner.height() * (value - min(counts)) / high
            )

        path = QPainterPath(at(sizes[-1], counts[-1]))
        for step in range(1, STEPS + 1):
            size = sizes[-1] - wide * step / STEPS
            if by_law:
                value = counts[-1] - math.log(max(growth_between(row.calls_law, math.exp(size), math.exp(sizes[-1])), 1e-12))
            else:
                slope = row.time_exponent if values is row.self_ns else row.calls_law.exponent
                value = counts[-1] - (slope or 0.0) * (sizes[-1] - size)
            path.lineTo(at(size, value))
        painter.save()
        painter.setClipRect(field)
        painter.setPen(QPen(colours.called("mine"), 2))
        painter.drawPath(path)
        painter.restore()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours.own("mine"))
        for size, value in zip(sizes, counts, strict=True):
            painter.drawEllipse(at(size, value), 3.2, 3.2)
        painter.setPen(QColor(colours.soft))
        painter.setFont(theme.font(theme.SMALL_PX))
        below = room.adjusted(LEFT_PX, 0, -RIGHT_PX, 0)
        first, last = there[0], there[-1]
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, f"{first[0]:g}: {write(first[1])}")
        painter.drawText(below, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, f"{last[0]:g}: {write(last[1])}")


def _range(values: Sequence[int]) -> float:
    """By how much the logarithms of values differ; those that are 0 are left out."""
    there = [value for value in values if value > 0]
    return math.log(max(there) / min(there)) if there else 0.0
