"""Colours, fonts and the style sheet: a light and a dark theme, following the system."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QFontMetrics, QPalette
from PyQt6.QtWidgets import QApplication

from ricerca.engine.layers import BUILTINS, COLLECTION, IMPORTS, LIBRARY, MINE, PACKAGES, PROGRAMS

ICONS = str(files("ricerca.desk").joinpath("icons"))

SANS, MONO = "IBM Plex Sans", "IBM Plex Mono"
TEXT_PX, SMALL_PX, TITLE_PX, CODE_PX = 14, 12, 18, 13


@dataclass(frozen=True)
class Theme:
    """One set of colours; every text colour has a contrast of at least 4.5 to its ground."""

    dark: bool
    paper: str
    panel: str
    raised: str
    rule: str
    ink: str
    soft: str
    chosen: str
    faster: str
    slower: str
    accent: str
    hues: tuple[tuple[str, str, str], ...]
    """Layer name, colour of own time, colour of the time in what it called."""

    def own(self, layer: str) -> QColor:
        """Colour of a layer's own time."""
        if layer in _own_layers:
            return QColor(_readable(_own_layers[layer], self.ink, self.paper))
        return QColor(next((own for name, own, _called in self.hues if name == layer), self.soft))

    def called(self, layer: str) -> QColor:
        """Colour of the time in what a layer called."""
        if layer in _own_layers:
            return mixed(self.own(layer), QColor(self.paper), CALLED_SHARE)
        return QColor(next((called for name, _own, called in self.hues if name == layer), self.rule))


CALLED_SHARE = 0.38
"""Of a layer's own colour in that of what it called; the rest is paper."""
LEAST_CONTRAST = 4.5


def mixed(colour: QColor, ground: QColor, share: float) -> QColor:
    """So much of a colour on a ground."""
    parts = zip(colour.getRgb()[:3], ground.getRgb()[:3], strict=True)
    return QColor(*(round(share * (top or 0) + (1 - share) * (below or 0)) for top, below in parts))


def contrast(one: QColor, other: QColor) -> float:
    """Contrast ratio of two colours, 1 to 21, as W3C's WCAG 2.1 has it."""

    def light(colour: QColor) -> float:
        parts = [part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in colour.getRgbF()[:3] if part is not None]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    low, high = sorted((light(one), light(other)))
    return (high + 0.05) / (low + 0.05)


@lru_cache(maxsize=64)
def _readable(colour: str, ink: str, paper: str) -> str:
    """A colour that a person chose, with as much ink in it as it needs to be read on paper."""
    found = QColor(colour)
    while contrast(found, QColor(paper)) < LEAST_CONTRAST:
        found = mixed(QColor(ink), found, 0.1)
    return found.name()


LIGHT = Theme(
    dark=False, paper="#fbf9f4", panel="#f3efe5", raised="#ffffff", rule="#dcd5c5", ink="#23272c", soft="#5a5f66",
    chosen="#e4ebe6", faster="#1c5aa8", slower="#94560a", accent="#1d6670",
    hues=((MINE, "#1d6670", "#a9cdd0"), (LIBRARY, "#7b5590", "#d6c4df"), (PACKAGES, "#75712a", "#d6d3a4"),
          (BUILTINS, "#566b80", "#c3cdd7"), (IMPORTS, "#8a5a44", "#dfc9bd"), (COLLECTION, "#9a3d5e", "#e3bfcc"),
          (PROGRAMS, "#3f6b3f", "#bcd3bb")),
)  # fmt: skip
DARK = Theme(
    dark=True, paper="#1c1f23", panel="#24282d", raised="#2b3036", rule="#3b4148", ink="#ece8df", soft="#aeb3b9",
    chosen="#2f3d3f", faster="#86b6f5", slower="#e5a552", accent="#6fc3c9",
    hues=((MINE, "#58b3ba", "#2c5a5e"), (LIBRARY, "#b592cb", "#54415f"), (PACKAGES, "#bdb85f", "#57552c"),
          (BUILTINS, "#94abc2", "#42505e"), (IMPORTS, "#cf9c83", "#5a4338"), (COLLECTION, "#d98aa5", "#5e3644"),
          (PROGRAMS, "#8fc08d", "#3a553a")),
)  # fmt: skip

