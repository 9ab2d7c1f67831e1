"""Saves the call graph: as a picture, or as text that other programs read."""

from __future__ import annotations

import math
from pathlib import Path

from PyQt6.QtCore import QMarginsF, QRectF, QSize, QSizeF
from PyQt6.QtGui import QColor, QImage, QPageLayout, QPageSize, QPaintDevice, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QGraphicsScene

from ricerca.desk.look import theme
from ricerca.engine.graph import Graph
from ricerca.engine.graph_text import to_dot, to_graphml

TEXTS = {".dot": to_dot, ".graphml": to_graphml}


def save_graph(path: Path, graph: Graph, scene: QGraphicsScene) -> None:
    """Write the graph in the format of the file's ending; SVG where it is none of ours.

    Raises
    ------
    OSError
        It could not be written.
    """
    ending, room = path.suffix.lower(), scene.sceneRect()
    if ending in TEXTS:
        path.write_text(TEXTS[ending](graph), encoding="utf-8")
    elif ending == ".png":
        image = QImage(math.ceil(room.width() * 2), math.ceil(room.height() * 2), QImage.Format.Format_ARGB32)
        image.fill(QColor(theme.now().paper))
        _render(scene, image)
        if not image.save(str(path)):
            raise OSError(0, "the picture could not be saved")
    else:
        _render(scene, _pdf(path, room) if ending == ".pdf" else _svg(path, room))


def _render(scene: QGraphicsScene, device: QPaintDevice) -> None:
    painter = QPainter(device)
    scene.render(painter)
    painter.end()


def _pdf(path: Path, room: QRectF) -> QPdfWriter:
    device = QPdfWriter(str(path))
    size = QPageSize(QSizeF(room.width(), room.height()) * 0.75, QPageSize.Unit.Point)
    device.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, QMarginsF()))
    return device


def _svg(path: Path, room: QRectF) -> QSvgGenerator:
    device = QSvgGenerator()
    device.setFileName(str(path))
    device.setSize(QSize(math.ceil(room.width()), math.ceil(room.height())))
    device.setViewBox(QRectF(0, 0, room.width(), room.height()))
    device.setTitle("Call graph")
    return device
