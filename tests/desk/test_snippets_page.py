"""The Snippets page: filled by hand or from what is selected, timed away from the interface, stopped, kept and shown again."""

from __future__ import annotations

import shutil
import sys

import pytest
from conftest import ricerca
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from test_window import no_qt_warnings, open_window, settings  # noqa: F401 - fixtures

from ricerca.desk.pages.spread import SpreadRow
from ricerca.examples.shipped import NIGHTLY
from ricerca.model.errors import InputError
from ricerca.report.snippets import beside_median, short_pair
from ricerca.runner.snippets import kept, snippet_that_calls
from ricerca.study.store import Study

PROGRAM = "def double(values):\n    return [value * 2 for value in values]\n\n\ndouble(range(50))\n"


@pytest.fixture(scope="module")
def recorded(tmp_path_factory):
    folder = tmp_path_factory.mktemp("snippets")
    (folder / "job.py").write_text(PROGRAM)
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "job.py", cwd=folder)
    assert done.returncode == 0, done.stderr
    return folder / "s.ricerca"


@pytest.fixture
def window(open_window, recorded, tmp_path, qtbot):  # noqa: F811
    study = tmp_path / "s.ricerca"
    shutil.copy(recorded, study)
    made = open_window(study)
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    return made


def select(window, name):
    table = window.state.view.loaded.profile.functions
    window.state.select(table.name.index(name))


def rows(window):
    return window.snippets.findChildren(SpreadRow)


def time_them(window, qtbot, *texts, setup=""):
    page = window.snippets
    window.show_named_page("Snippets")
    page.setup.setPlainText(setup)
    for field, text in zip(page.fields, texts, strict=False):
        field.setPlainText(text)
    page.seconds.setValue(0.5)
    QTest.mouseClick(page.start_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.start_button.text() == "Time them" and not window.workers.busy, timeout=60_000)


def test_two_ways_are_timed_shown_and_kept(window, qtbot):
    time_them(window, qtbot, "sum(values)", "total = 0\nfor value in values:\n    total += value", setup="values = list(range(2000))")
    assert [row.accessibleName().split(",")[0] for row in rows(window)] == [
        "1: sum(values)",
        "2: total = 0\nfor value in values:\n    total += value",
    ]
    assert "slower than 1" in rows(window)[1].accessibleName()
    with Study.open(window.state.path) as study:
        (facts,) = kept(study)
    assert facts == window.snippets.facts
    assert facts["pairs"][0]["verdict"] == "slower"


def test_what_was_kept_is_there_when_the_study_is_opened_again(window, open_window, qtbot):  # noqa: F811
    time_them(window, qtbot, "1 + 1")
    again = open_window(window.state.path)
    qtbot.waitUntil(lambda: again.snippets.facts is not None and not again.workers.busy, timeout=20_000)
    again.show_named_page("Snippets")
    assert again.snippets.fields[0].toPlainText() == "1 + 1"
    assert len(rows(again)) == 1
    assert again.snippets.earlier.isVisible()
    assert again.snippets.earlier.itemText(1) == "1 + 1"


def test_calls_of_a_loop_are_counted_where_that_is_asked_for(window, qtbot):
    window.snippets.calls.setChecked(True)
    time_them(window, qtbot, "double([1, 2])", setup="from job import double")
    expected = 1 if sys.version_info >= (3, 12) else 2  # a comprehension is a function of its own up to 3.11
    assert window.snippets.facts["snippets"][0]["calls"] == expected


def test_a_snippet_that_is_no_code_is_said_and_the_page_is_ready_again(window, qtbot):
    time_them(window, qtbot, "1 +")
    assert "Snippet 1 is no Python code" in window.notice_text.text()
    assert rows(window) == []
    assert window.snippets.start_button.text() == "Time them"


def test_nothing_typed_is_said(window, qtbot):
    time_them(window, qtbot)
    assert window.notice_text.text() == "Type a snippet to time."


def test_an_interpreter_that_is_not_there_is_said(window, qtbot):
    window.snippets.pythons.setText("/no/such/python")
    time_them(window, qtbot, "1 + 1")
    assert "/no/such/python" in window.notice_text.text()


def test_timing_can_be_stopped_and_keeps_nothing(window, qtbot):
    page = window.snippets
    window.show_named_page("Snippets")
    page.fields[0].setPlainText("import time; time.sleep(0.05)")
    page.seconds.setValue(60)
    page.start()
    assert page.start_button.text() == "Stop"
    qtbot.waitUntil(lambda: page._timing._process is not None, timeout=10_000)
    QTest.mouseClick(page.start_button, Qt.MouseButton.LeftButton)
    assert page.start_button.text() == "Time them"
    qtbot.waitUntil(lambda: not window.workers.busy, timeout=10_000)
    assert page.facts is None and not window.notice.isVisible()
    with Study.open(window.state.path) as study:
        assert kept(study) == []


