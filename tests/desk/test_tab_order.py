"""Tab goes through the window as the eye does, with real keys."""

from __future__ import annotations

import shutil
from itertools import pairwise
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, QSettings, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDoubleSpinBox, QLineEdit

from ricerca.desk.application import make_application
from ricerca.desk.window import Window

HARBOUR = Path(__file__).parents[2] / "src" / "ricerca" / "examples" / "harbour.ricerca"


@pytest.fixture
def window(qtbot, tmp_path):
    make_application()
    study = shutil.copy(HARBOUR, tmp_path / "h.ricerca")
    made = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat), Path(study))
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=60_000)
    yield made
    made.close()


def stops(window):
    """What has the keyboard after each press of Tab, once around."""
    window.find_box.setFocus()
    found = []
    while (now := QApplication.focusWidget()) not in found:
        assert len(found) < 80
        found.append(now)
        QTest.keyClick(now, Qt.Key.Key_Tab)
        QApplication.processEvents()
    return found


FIND, READING, ROUNDS, TABS, PAGE, DETAILS = range(6)


def pane_of(window, widget):
    if widget in window.tabs.buttons():
        return TABS
    panes = {
        FIND: window.find_box,
        READING: window.reading,
        ROUNDS: window.rounds,
        PAGE: window.pages.currentWidget(),
        DETAILS: window.details,
    }
    return next(number for number, pane in panes.items() if widget is pane or pane.isAncestorOf(widget))


@pytest.mark.parametrize("page", ["Leads", "Functions", "Call tree", "Timeline", "History"])
def test_tab_goes_pane_by_pane_and_line_by_line(window, qtbot, page):
    window.show_named_page(page)
    qtbot.waitUntil(lambda: not window.workers.busy, timeout=20_000)
    qtbot.wait(100)
    found = stops(window)
    order = [pane_of(window, widget) for widget in found]
    assert order == sorted(order)
    assert set(order) == set(range(6)), "each pane has something for the keyboard"
    for before, after in pairwise(found):
        if pane_of(window, before) != pane_of(window, after) or isinstance(before, QLineEdit | QDoubleSpinBox):
            continue
        high, low = (widget.mapTo(window, QPoint(0, 0)) for widget in (before, after))
        assert high.y() - low.y() <= 60
        assert low.y() + after.height() > high.y() or low.x() > high.x()


def test_the_order_holds_for_cards_that_were_made_anew(window, qtbot):
    window.show_named_page("Leads")
    qtbot.waitUntil(lambda: not window.workers.busy, timeout=20_000)
    window.state.look_at(2, 1)
    qtbot.waitUntil(lambda: window.state.view.loaded.round.number == 2 and not window.workers.busy, timeout=20_000)
    qtbot.wait(100)
    order = [pane_of(window, widget) for widget in stops(window)]
    assert order == sorted(order)
    assert order.count(PAGE) >= len(window.leads.cards)
