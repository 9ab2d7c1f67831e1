"""The functions that lead while a recording is being made."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_bar
from ricerca.recording.live import Glance
from ricerca.report.wording import count_text, time_text

ROW_PX = 24
MOST = 8


class Leaders(QWidget):
    """Name, bar, own time so far and calls so far; the recorder's own cost is still in them."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(ROW_PX * MOST)
        self.setAccessibleName("Current leaders")
        self._glance: Glance | None = None

    def show_glance(self, glance: Glance | None) -> None:
        """Draw another state of affairs."""
        self._glance = glance
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        colours = theme.now()
        painter = QPainter(self)
        painter.setFont(theme.font())
        if self._glance is None or not self._glance.leaders:
            painter.setPen(QColor(colours.soft))
            painter.drawText(
                self.rect(), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, "Shown while the recorded run is in progress."
            )
            return
        longest = max(self._glance.leaders[0][1], 1)
        name_px, number_px = 220, 110
        bar_px = max(self.width() - name_px - 2 * number_px - 16, 40)
        metrics = QFontMetrics(painter.font())
        for row, (name, self_ns, calls) in enumerate(self._glance.leaders[:MOST]):
            y = row * ROW_PX
            painter.setPen(QColor(colours.ink))
            painter.drawText(QRectF(0, y, name_px - 8, ROW_PX), Qt.AlignmentFlag.AlignVCenter,
                             metrics.elidedText(name, Qt.TextElideMode.ElideRight, name_px - 8))  # fmt: skip
            paint_bar(painter, QRectF(name_px, y, bar_px, ROW_PX), longest, self_ns, self_ns, None, "mine")
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(name_px + bar_px, y, number_px, ROW_PX), right, time_text(self_ns))
            painter.setPen(QColor(colours.soft))
            painter.drawText(QRectF(name_px + bar_px + number_px, y, number_px, ROW_PX), right, count_text(calls))
        painter.end()
