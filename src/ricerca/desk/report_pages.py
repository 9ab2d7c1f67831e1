"""Reports as HTML and PDF, with the pictures as the window draws them; made without a window."""

from __future__ import annotations

import base64
import math
import os
import re
from functools import cache
from importlib.resources import files

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QRectF, QSize, QSizeF, Qt, QUrl
from PyQt6.QtGui import QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument
from PyQt6.QtSvg import QSvgGenerator, QSvgRenderer
from PyQt6.QtWidgets import QApplication

from ricerca.desk.look import theme
from ricerca.desk.pages.graph_items import drawn_of, scene_of
from ricerca.desk.pages.graph_saving import picture
from ricerca.desk.pages.timeline import Staves
from ricerca.desk.view import make_view
from ricerca.engine.timeline import timeline
from ricerca.report.account import Account
from ricerca.report.graph import graph_of
from ricerca.report.page import Colours, page

GRAPH_ROOM = (1080.0, 620.0)
TIMELINE_WIDTH = 1080
PDF_WIDTH_PX = 680
SHARP = 3
"""Pixels of a picture in the PDF to each pixel of its page."""
Pictures = list[tuple[str, bytes]]


@cache
def application() -> QApplication:
    """The application that draws, on no display where there is none; kept, since Qt must not lose it while something is drawn."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from ricerca.desk.application import make_application

    app = make_application()
    theme.apply(app, theme.LIGHT)
    return app


def colours() -> Colours:
    """The light theme's colours: a report is read on paper."""
    light = theme.LIGHT
    names = {name: getattr(light, name) for name in ("ink", "soft", "paper", "panel", "rule", "faster", "slower")}
    return Colours(names, lambda layer: light.own(layer).name(), lambda layer: light.called(layer).name(), _fonts())


def _fonts() -> str:
    """The fonts of the window as part of the page, so that names in the pictures have the room they were measured for."""
    found = []
    for family, file, weight in ((theme.SANS, "IBMPlexSans-Regular.ttf", 400), (theme.SANS, "IBMPlexSans-SemiBold.ttf", 600)):
        content = base64.b64encode(files("ricerca.desk").joinpath("fonts", file).read_bytes()).decode("ascii")
        source = f"url(data:font/ttf;base64,{content})"
        found.append(f'@font-face {{ font-family: "{family}"; font-weight: {weight}; src: {source}; }}')
    return "\n".join(found)


def pictures(account: Account, nodes: int | None = None) -> Pictures:
    """Call graph and timeline as SVG."""
    view = make_view(account.pair)
    graph = picture(scene_of(drawn_of(view, graph_of(account.pair, nodes), GRAPH_ROOM)), ".svg")
    found = [("Call graph", graph)]
    line = timeline(account.loaded.profile)
    if line.slices and line.staves:
        staves = Staves(None)
        base = timeline(account.pair.base.profile) if account.pair.base is not None else None
        staves.show_line(view, line, base, None)
        staves.resize(TIMELINE_WIDTH, staves.minimumHeight())
        found.append(("Timeline", _svg_of(staves)))
    return found


def _svg_of(widget: Staves) -> bytes:
    held = QBuffer()
    held.open(QIODevice.OpenModeFlag.WriteOnly)
    device = QSvgGenerator()
    device.setOutputDevice(held)
    device.setSize(widget.size())
    device.setViewBox(QRectF(0, 0, widget.width(), widget.height()))
    device.setTitle("Timeline")
    painter = QPainter(device)
    widget.render(painter)
    painter.end()
    return held.data().data()


def html_report(account: Account, nodes: int | None = None) -> bytes:
    """The account as one HTML file."""
    application()
    shown = [(name, _inline(svg)) for name, svg in pictures(account, nodes)]
    return page(account, colours(), shown).encode("utf-8", "surrogateescape")


def _inline(svg: bytes) -> str:
    """An SVG as it can stand in HTML: without the head of a file of its own, and as wide as there is room."""
    text = svg.decode("utf-8", "replace")
    text = text[text.index("<svg") :]
    return re.sub(r'<svg width="[^"]*" height="[^"]*"', "<svg", text, count=1)


def pdf_report(account: Account, nodes: int | None = None) -> bytes:
    """The account as PDF, on A4."""
    application()
    document = QTextDocument()
    document.setDefaultFont(theme.font(11))
    tags = []
    for number, (name, svg) in enumerate(pictures(account, nodes)):
        image = _image(svg)
        place = QUrl(f"picture:{number}")
        document.addResource(QTextDocument.ResourceType.ImageResource.value, place, image)
        tags.append((name, f'<img src="{place.toString()}" width="{PDF_WIDTH_PX}">'))
    document.setHtml(page(account, colours(), tags, "print.html"))
    held = QBuffer()
    held.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(held)
    writer.setTitle(account.title)
    margins = QMarginsF(14, 14, 14, 14)
    size = QPageSize(QPageSize.PageSizeId.A4)
    writer.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, margins, QPageLayout.Unit.Millimeter))
    writer.setResolution(96)
    document.setPageSize(QSizeF(writer.width(), writer.height()))
    document.print(writer)
    return held.data().data()


def _image(svg: bytes) -> QImage:
    renderer = QSvgRenderer(QByteArray(svg))
    size = renderer.defaultSize()
    scale = PDF_WIDTH_PX * SHARP / max(size.width(), 1)
    image = QImage(QSize(PDF_WIDTH_PX * SHARP, math.ceil(size.height() * scale)), QImage.Format.Format_RGB32)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    renderer.render(painter)
    painter.end()
    return image
