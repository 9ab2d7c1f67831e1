"""Graph, timeline, the sentence and its history, with real keys and clicks."""

from __future__ import annotations

import json
import shutil
import xml.etree.ElementTree as ET

import numpy as np
import pytest
from conftest import ricerca
from PyQt6.QtCore import QItemSelectionModel, QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton
from test_window import (  # noqa: F401 - fixtures
    no_qt_warnings,
    number_of,
    open_window,
    settings,
    study,
)

from ricerca.desk.pages.leads import STEPS
from ricerca.desk.pages.row_menu import row_menu
from ricerca.desk.rounds.column import describe, expected_of
from ricerca.desk.window import PAGES
from ricerca.engine.own_layers import OwnLayer
from ricerca.engine.reading import parse
from ricerca.loading import Pair, load
from ricerca.report.leads import lead_sentence
from ricerca.study.store import Study

RING = """
def even(n):
    return n == 0 or odd(n - 1)
def odd(n):
    return n != 0 and even(n - 1)
def slower(n):
    total = 0
    for step in range(n * 1200):  # so long that a moment in which the machine was busy does not make the others matter
        total += step
    return total
for n in range(150):
    slower(n)
    if n % 5 == 0:
        even(20)
"""


@pytest.fixture
def window(open_window, study, tmp_path):  # noqa: F811
    own = tmp_path / "job.ricerca"
    shutil.copy(study, own)
    made = open_window(own)
    made.show_named_page("Functions")
    return made


def settle(qtbot, window):
    qtbot.waitUntil(lambda: not window.workers.busy, timeout=20_000)


def names(window):
    loaded = window.state.view.loaded
    return {loaded.profile.functions.name[n] for n in loaded.profile.function.tolist()}


def test_the_first_look_is_charged_to_my_code_and_one_key_switches(qtbot, window):
    assert window.reading.charge_button.text() == "charged to my code"
    assert "sleep" not in names(window)
    before = window.state.view.loaded.profile.total_ns
    QTest.keyClick(window, Qt.Key.Key_G, Qt.KeyboardModifier.ControlModifier)
    settle(qtbot, window)
    assert window.reading.charge_button.text() == "not charged"
    assert {"sleep", "sorted"} <= names(window)
    assert window.state.view.loaded.profile.total_ns == before