_now = LIGHT
_own_layers: dict[str, str] = {}


def know_layers(colours: dict[str, str]) -> None:
    """Colours of the person's own layers."""
    _own_layers.clear()
    _own_layers.update(colours)


def now() -> Theme:
    """The theme in use."""
    return _now


@lru_cache(maxsize=64)
def font(size_px: int = TEXT_PX, bold: bool = False, mono: bool = False, italic: bool = False) -> QFont:
    """A shipped font at a size in pixels. Shared: do not change it."""
    made = QFont(MONO if mono else SANS)
    made.setPixelSize(size_px)
    made.setItalic(italic)
    if bold:
        made.setWeight(QFont.Weight.DemiBold)
    return made


@lru_cache(maxsize=64)
def metrics(size_px: int = TEXT_PX, bold: bool = False, mono: bool = False) -> QFontMetrics:
    """Widths and heights of a shipped font."""
    return QFontMetrics(font(size_px, bold, mono))


def load_fonts() -> None:
    """Make the shipped fonts known, so that the window looks the same everywhere."""
    for entry in files("ricerca.desk").joinpath("fonts").iterdir():
        if entry.name.endswith(".ttf"):
            QFontDatabase.addApplicationFontFromData(entry.read_bytes())
    font.cache_clear()  # what was measured before was another font
    metrics.cache_clear()


def system_theme(app: QApplication) -> Theme:
    """Light or dark, as the system has it."""
    hints = app.styleHints()
    return DARK if hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark else LIGHT


def apply(app: QApplication, theme: Theme) -> None:
    """Dress the application."""
    global _now
    _now = theme
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, colour in (
        (roles.Window, theme.paper), (roles.Base, theme.paper), (roles.AlternateBase, theme.panel),
        (roles.Button, theme.panel), (roles.Text, theme.ink), (roles.WindowText, theme.ink),
        (roles.ButtonText, theme.ink), (roles.ToolTipBase, theme.raised), (roles.ToolTipText, theme.ink),
        (roles.Highlight, theme.chosen), (roles.HighlightedText, theme.ink), (roles.PlaceholderText, theme.soft),
        (roles.Link, theme.accent), (roles.Mid, theme.rule), (roles.Light, theme.raised),
    ):  # fmt: skip
        palette.setColor(role, QColor(colour))
    for role in (roles.Text, roles.WindowText, roles.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(theme.soft))
    app.setPalette(palette)
    app.setStyleSheet(_sheet(theme))


