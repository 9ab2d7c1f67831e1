"""Saves the call graph: as a picture, or as text that other programs read."""

from __future__ import annotations

import math
import os
from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice, QMarginsF, QRectF, QSize, QSizeF
from PyQt6.QtGui import QColor, QImage, QPageLayout, QPageSize, QPaintDevice, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QGraphicsScene

from ricerca.desk.look import theme
from ricerca.desk.pages.graph_items import drawn_of, scene_of
from ricerca.desk.view import make_view
from ricerca.engine.graph import Graph
from ricerca.loading import Pair
from ricerca.report.export import export_bytes
from ricerca.report.graph import GRAPHS, graph_of

PICTURE_ROOM = (1600.0, 900.0)
"""Width and height that a picture made without a window has."""


def save_graph(path: Path, graph: Graph, scene: QGraphicsScene) -> None:
    """Write the graph in the format of the file's ending; SVG where it is none of ours.

    Raises
    ------
    EnvironmentProblem
        It could not be written.
    """
    ending = path.suffix.lower()
    export_bytes(path, GRAPHS[ending](graph).encode() if ending in GRAPHS else picture(scene, ending))


def graph_picture(pair: Pair, suffix: str, nodes: int | None) -> bytes:
    """The call graph as a picture, made without a window."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from ricerca.desk.application import make_application

    app = make_application()
    theme.apply(app, theme.LIGHT)
    return picture(scene_of(drawn_of(make_view(pair), graph_of(pair, nodes), PICTURE_ROOM)), suffix)


def picture(scene: QGraphicsScene, suffix: str) -> bytes:
    """A scene as PNG (twice as large as on the screen), PDF or SVG."""
    room, held = scene.sceneRect(), QBuffer()
    held.open(QIODevice.OpenModeFlag.WriteOnly)
    if suffix == ".png":
        image = QImage(math.ceil(room.width() * 2), math.ceil(room.height() * 2), QImage.Format.Format_ARGB32)
        image.fill(QColor(theme.now().paper))
        _render(scene, image)
        image.save(held, "PNG")
    else:
        _render(scene, _pdf(held, room) if suffix == ".pdf" else _svg(held, room))
    return held.data().data()


def _render(scene: QGraphicsScene, device: QPaintDevice) -> None:
    painter = QPainter(device)
    scene.render(painter)
    painter.end()


def _pdf(held: QIODevice, room: QRectF) -> QPdfWriter:
    device = QPdfWriter(held)
    size = QPageSize(QSizeF(room.width(), room.height()) * 0.75, QPageSize.Unit.Point)
    device.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, QMarginsF()))
    return device


def _svg(held: QIODevice, room: QRectF) -> QSvgGenerator:
    device = QSvgGenerator()
    device.setOutputDevice(held)
    device.setSize(QSize(math.ceil(room.width()), math.ceil(room.height())))
    device.setViewBox(QRectF(0, 0, room.width(), room.height()))
    device.setTitle("Call graph")
    return device
