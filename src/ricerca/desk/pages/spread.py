"""One snippet's times: a row with its text, where its blocks lie on a common scale, the median and the verdict."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.report.wording import time_text

ROW_PX, SIDE_PX = 46, 4
TEXT_SHARE, TIME_PX, VERDICT_PX = 0.36, 116, 196


class SpreadRow(QWidget):
    """All rows of a result share ``longest_ns``, the time at the right end of the scale, so that lengths can be compared."""

    def __init__(
        self, row: dict[str, Any], longest_ns: float, beside: str, verdict: str, change: str, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._row, self._longest_ns = row, max(longest_ns, 1e-9)
        self._time, self._beside, self._verdict, self._change = time_text(row["median_ns"]), beside, verdict, change
        self.setFixedHeight(ROW_PX)
        self.setToolTip(tip(f"{row['text']}\nThe line runs from the quickest block to the slowest, the thick part holds the middle half, "
                            "the mark is the median."))  # fmt: skip
        self.setAccessibleName(f"{row['number']}: {row['text']}, {self._time}, {beside}, {verdict}")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        colours = theme.now()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = QRectF(self.rect()).adjusted(SIDE_PX, 0, -SIDE_PX, 0)
        text = QRectF(room.left(), 0, room.width() * TEXT_SHARE, ROW_PX)
        painter.setFont(theme.font(theme.TEXT_PX, bold=True))
        painter.setPen(QColor(colours.soft))
        left = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        painter.drawText(text, left, str(self._row["number"]))
        painter.setFont(theme.font(theme.CODE_PX, mono=True))
        painter.setPen(QColor(colours.ink))
        words = " ".join(self._row["text"].split())
        inner = text.adjusted(22, 0, -12, 0)
        painter.drawText(
            inner, left, theme.metrics(theme.CODE_PX, mono=True).elidedText(words, Qt.TextElideMode.ElideRight, int(inner.width()))
        )
        verdict = QRectF(room.right() - VERDICT_PX, 0, VERDICT_PX, ROW_PX)
        time = QRectF(verdict.left() - TIME_PX, 0, TIME_PX, ROW_PX)
        self._paint_spread(painter, QRectF(text.right(), 0, time.left() - text.right() - 8, ROW_PX))
        painter.setFont(theme.font(theme.TEXT_PX, bold=True))
        painter.setPen(QColor(colours.ink))
        above, below = time.adjusted(0, 4, -12, -ROW_PX / 2), time.adjusted(0, ROW_PX / 2, -12, -4)
        painter.drawText(above, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._time)
        painter.setFont(theme.font(theme.SMALL_PX))
        painter.setPen(QColor(colours.soft))
        painter.drawText(below, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._beside)
        painter.setFont(theme.font(theme.TEXT_PX))
        painter.setPen(QColor({"faster": colours.faster, "slower": colours.slower}.get(self._change, colours.soft)))
        painter.drawText(verdict, left | Qt.TextFlag.TextWordWrap, self._verdict)
        painter.end()

    def _paint_spread(self, painter: QPainter, room: QRectF) -> None:
        colours, middle = theme.now(), room.center().y()
        low, first, median, third, high = (
            room.left() + room.width() * min(end / self._longest_ns, 1.0) for end in self._row["spread_ns"]
        )  # fmt: skip
        painter.setPen(QPen(QColor(colours.rule), 1))
        painter.drawLine(QPointF(room.left(), middle), QPointF(room.right(), middle))
        painter.setPen(QPen(QColor(colours.soft), 1.5))
        painter.drawLine(QPointF(low, middle), QPointF(high, middle))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours.called("mine"))
        painter.drawRoundedRect(QRectF(first - 1, middle - 6, max(third - first, 0) + 2, 12), 2, 2)
        painter.setBrush(colours.own("mine"))
        painter.drawRect(QRectF(median - 1.25, middle - 9, 2.5, 18))
