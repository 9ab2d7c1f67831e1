"""One grammar of bars: length is time; dark is own time, light what was called, dashed the round compared against."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from ricerca.desk.look import theme
from ricerca.engine.slices import Growth

BAR_PX = 12


def paint_bar(painter: QPainter, room: QRectF, full_ns: float, own_ns: float, whole_ns: float, base_ns: float | None,
              layer: str, height: float = BAR_PX) -> None:  # fmt: skip
    """Draw one bar in the vertical middle of room; full_ns is the time that fills its width."""
    colours = theme.now()
    width = room.width()
    scale = width / full_ns if full_ns > 0 else 0.0
    top = room.top() + (room.height() - height) / 2
    whole = min(whole_ns * scale, width)
    own = min(own_ns * scale, whole)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(Qt.PenStyle.NoPen)
    if whole_ns > 0:
        painter.fillRect(QRectF(room.left(), top, max(whole, 1.0), height), colours.called(layer))
        if own_ns > 0:
            painter.fillRect(QRectF(room.left(), top, max(own, 1.0), height), colours.own(layer))
    differs = base_ns is not None and (base_ns * scale > 3 or abs(base_ns - whole_ns) * scale > 2)
    if base_ns is not None and base_ns > 0 and differs:
        pen = QPen(QColor(colours.soft), 1, Qt.PenStyle.DashLine)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(room.left(), top - 1.5, min(max(base_ns * scale, 2.0), width - 1), height + 2))
    painter.restore()


def paint_mark(painter: QPainter, centre: QPointF, faster: bool, size: float = 7) -> None:
    """A triangle: down for faster, up for slower. Drawn, so that it needs no font."""
    colours = theme.now()
    sign = 1 if faster else -1
    half, tall = size / 2, size * 0.45 * sign
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(colours.faster if faster else colours.slower))
    painter.drawPolygon(
        QPolygonF([
            QPointF(centre.x() - half, centre.y() - tall),
            QPointF(centre.x() + half, centre.y() - tall),
            QPointF(centre.x(), centre.y() + tall),
        ])
    )  # fmt: skip
    painter.restore()


def change_colour(gain_ns: float) -> QColor:
    """Blue for time saved, amber for time lost."""
    colours = theme.now()
    return QColor(colours.faster if gain_ns > 0 else colours.slower if gain_ns < 0 else colours.soft)


def paint_growth(painter: QPainter, room: QRectF, grown: Growth) -> None:
    """Time per call over the run as a small line from zero up, with its straight line."""
    colours = theme.now()
    highest = max(float(grown.per_call_ns.max()), grown.last_ns, 1e-9)

    def at(when: float, value: float) -> QPointF:
        return QPointF(room.left() + room.width() * when, room.bottom() - room.height() * value / highest)

    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(colours.rule), 1))
    painter.drawLine(room.bottomLeft(), room.bottomRight())
    painter.setPen(QPen(QColor(colours.slower), 1, Qt.PenStyle.DashLine))
    painter.drawLine(at(float(grown.at[0]), grown.first_ns), at(float(grown.at[-1]), grown.last_ns))
    painter.setPen(QPen(QColor(colours.ink), 1.4))
    painter.drawPolyline(QPolygonF([at(float(when), float(value)) for when, value in zip(grown.at, grown.per_call_ns, strict=True)]))
    painter.restore()