def test_a_call_of_the_selected_function_is_begun_with_the_cursor_at_its_arguments(window):
    select(window, "double")
    window.time_snippet()
    page = window.snippets
    assert window.pages.currentWidget() is page
    assert page.setup.toPlainText() == "from job import double"
    QTest.keyClicks(page.fields[0], "[1]")
    assert page.fields[0].toPlainText() == "double([1])"


def test_the_selected_line_is_taken_without_its_return(window):
    select(window, "double")
    window.state.select_line(window.state.selected, 2)
    window.time_snippet()
    assert window.snippets.fields[0].toPlainText() == "[value * 2 for value in values]"


def test_another_study_begins_with_an_empty_page(window, qtbot, recorded, tmp_path):
    time_them(window, qtbot, "1 + 1")
    other = tmp_path / "other.ricerca"
    shutil.copy(recorded, other)
    window.open_study(other)
    qtbot.waitUntil(lambda: window.state.path == other and not window.workers.busy, timeout=20_000)
    assert window.snippets.facts is None and rows(window) == []
    assert window.snippets.fields[0].toPlainText() == ""


def test_a_failure_elsewhere_does_not_end_the_timing(window, qtbot):
    page = window.snippets
    window.show_named_page("Snippets")
    page.fields[0].setPlainText("1 + 1")
    page.seconds.setValue(0.5)
    page.start()
    window.state.failed.emit("Something else went wrong.")
    qtbot.waitUntil(lambda: page.facts is not None, timeout=60_000)
    assert len(rows(window)) == 1


def test_a_function_of_another_language_begins_no_snippet(open_window, qtbot, tmp_path):  # noqa: F811
    study = tmp_path / "n.ricerca"
    shutil.copy(NIGHTLY, study)
    made = open_window(study)
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    select(made, "check_gauges")
    made.time_snippet()
    assert made.notice_text.text() == "A snippet is Python code; check_gauges is bash."


def test_up_to_six_ways_can_be_typed(window):
    page = window.snippets
    while page.add_button.isEnabled():
        page.add_button.click()
    assert len(page.fields) == 6


def test_a_field_is_as_high_as_its_lines_up_to_six(window):
    field = window.snippets.fields[0]
    heights = []
    for count in (1, 3, 6, 40):
        field.setPlainText("\n".join(["pass"] * count))
        heights.append(field.height())
    assert heights[0] < heights[1] < heights[2] == heights[3]


def test_a_row_is_painted_in_both_themes(window, qtbot):
    row = {"number": 1, "text": "x", "median_ns": 5.0, "spread_ns": [1.0, 4.0, 5.0, 6.0, 40.0], "interval_ns": None}
    widget = SpreadRow(row, 8.0, "", "", "")
    qtbot.addWidget(widget)
    widget.resize(640, 46)
    for name in ("light", "dark"):
        window.wear(name)
        assert not widget.grab().isNull()


@pytest.mark.parametrize(
    ("place", "expected"),
    [
        (("__main__", "run", "/w/job.py"), ("from job import run", "run()")),
        (("__main__", "run", "/w/bin/job.py"), ("import sys\nsys.path.insert(0, '/w/bin')\nfrom job import run", "run()")),
        (("a.b", "C.m", "/lib/a/b.py"), ("import sys\nsys.path.insert(0, '/lib')\nfrom a.b import C", "C().m()")),
        (("a", "f", "/w/a/__init__.py"), ("from a import f", "f()")),
        (("builtins", "len", ""), ("", "len()")),
    ],
)
def test_a_snippet_calls_a_function_from_where_it_is(place, expected):
    assert snippet_that_calls(*place, "/w") == expected


def test_a_package_of_others_needs_no_path():
    assert snippet_that_calls("a.b", "f", "/lib/a/b.py", "/w", own=False) == ("from a.b import f", "f()")


def test_a_function_without_a_name_in_its_module_cannot_be_called():
    with pytest.raises(InputError, match="no name in its module"):
        snippet_that_calls("m", "f.<locals>.g", "/w/m.py", "/w")


@pytest.mark.parametrize(
    ("verdict", "words"),
    [("faster", "2.0×: faster than 1"), ("no difference", "2.0×: no difference from 1"), ("undecided", "2.0×: undecided against 1")],
)
def test_a_verdict_is_said_against_the_first(verdict, words):
    assert short_pair({"speedup": 2.0, "interval": None, "verdict": verdict}) == words


def test_one_call_is_one_call_and_no_interval_is_none():
    assert beside_median({"median_ns": 1.0, "interval_ns": None, "calls": 1.0}) == "1 call"