def _sheet(t: Theme) -> str:
    return f"""
    QToolTip {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.rule}; padding: 6px; }}
    QTableView, QTreeView, QListView, QPlainTextEdit {{ border: none; background: {t.paper}; outline: none; }}
    QListWidget#found {{ border: 1px solid {t.rule}; background: {t.raised}; }}
    QListWidget#found::item {{ padding: 3px 8px; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.soft}; border: none; border-bottom: 1px solid {t.rule};
        padding: 6px 8px; font-size: {SMALL_PX}px; }}
    QLineEdit, QPlainTextEdit#entry {{ background: {t.raised}; color: {t.ink};
        border: 1px solid {t.rule}; border-radius: 4px; padding: 5px 8px; selection-background-color: {t.accent};
        selection-color: {t.paper}; }}
    QLineEdit:focus, QPlainTextEdit#entry:focus {{ border: 1px solid {t.accent}; }}
    QComboBox, QSpinBox, QDoubleSpinBox {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.rule}; border-radius: 4px;
        padding: 5px 8px; selection-background-color: {t.accent}; selection-color: {t.paper}; }}
    QComboBox:focus, QSpinBox:focus, QDoubleSpinBox:focus {{ border: 1px solid {t.accent}; }}
    QComboBox:disabled, QSpinBox:disabled, QDoubleSpinBox:disabled, QLineEdit:disabled {{ color: {t.soft}; background: {t.panel}; }}
    QComboBox::drop-down {{ subcontrol-origin: padding; subcontrol-position: center right; width: 22px; border: none; }}
    QComboBox::down-arrow {{ image: url({ICONS}/down.svg); width: 10px; height: 10px; }}
    QSpinBox::up-button, QDoubleSpinBox::up-button {{ subcontrol-origin: border; subcontrol-position: top right; width: 20px;
        border: none; }}
    QSpinBox::down-button, QDoubleSpinBox::down-button {{ subcontrol-origin: border; subcontrol-position: bottom right; width: 20px;
        border: none; }}
    QSpinBox::up-arrow, QDoubleSpinBox::up-arrow {{ image: url({ICONS}/up.svg); width: 9px; height: 9px; }}
    QSpinBox::down-arrow, QDoubleSpinBox::down-arrow {{ image: url({ICONS}/down.svg); width: 9px; height: 9px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.rule};
        selection-background-color: {t.chosen}; selection-color: {t.ink}; outline: none; }}
    QComboBox QLineEdit, QSpinBox QLineEdit, QDoubleSpinBox QLineEdit {{ border: none; padding: 0; background: transparent; }}
    QComboBox QLineEdit:focus, QSpinBox QLineEdit:focus, QDoubleSpinBox QLineEdit:focus {{ border: none; }}
    QPushButton {{ background: {t.raised}; border: 1px solid {t.rule}; border-radius: 4px; padding: 6px 14px; }}
    QPushButton:hover {{ border-color: {t.accent}; }}
    QPushButton:focus {{ border: 1px solid {t.accent}; }}
    QPushButton:disabled {{ color: {t.soft}; background: {t.panel}; }}
    QPushButton#main {{ background: {t.accent}; color: {t.paper}; border: 1px solid {t.accent}; font-weight: 600; }}
    QPushButton#clause {{ background: transparent; border: none; border-bottom: 1px solid {t.accent}; border-radius: 0;
        padding: 2px 1px; color: {t.accent}; font-weight: 600; }}
    QPushButton#clause:hover, QPushButton#clause:focus {{ background: {t.chosen}; }}
    QPushButton#clause::menu-indicator {{ width: 0; }}
    QPushButton#page {{ background: transparent; border: none; border-bottom: 2px solid transparent; border-radius: 0;
        padding: 8px 2px; margin-right: 20px; color: {t.soft}; }}
    QPushButton#page:checked {{ color: {t.ink}; border-bottom: 2px solid {t.accent}; font-weight: 600; }}
    QPushButton#page:hover, QPushButton#page:focus {{ color: {t.ink}; background: {t.chosen}; }}
    QPushButton#quiet {{ background: transparent; border: none; color: {t.accent}; padding: 4px 2px; }}
    QPushButton#quiet:hover, QPushButton#quiet:focus {{ text-decoration: underline; }}
    QMenu {{ background: {t.raised}; border: 1px solid {t.rule}; padding: 4px; }}
    QMenu::item {{ padding: 6px 20px; }}
    QMenu::item:selected {{ background: {t.chosen}; color: {t.ink}; }}
    QCheckBox::indicator {{ width: 13px; height: 13px; border: 1px solid {t.soft}; border-radius: 3px; background: {t.raised}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border: 1px solid {t.accent}; }}
    QLabel#soft {{ color: {t.soft}; font-size: {SMALL_PX}px; }}
    QLabel#heading {{ color: {t.soft}; font-size: {SMALL_PX}px; font-weight: 600; }}
    QFrame#panel {{ background: {t.panel}; border: none; }}
    QFrame#notice {{ background: {t.chosen}; border: none; border-radius: 4px; }}
    QFrame#ruled {{ background: {t.paper}; border: none; border-bottom: 1px solid {t.rule}; }}
    QSplitter::handle {{ background: {t.paper}; border-left: 1px solid {t.rule}; }}
    QSplitter::handle:hover {{ background: {t.chosen}; border-left: 1px solid {t.accent}; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
    QScrollBar::handle {{ background: {t.rule}; border-radius: 4px; min-height: 28px; min-width: 28px; }}
    QScrollBar::handle:hover {{ background: {t.soft}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QScrollArea {{ border: none; background: transparent; }}
    """
