"""What can be done with the selected function, as a menu on any row."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QInputDialog, QMenu, QWidget

from ricerca.desk.state import DeskState
from ricerca.engine.own_layers import patterns_of
from ricerca.report.wording import short_name

MOST = 48
Extra = tuple[str, Callable[[], None]]


def row_menu(state: DeskState, parent: QWidget, extra: tuple[Extra, ...] = ()) -> QMenu | None:
    """The menu, None with nothing selected. extra come first: what only the page asked knows of."""
    name = state.selected_name()
    if name is None:
        return None
    menu = QMenu(parent)
    for text, act in extra:
        menu.addAction(plain(text), act)
    add_reading_actions(menu, state)
    menu.addSeparator()
    add_claims(menu, state)
    _add_layers(menu, state, parent)
    menu.addSeparator()
    for page in ("Call tree", "Graph", "Timeline"):
        menu.addAction(f"Show it in {page}", partial(state.page_asked.emit, page))
    menu.addAction("Time a snippet of it", state.snippet_asked.emit)
    menu.addAction("Open in editor\tCtrl+E", state.editor_asked.emit)
    menu.addAction("Copy its name", partial(copy_text, f"{name[0]}.{name[1]}" if name[0] else name[1]))
    return menu


def show_row_menu(state: DeskState, parent: QWidget, place: QPoint, extra: tuple[Extra, ...] = ()) -> None:
    """Show the menu at a place of the parent."""
    menu = row_menu(state, parent, extra)
    if menu is not None:
        menu.exec(parent.mapToGlobal(place))
        menu.deleteLater()


def plain(text: str) -> str:
    """A text as a menu shows it, where an ampersand else marks a key."""
    return text.replace("&", "&&")


def add_reading_actions(menu: QMenu, state: DeskState) -> None:
    """What can be done to the reading with the selected function."""
    for text, keys, act in state.reading_actions():
        menu.addAction(plain(text) + (f"\t{keys}" if keys else ""), act)


def copy_text(text: str) -> None:
    """Put a text on the clipboard."""
    clipboard = QGuiApplication.clipboard()
    if clipboard is not None:
        clipboard.setText(text)


def add_claims(menu: QMenu, state: DeskState) -> None:
    """That the selected code is the person's own, or is not: the package in one step, narrower choices below."""
    mine, choices = state.claims()
    if not choices:
        return
    verdict = "is my code" if mine else "is not my code"
    menu.addAction(plain(f"{short_name(choices[0][1], MOST)} {verdict}"), partial(state.claim, choices[0][1], mine))
    narrower = menu.addMenu(f"Only a part {verdict}") if len(choices) > 1 else None
    for words, pattern in choices[1:] if narrower is not None else ():
        narrower.addAction(plain(f"{words} {short_name(pattern, MOST)}"), partial(state.claim, pattern, mine))


def _add_layers(menu: QMenu, state: DeskState, parent: QWidget) -> None:
    place = state.selected_place()
    if place is None:
        return
    choices = patterns_of(*place)
    held = next(((layer, found) for layer in state.own_layers if (found := layer.pattern_for(*place)) is not None), None)
    if held is not None:
        layer, pattern = held
        inner = menu.addMenu(plain(f"Layer {layer.name} holds it by {short_name(pattern, MOST)}"))
        at = next((row for row, (_words, other) in enumerate(choices) if other == pattern), -1)
        for row, (words, other) in enumerate(choices):
            if other != pattern and inner is not None:
                way = "Reshape to" if at < 0 else "Broaden to" if row > at else "Narrow to"
                inner.addAction(plain(f"{way} {words} {short_name(other, MOST)}"), partial(state.reshape_layer, layer.name, pattern, other))
    inner = menu.addMenu("Put in a layer…")
    if inner is None:
        return
    for words, pattern in choices:
        into = inner.addMenu(plain(f"{words} {short_name(pattern, MOST)}"))
        if into is None:
            continue
        for own_layer in state.own_layers:
            into.addAction(plain(own_layer.name), partial(state.put_in_layer, own_layer.name, pattern))
        into.addAction("A new layer…", partial(ask_new_layer, state, parent, pattern))


def ask_new_layer(state: DeskState, parent: QWidget, pattern: str) -> None:
    """Ask for the name of a new layer that begins with a pattern."""
    name, given = QInputDialog.getText(parent, "A new layer", f"Name of the layer for {pattern}:")
    if given and name.strip():
        state.put_in_layer(name, pattern)
