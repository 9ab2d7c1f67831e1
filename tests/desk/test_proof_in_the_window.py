"""What the window says of evidence: intervals, changes without evidence, edits, answers, runs in turn."""

from __future__ import annotations

import pytest
from conftest import ricerca
from PyQt6.QtCore import QSettings

from ricerca.desk.pages.figure_table import Cell
from ricerca.desk.reading.line import verdict_facts, verdict_words
from ricerca.desk.window import Window
from ricerca.runner.restoring import why_not_here

BEFORE = """\
import time
def work(n):
    total = 0
    for k in range(n):
        total += k
    return total
def nap():
    time.sleep(0.05)
def steady():
    time.sleep(0.02)
for _ in range(2):
    nap()
    steady()
    work(20000)
print("answer", work(3))
"""
AFTER = BEFORE.replace("0.05", "0.01").replace("total += k\n", "total += k + 1\n")


@pytest.fixture(scope="module")
def study(tmp_path_factory):
    folder = tmp_path_factory.mktemp("proof")
    for name, text in (("before", BEFORE), ("after", AFTER)):
        (folder / "job.py").write_text(text)
        assert ricerca("record", "--round", name, "--plain", 3, "job.py", cwd=folder).returncode == 0
    return folder / "job.ricerca"


@pytest.fixture
def window(qtbot, tmp_path, study):
    made = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat), study)
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    made.show_named_page("Functions")
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy and made.state.edited != {}, timeout=30000)
    return made


def number(window, name):
    return window.state.view.loaded.profile.functions.name.index(name)


def cell(window, name, key) -> Cell:
    model = window.functions.table.model
    row = model.rows.tolist().index(number(window, name))
    return model.cell(model.index(row, [column.key for column in model.columns].index(key)))


def test_a_change_with_evidence_has_colour_and_one_without_has_none(window):
    assert window.state.view.sure_of(number(window, "nap"))
    assert not cell(window, "nap", "gain").soft
    assert not window.state.view.sure_of(number(window, "steady"))
    assert cell(window, "steady", "gain").soft
    assert "may be chance" in next(c for c in window.functions.table.model.columns if c.key == "gain").explain(number(window, "steady"))


def test_every_self_time_has_its_interval(window):
    figures = window.state.view.loaded.figures
    assert (figures.self_half_ns[figures.self_ns > 0] > 0).all()
    assert cell(window, "work", "half").text.endswith("%")
    explained = next(c for c in window.functions.table.model.columns if c.key == "self").explain(number(window, "nap"))
    assert "in 95 of 100 cases" in explained


def test_the_verdict_says_its_evidence_and_that_the_answer_is_another(window):
    said, facts = verdict_words(window.state), verdict_facts(window.state)
    assert "another answer" in said
    assert "standard output, line 1: “answer 3”, then “answer 6”" in facts
    if not why_not_here():
        assert "3 pairs" in said
        assert "made in turn" in facts


def test_what_was_edited_is_marked_and_shown(window, qtbot):
    view = window.state.view
    assert view.edited(number(window, "work"))
    assert view.edited(number(window, "nap"))
    assert not view.edited(number(window, "steady"))
    assert cell(window, "work", "what").under == "edited"
    assert window.state.edited == {2: ("job.py",)}
    window.state.select(number(window, "work"))
    source = window.details.source
    assert window.details.difference.isVisible()
    window.details.difference.setChecked(True)
    signs = "".join(sign for sign, _line in source._rows)
    assert (signs.count("+"), signs.count("−"), len(source._rows)) == (1, 1, 6)
    gone = next(line for sign, line in source._rows if sign == "−")
    assert "as it was" in source._explain("−", gone)
    assert not window.grab().isNull()
    window.details.difference.setChecked(False)
    assert {sign for sign, _line in source._rows} == {" "}
    window.state.select(number(window, "steady"))
    assert not window.details.difference.isVisible()


def test_both_rounds_are_run_in_turn_from_the_window_and_can_be_stopped(window, qtbot):
    if why_not_here():
        pytest.skip(why_not_here())
    assert window.reading.in_turn.isVisible()
    window.reading.in_turn.click()
    assert window.turns.isVisible()
    qtbot.waitUntil(lambda: "pair" in window.turns.words.text() and ": " in window.turns.words.text(), timeout=30000)
    window.turns.stop.click()
    qtbot.waitUntil(lambda: not window.turns.running, timeout=30000)
    assert not window.turns.isVisible()


def test_a_system_that_forbids_it_is_said_in_the_window(window, qtbot, monkeypatch):
    monkeypatch.setattr("ricerca.runner.restoring.why_not_here", lambda: "the system does not allow private mounts")
    window.run_in_turn()
    qtbot.waitUntil(lambda: not window.turns.running, timeout=30000)
    assert "does not allow private mounts" in window.notice_text.text()