def test_clauses_enter_by_key_and_leave_by_click_and_history_goes_both_ways(qtbot, window):
    window.state.select(number_of(window, "inner"))
    QTest.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    settle(qtbot, window)
    assert [chip.text() for chip in window.reading._chips] == ["inside inner ×"]
    assert "work" not in names(window)
    inside = window.state.view.loaded.profile.total_ns
    QTest.mouseClick(window.reading._chips[0], Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    assert "work" in names(window)
    assert window.state.view.loaded.profile.total_ns > inside
    QTest.mouseClick(window.reading.back, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    assert window.state.reading.inside == ("inner",)
    window.state.forward()
    settle(qtbot, window)
    assert window.state.reading.inside == ()


@pytest.mark.parametrize("page", PAGES)
def test_the_mouse_leads_back_and_forward_wherever_it_points(qtbot, window, page):
    window.show_named_page(page)
    window.state.set_reading(parse("inside inner"))
    settle(qtbot, window)
    middle = window.rect().center()
    for button, inside in ((Qt.MouseButton.BackButton, ()), (Qt.MouseButton.ForwardButton, ("inner",))):
        QTest.mouseClick(window.windowHandle(), button, pos=middle)
        settle(qtbot, window)
        assert window.state.reading.inside == inside


def test_a_page_shows_the_figures_that_the_command_line_gives_for_the_same_sentence(qtbot, window):
    for sentence in ("inside work; by module", "on-CPU time; charged to my code", "without inner; imports folded"):
        window.state.set_reading(parse(sentence))
        settle(qtbot, window)
        facts = json.loads(ricerca("rank", window.state.path, "--reading", window.state.reading.text, "--json").stdout)
        figures, table = window.state.view.loaded.figures, window.state.view.loaded.profile.functions
        assert facts["total_ns"] == window.state.view.loaded.profile.total_ns
        for row in facts["functions"]:
            number = next(n for n, key in enumerate(zip(table.module, table.name, table.first_line, strict=True))
                          if key == (row["module"], row["function"], row["line"]))  # fmt: skip
            assert (row["calls"], row["self_ns"], row["inclusive_ns"]) == (
                figures.calls[number], figures.self_ns[number], figures.inclusive_ns[number])  # fmt: skip


def test_a_reading_kept_under_a_name_is_there_after_opening_again(qtbot, window):
    window.state.set_reading(parse("inside work"))
    settle(qtbot, window)
    window.state.keep_reading("the work")
    settle(qtbot, window)
    assert window.state.kept_readings == {"the work": "inside work"}
    with Study.open(window.state.path) as kept:
        assert kept.readings() == {"the work": "inside work"}


def test_the_graph_walks_folds_and_is_saved_in_five_formats(qtbot, window, tmp_path):
    window.state.set_reading(parse("everything"))
    window.show_named_page("Graph")
    settle(qtbot, window)
    page = window.graph
    page.slider.setValue(page.slider.maximum())  # how many nodes are drawn at first depends on their times
    settle(qtbot, window)
    shown = {node.name for node in page._drawn.graph.nodes}
    assert {"work", "inner", "sorted", "<module>"} <= shown
    window.state.select(number_of(window, "work"))
    QTest.keyClick(page.view, Qt.Key.Key_Right)
    assert window.state.selected == number_of(window, "inner")
    QTest.keyClick(page.view, Qt.Key.Key_Left)
    assert window.state.selected == number_of(window, "work")
    for ending in ("svg", "pdf", "png", "dot", "graphml"):
        page.save(tmp_path / f"calls.{ending}")
        assert (tmp_path / f"calls.{ending}").stat().st_size > 500
    root = ET.parse(tmp_path / "calls.graphml").getroot()
    assert len(root.findall(".//{*}node")) == len(page._drawn.graph.nodes)
    QTest.keyClick(page.view, Qt.Key.Key_Return)
    settle(qtbot, window)
    folded = next(node for node in page._drawn.graph.nodes if node.folded)
    assert folded.name in ("__main__", "mine")
    assert "work" not in {node.name for node in page._drawn.graph.nodes}
    page.fold(page._drawn.graph.nodes.index(folded))
    settle(qtbot, window)
    assert "work" in {node.name for node in page._drawn.graph.nodes}
    page.slider.setValue(6)
    settle(qtbot, window)
    nodes = page._drawn.graph.nodes
    assert len(nodes) < 15 and sum(node.self_ns for node in nodes) == page._drawn.view.loaded.profile.total_ns
    assert "smaller functions in" in page.summary.text()
    page.unfold_all()
    settle(qtbot, window)
    assert not page._opened and not page._folded


def test_the_graph_fits_the_page_and_begins_at_its_start(qtbot, window):
    window.show_named_page("Graph")
    settle(qtbot, window)
    page = window.graph
    assert page._drawn.fits
    assert page.view.transform().m11() >= 0.93
    first = page._drawn.layout.column.index(0)
    seen = page.view.mapToScene(page.view.viewport().rect()).boundingRect()
    assert seen.contains(page._drawn.place(first))
    window.resize(1900, 1000)
    settle(qtbot, window)
    assert page._drawn.room[0] > 900 and page._drawn.fits


def test_a_dragged_stretch_of_the_timeline_enters_the_sentence(qtbot, window):
    window.show_named_page("Timeline")
    settle(qtbot, window)
    staves = window.timeline.staves
    field = staves._field()
    whole = window.state.view.loaded.profile.total_calls
    start, end = (QPoint(int(field.left() + field.width() * share), int(field.top()) + 30) for share in (0.03, 0.97))
    QTest.mousePress(staves, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(staves, end)
    QTest.mouseRelease(staves, Qt.MouseButton.LeftButton, pos=end)
    settle(qtbot, window)
    first, last = window.state.reading.stretch
    assert 0 < first < last
    assert 0 < window.state.view.loaded.profile.total_calls < whole
    chip = next(chip for chip in window.reading._chips if chip.text().startswith("from "))
    window.state.read(2, 1)
    settle(qtbot, window)
    base = window.state.view.base
    assert 0 < base.profile.total_calls < base.whole.total_calls  # that round's part, not its whole
    chip = next(chip for chip in window.reading._chips if chip.text().startswith("from "))
    assert "round 1 did the same work" in chip.toolTip().replace("\u00a0", " ") and "did the same work" in window.timeline.summary.text()
    QTest.mouseClick(window.timeline.whole, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    assert window.state.view.loaded.profile.total_calls == whole


def test_what_if_is_answered_and_noted(qtbot, window):
    window.state.select(number_of(window, "inner"))
    what_if = window.details.what_if
    what_if.factor.setValue(10)
    assert what_if.words().startswith("Expected: with inner 10× as fast, the run takes ")
    QTest.mouseClick(what_if.note, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    with Study.open(window.state.path) as kept:
        assert "Expected: with inner 10×" in kept.round(window.state.number).note


def test_an_expectation_for_several_functions_is_held_against_the_next_round(qtbot, window):
    window.state.read(1, None)
    settle(qtbot, window)
    table = window.functions.table
    for name in ("inner", "work"):
        row = int(np.flatnonzero(table.model.rows == number_of(window, name))[0])
        table.view.selectionModel().select(
            table.model.index(row, 0), QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
        )
    assert "functions together" in table.summary.text()
    assert window.functions.what_if.isVisible()
    window.functions.what_if.factor.setValue(4)
    QTest.mouseClick(window.functions.what_if.note, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    expected = expected_of(window.state.rounds, window.state.rounds[1])
    assert "4× as fast" in expected.text
    assert expected.total_ns < window.state.view.loaded.best_total_ns
    assert "than expected" in describe(window.state.rounds[1], expected) or "as expected" in describe(window.state.rounds[1], expected)
    assert expected_of(window.state.rounds, window.state.rounds[0]) is None


def test_a_cycle_has_a_row_of_its_own_and_a_call_that_got_slower_is_marked(qtbot, open_window, tmp_path):  # noqa: F811
    (tmp_path / "cycle.py").write_text(RING)
    assert ricerca("record", "cycle.py", cwd=tmp_path).returncode == 0
    window = open_window(tmp_path / "cycle.ricerca")
    window.show_named_page("Functions")
    table = window.functions.table
    row = int(np.flatnonzero(table.model.rows >= len(window.state.view.loaded.profile.functions))[0])
    assert table.model.index(row, 1).data() == "cycle of 2"
    assert sorted(table.model.cell(table.model.index(row, 1)).under.split(", ")) == ["even", "odd"]
    calls = [column.key for column in table.model.columns].index("calls")
    assert table.model.index(row, calls).data() == "30"
    table.view.selectRow(row)
    assert table.summary.text().startswith("Entered 30 times, 600 calls inside")
    assert [window.state.view.loaded.profile.functions.name[n] for n in window.state.view.growing] == ["slower"]
    window.state.select(number_of(window, "slower"))
    assert window.details.growth.isVisible()
    facts = json.loads(ricerca("rank", window.state.path, "--json").stdout)
    assert [(one["entries"], one["inner_calls"]) for one in facts["cycles"]] == [(30, 600)]
    assert "cycle of 2" in ricerca("rank", window.state.path).stdout


def test_the_menu_of_a_row_steers_the_reading_and_shapes_layers(qtbot, window):
    window.state.set_reading(parse("everything"))
    settle(qtbot, window)
    window.state.select(number_of(window, "inner"))

    def entry(*words):
        menu = row_menu(window.state, window)
        for word in words:
            action = next(action for action in menu.actions() if action.text().startswith(word))
            menu = action.menu() or menu
        action.trigger()
        settle(qtbot, window)

    entry("Show it in Graph")
    assert window.pages.currentWidget() is window.graph
    window.state.put_in_layer("heart", "__main__.inner")
    settle(qtbot, window)
    layers = window.state.view.loaded.profile.functions.layer
    assert (layers[number_of(window, "inner")], layers[number_of(window, "work")]) == ("heart", "mine")
    entry("Layer heart", "Broaden to the module")
    assert window.state.own_layers[0].patterns == ("__main__",)
    assert window.state.view.loaded.profile.functions.layer[number_of(window, "work")] == "heart"
    window.state.set_reading(parse("charging heart"))
    settle(qtbot, window)
    window.state.change_layer("heart", OwnLayer("core", ("__main__.inner",), "#123456"))
    settle(qtbot, window)
    assert (window.state.own_layers[0].name, window.state.own_layers[0].colour) == ("core", "#123456")
    assert window.state.reading.charged == ("core",)
    assert window.state.view.loaded.figures.self_ns[number_of(window, "inner")] == 0
    window.state.change_layer("core", OwnLayer("mine", ("x",)))
    settle(qtbot, window)
    assert "cannot be used" in window.notice_text.text()
    assert window.state.reading.charged == ("core",)
    window.state.set_reading(parse("everything"))
    settle(qtbot, window)
    entry("Only inside inner")
    assert window.state.reading.inside == ("inner",)


def test_find_anything_finds_lines(qtbot, window):
    found = [one for one in window.find_box.found("for range times") if "work(300)" in one.text]
    assert found == []
    (line,) = [one for one in window.find_box.found("job.py sorted(range") if "return sorted" in one.text]
    line.act()
    assert window.state.selected == number_of(window, "inner")
    assert window.details.source._marked == window.state.selected_line == 4


def test_the_page_of_keys_comes_and_goes(window):
    QTest.keyClick(window, Qt.Key.Key_F1)
    assert window._keys.isVisible()
    QTest.keyClick(window._keys, Qt.Key.Key_Escape)
    assert not window._keys.isVisible()


def test_several_functions_are_summed_up(qtbot, window):
    table = window.functions.table
    window.show_named_page("Functions")
    window.state.select(int(table.model.rows[0]))
    for row in (1, 2):
        QTest.mouseClick(table.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier,
                         table.view.visualRect(table.model.index(row, 1)).center())  # fmt: skip
    rows = [int(row) for row in table.model.rows[:3]]
    assert sorted(table.selected_rows()) == sorted(rows)
    assert table.summary.text().startswith("3 functions together")
    QTest.mouseClick(table.view.viewport(), Qt.MouseButton.LeftButton, pos=table.view.visualRect(table.model.index(1, 1)).center())
    assert table.selected_rows() == rows[1:2]
    assert window.state.selected == rows[1]
    assert "together" not in table.summary.text()


def cards(window):
    return window.leads.cards


def test_the_leads_are_the_first_page_and_a_click_selects_one(window, qtbot):
    window.show_named_page("Leads")
    view = window.state.view
    assert [card.lead for card in cards(window)] == list(view.leads)
    assert 1 <= len(cards(window)) <= 7
    first = cards(window)[0]
    second = next(card for card in cards(window)[1:] if card.lead.function not in (-1, first.lead.function))
    QTest.mouseClick(second, Qt.MouseButton.LeftButton, pos=QPoint(30, 20))
    assert window.state.selected == second.lead.function
    assert second.selected and not first.selected
    assert second.words in second.accessibleName()


def test_keys_walk_from_lead_to_lead(window, qtbot):
    window.show_named_page("Leads")
    first, second = cards(window)[:2]
    first.setFocus()
    QTest.keyClick(first, Qt.Key.Key_Down)
    assert second.hasFocus() and window.state.selected == second.lead.function
    QTest.keyClick(second, Qt.Key.Key_Up)
    assert first.hasFocus() and window.state.selected == first.lead.function


def step_of(window, kinds):
    """The first card of one of these kinds, and its button."""
    card = next(card for card in cards(window) if card.lead.kind in kinds)
    return card, card.findChildren(QPushButton)[0]


def test_the_next_step_of_a_lead_goes_to_its_page(window, qtbot):
    window.show_named_page("Leads")
    card, step = step_of(window, ("body", "often", "seldom"))
    QTest.mouseClick(step, Qt.MouseButton.LeftButton)
    assert window.tabs.checkedButton().text() == STEPS[card.lead.kind][1]
    assert window.state.selected == card.lead.function


def test_the_waiting_can_be_read_alone_and_leads_follow(window, qtbot):
    window.show_named_page("Leads")
    before = [card.lead for card in cards(window)]
    _card, step = step_of(window, ("waiting",))
    QTest.mouseClick(step, Qt.MouseButton.LeftButton)
    settle(qtbot, window)
    assert window.state.reading.clock == "waiting"
    assert [card.lead for card in cards(window)] == list(window.state.view.leads) != before
    window.state.back()
    settle(qtbot, window)
    assert [card.lead for card in cards(window)] == before


def test_the_command_line_tells_the_same_leads(study):  # noqa: F811
    text = "charged to my code; imports folded"
    found = json.loads(ricerca("rank", study, "--leads", "--json", "--reading", text).stdout)["leads"]
    with Study.open(study) as kept:
        loaded = load(kept).through(parse(text))
    assert [(one["sentence"], one["self_ns"]) for one in found] == [(lead_sentence(one), one.own_ns) for one in Pair(loaded).leads]
    said = ricerca("rank", study, "--leads", "--reading", text).stdout
    assert said.startswith("1. ") and found[0]["evidence"][0] in said


def test_back_leads_through_rounds_too_and_a_text_may_name_them(window, qtbot):
    window.state.set_reading(parse("inside work"))
    settle(qtbot, window)
    window.rounds.cards.chosen.emit(1)
    settle(qtbot, window)
    assert (window.state.number, window.state.against, window.state.reading) == (1, None, parse("inside work"))
    QTest.keyClick(window, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    settle(qtbot, window)
    assert (window.state.number, window.state.against, window.state.reading.inside) == (2, 1, ("work",))
    window.reading.copy()
    assert QGuiApplication.clipboard().text() == "round 2; against round 1; inside work"
    window.reading.read_text("round 1; by module")
    settle(qtbot, window)
    assert (window.state.number, window.state.against, window.state.reading.level) == (1, None, "module")
    window.reading.read_text("round 9")
    assert "no recorded round 9" in window.notice_text.text()
    assert window.state.number == 1


def test_a_chain_of_callers_is_read_from_the_tree_though_other_code_is_charged(window, qtbot, monkeypatch):
    asked = []
    monkeypatch.setattr("ricerca.desk.pages.tree.show_row_menu", lambda _state, _parent, _place, extra: asked.append(dict(extra)))
    window.show_named_page("Call tree")
    window.state.select(number_of(window, "inner"))
    assert window.state.reading.charged
    window.tree._show_menu(QPoint(5, 5))
    before = window.state.view.loaded.profile.total_ns
    asked[0]["Only inside this chain of calls"]()
    settle(qtbot, window)
    assert window.state.reading.inside[0].endswith(" > inner")
    assert 0 < window.state.view.loaded.profile.total_ns < before


def test_the_command_line_reads_the_round_that_the_sentence_names(tmp_path):
    for seconds in (0.08, 0.01):
        (tmp_path / "job.py").write_text(f"import time\ndef nap():\n    time.sleep({seconds})\nfor _ in range(3):\n    nap()\n")
        assert ricerca("record", "--plain", 3, "job.py", cwd=tmp_path).returncode == 0
    made = tmp_path / "job.ricerca"
    facts = json.loads(ricerca("rank", made, "--json", "--leads", "--reading", "round 1; by module").stdout)
    assert facts["round"] == 1
    again = json.loads(ricerca("rank", made, "--json", "--leads", "--reading", "round 1; against round 2").stdout)
    assert any("more than in round 2" in text for lead in again["leads"] for text in lead["evidence"])


def test_the_lines_page_marks_the_selected_line(window, qtbot):
    window.show_named_page("Lines")
    lines = window.state.view.loaded.lines
    for function, line in ((number_of(window, "work"), 7), (number_of(window, "<module>"), 0)):
        window.state.select_line(function, line) if line else window.state.select(function)
        row = window.lines.table.selected_rows()[0]
        assert lines.function[row] == function
        assert line in (0, lines.line[row])
    rows = window.lines.table.model.rows
    view = window.lines.table.view
    view.setFocus()
    view.selectRow(2)
    QTest.keyClick(view, Qt.Key.Key_Up)
    assert window.state.selected == lines.function[rows[1]]
    assert window.state.selected_line == lines.line[rows[1]]
    assert window.lines.table.selected_rows() == [rows[1]]
