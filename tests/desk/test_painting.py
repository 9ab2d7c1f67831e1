"""The one kind of bar, painted: dark own time, light called, dashed the round compared against; marks of change; lines of growth."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QImage, QPainter

from ricerca.desk.look import painting, theme
from ricerca.engine.slices import Growth

WHITE = QColor("white")
ROOM = QRectF(10, 0, 200, 20)


@pytest.fixture
def image(qapp):
    found = QImage(220, 20, QImage.Format.Format_RGB32)
    found.fill(WHITE)
    return found


def painted(image: QImage, act) -> QImage:
    painter = QPainter(image)
    act(painter)
    painter.end()
    return image


def columns(image: QImage, y: int = 10) -> list[int]:
    return [x for x in range(image.width()) if image.pixelColor(x, y) != WHITE]


def bar(image: QImage, full: float, own: float, whole: float, base: float | None = None) -> QImage:
    return painted(image, lambda painter: painting.paint_bar(painter, ROOM, full, own, whole, base, "mine"))


def test_length_is_time_dark_is_own_and_light_was_called(image):
    bar(image, 100, 25, 75)
    assert columns(image) == list(range(10, 160))
    assert image.pixelColor(30, 10) == QColor(theme.now().own("mine"))
    assert image.pixelColor(130, 10) == QColor(theme.now().called("mine"))
    assert image.pixelColor(30, 10).lightness() < image.pixelColor(130, 10).lightness()


def test_no_time_is_no_bar_and_a_little_time_is_still_seen(image):
    assert columns(bar(image, 100, 0, 0)) == []
    assert columns(bar(image, 1e9, 1, 1)) == [10]


def test_a_bar_never_leaves_its_room(image):
    assert columns(bar(image, 100, 500, 900))[-1] == 209
    image.fill(WHITE)
    assert columns(bar(image, 0, 5, 5)) == [10]


def test_the_round_compared_against_is_a_dashed_outline(image):
    bar(image, 100, 10, 20, 80)
    top = columns(image, 2)
    assert top[0] == 10
    assert 165 <= top[-1] <= 171
    assert 0.4 < len(top) / (top[-1] - top[0]) < 0.8  # dashes, not a line


def test_faster_points_down_in_blue_and_slower_up_in_amber(image):
    def wide(y: int) -> int:
        return len([x for x in columns(image, y) if abs(x - 100) < 6])

    painted(image, lambda painter: painting.paint_mark(painter, QPointF(100, 10), True, 10))
    assert wide(8) > wide(12)
    assert image.pixelColor(100, 9) == QColor(theme.now().faster)
    image.fill(WHITE)
    painted(image, lambda painter: painting.paint_mark(painter, QPointF(100, 10), False, 10))
    assert wide(12) > wide(8)
    assert painting.change_colour(-1) == QColor(theme.now().slower)
    assert painting.change_colour(1) == QColor(theme.now().faster)
    assert painting.change_colour(0) == QColor(theme.now().soft)


def test_growth_is_a_line_that_rises_to_the_right(image):
    grown = Growth(np.linspace(0, 1, 6), np.asarray([1.0, 2, 3, 4, 5, 6]), 1.0, 6.0, 5.0, 0.001)
    painted(image, lambda painter: painting.paint_growth(painter, QRectF(10, 2, 200, 16), grown))
    ink = [min(y for y in range(20) if image.pixelColor(x, y).lightness() < 140) for x in (20, 110, 200)]
    assert ink[0] > ink[1] > ink[2]
