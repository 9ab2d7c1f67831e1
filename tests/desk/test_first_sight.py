"""What a newcomer meets: the start page, the shipped example, the run sheet, the guide, clauses by typing, columns, one's own code."""

from __future__ import annotations

import shutil

import numpy as np
import pytest
from conftest import ricerca
from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QSlider,
    QSpinBox,
)
from test_pages_of_a_reading import settle
from test_window import (  # noqa: F401 - fixtures
    no_qt_warnings,
    number_of,
    open_window,
    settings,
    study,
)

from ricerca.desk.keys_page import KEYS
from ricerca.desk.pages.figure_table import ELASTIC
from ricerca.desk.pages.row_menu import row_menu
from ricerca.engine.reading import parse

CONTROL = Qt.KeyboardModifier.ControlModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def window(open_window, study, tmp_path):  # noqa: F811
    own = tmp_path / "job.ricerca"
    shutil.copy(study, own)
    made = open_window(own)
    made.show_named_page("Functions")
    return made


# ---- start


def test_the_shipped_example_opens_at_once_and_is_kept_with_what_was_done_to_it(qtbot, open_window, tmp_path, monkeypatch):  # noqa: F811
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window = open_window(None)
    QTest.mouseClick(window.start.example, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.view is not None and not window.workers.busy, timeout=30_000)
    assert window.state.path.is_relative_to(tmp_path)
    assert len(window.state.rounds) == 4
    folder = window.state.path.parent
    assert window.state.rounds[-1].subject.cwd == str(folder)
    assert (folder / "tidebook.py").exists() and (folder / "readings.csv").exists()
    table = window.state.view.loaded.profile.functions
    assert str(folder / "waters.py") in table.file, "its sources lie beside it"
    assert window.watcher is not None and not window.rounds.notice.isVisible(), "the code is as it was recorded"
    window.state.keep_reading("mine")
    settle(qtbot, window)
    again = open_window(None)
    again.examples.open()
    qtbot.waitUntil(lambda: again.state.view is not None and not again.workers.busy, timeout=30_000)
    assert "mine" in again.state.kept_readings


def test_the_nightly_script_opens_at_once_with_its_three_languages(qtbot, open_window, tmp_path, monkeypatch):  # noqa: F811
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window = open_window(None)
    QTest.mouseClick(window.start.nightly, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.view is not None and not window.workers.busy, timeout=30_000)
    assert [round_.name for round_ in window.state.rounds] == ["as it was", "no helpers"]
    table = window.state.view.loaded.profile.functions
    assert {"bash", "C", "Python"} <= set(table.language)
    assert "bash" in window.status.text() and "Python" in window.status.text()
    shell = table.name.index("check_gauges")
    window.state.select(shell)
    settle(qtbot, window)
    assert "check_gauges() {" in "".join(text for _kind, text in window.details.source._lines[0])
    kernel = table.name.index("level_of")
    window.state.select(kernel)
    settle(qtbot, window)
    text = "\n".join("".join(text for _kind, text in line) for line in window.details.source._lines)
    assert "static double level_of(int part, int depth)" in text or text.startswith("{")
    assert text.rstrip().endswith("}")


def test_recording_the_example_shows_its_progress_and_can_be_stopped(qtbot, open_window, tmp_path, monkeypatch):  # noqa: F811
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window = open_window(None)
    QTest.mouseClick(window.start.record_example, Qt.MouseButton.LeftButton)
    assert window.start.progress.isVisible() and not window.start.example.isEnabled()
    qtbot.waitUntil(lambda: "Round 1 of 4" in window.start.progress.text(), timeout=60_000)
    QTest.mouseClick(window.start.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not window.start.progress.isVisible(), timeout=60_000)
    assert window.start.example.isEnabled() and window.state.view is None


def test_recent_studies_say_how_the_last_round_compares(qtbot, window, open_window):  # noqa: F811
    path = window.state.path
    start = open_window(None)
    settle(qtbot, start)
    texts = [label.text() for label in start.start.findChildren(QLabel)]
    assert any(text.startswith("2 rounds, the last ") and str(path.parent) in text for text in texts)


# ---- the run sheet


def test_enter_in_any_field_starts_and_quick_is_one_recorded_run(qtbot, window):
    QTest.keyClick(window, Qt.Key.Key_N, CONTROL)
    sheet = window.sheet
    assert sheet.thorough
    sheet.how.setCurrentIndex(1)
    assert not sheet.plain.isEnabled() and not sheet.lines.isEnabled()
    assert "recorded" in sheet.expected.text() and "lines" not in sheet.expected.text()
    assert "run once" in sheet.expected.text()
    started = []
    sheet.start = started.append
    QTest.keyClick(sheet.name, Qt.Key.Key_Return)
    assert started[0][0].plain_runs == 0 and not started[0][0].follow
    sheet.how.setCurrentIndex(0)
    assert f"is run {2 + 3 * sheet.plain.value()} times" in sheet.expected.text()
    assert "lines" in sheet.expected.text() and "plain and sparse" in sheet.expected.text()
    QTest.keyClick(sheet.arguments, Qt.Key.Key_Return)
    assert started[1][0].plain_runs == sheet.plain.value() > 0 and started[1][0].follow
    sheet.lines.setText("work")
    QTest.keyClick(sheet.lines, Qt.Key.Key_Return)
    assert not started[2][0].follow and started[2][0].subject.lines == ("work",)
    sheet.env.setText("MODE=fast 'TITLE=two words'")
    QTest.keyClick(sheet.env, Qt.Key.Key_Return)
    assert started[3][0].subject.env == (("MODE", "fast"), ("TITLE", "two words"))
    sheet.env.setText("MODE")
    QTest.keyClick(sheet.env, Qt.Key.Key_Return)
    assert len(started) == 4 and "no variable of the environment" in sheet.problem.text()


# ---- guide


def test_the_guide_opens_over_the_window_and_its_links_lead_on(qtbot, window):
    QTest.keyClick(window, Qt.Key.Key_F1, SHIFT)
    guide = window._guide
    assert guide.isVisible() and "Guide" in guide.text.toPlainText()
    guide._follow(QUrl("2-record.md"))
    assert "Record" in guide.text.toPlainText().splitlines()[0]
    QTest.keyClick(guide, Qt.Key.Key_Backspace)
    assert guide.text.toPlainText().startswith("Guide")
    QTest.keyClick(guide, Qt.Key.Key_Escape)
    assert not guide.isVisible()


# ---- clauses


def test_a_clause_is_added_by_typing_with_arrows_and_enter(qtbot, window):
    window.state.set_reading(parse("everything"))
    settle(qtbot, window)
    QTest.keyClick(window, Qt.Key.Key_K, CONTROL | SHIFT)
    box = window.reading.clause_box
    qtbot.waitUntil(lambda: box.hasFocus(), timeout=5000)
    settle(qtbot, window)
    QTest.keyClicks(box, "inner")
    words = [box.popup.item(row).text().split("   ")[0] for row in range(box.popup.count())]
    assert words[:3] == ["Only inside inner", "Leave out inner", "Charge inner to its callers"]
    assert "Select inner" in words
    QTest.keyClick(box, Qt.Key.Key_Down)
    QTest.keyClick(box, Qt.Key.Key_Return)
    settle(qtbot, window)
    assert window.state.reading.without == ("inner",)
    assert not box.isVisible() and window.reading.add_button.isVisible()


def test_the_clause_box_goes_away_with_escape_and_finds_nothing_of_a_strange_name(qtbot, window):
    before = window.state.reading
    QTest.mouseClick(window.reading.add_button, Qt.MouseButton.LeftButton)
    box = window.reading.clause_box
    settle(qtbot, window)
    QTest.keyClicks(box, "zzzz")
    assert box.popup.item(0).text() == "Nothing of that name"
    QTest.keyClick(box, Qt.Key.Key_Escape)
    assert not box.isVisible() and window.state.reading == before


# ---- columns and details


def visible(table):
    return [column.key for number, column in enumerate(table.model.columns) if not table.view.isColumnHidden(number)]


def test_columns_fit_the_width_and_names_are_whole(qtbot, window):
    table = window.functions.table
    for width in (1280, 1024, 1700):
        window.resize(width, 760)
        settle(qtbot, window)
        assert table.view.horizontalScrollBar().maximum() == 0, width
        what = [column.key for column in table.model.columns].index(ELASTIC)
        longest = max(table.view.fontMetrics().horizontalAdvance(window.state.view.loaded.profile.functions.name[row])
                      for row in table.model.rows if row < len(window.state.view.loaded.profile.functions))  # fmt: skip
        assert table.view.columnWidth(what) >= min(longest, 150)
    assert {"share", "calls", "inclusive", "half"} <= set(visible(table))


def test_a_person_chooses_columns_and_that_is_remembered(qtbot, window, open_window):  # noqa: F811
    table = window.functions.table
    (action,) = [action for action in table.column_menu().actions() if action.text() == "share"]
    assert action.isChecked()
    action.trigger()
    assert "share" not in visible(table)
    other = open_window(window.state.path)
    other.show_named_page("Functions")
    settle(qtbot, other)
    assert "share" not in visible(other.functions.table)
    other.functions.table.reset_columns()
    assert "share" in visible(other.functions.table)


def test_the_window_and_its_panels_lie_on_the_screen(qtbot, window):
    room = window.screen().availableGeometry()
    window.resize(5000, 5000)
    window.keep_on_screen()
    least = window.minimumSizeHint()
    assert least.width() <= 1024 and least.height() <= 700
    assert window.width() <= max(room.width(), least.width()) and window.height() <= max(room.height(), least.height())
    assert room.contains(window.geometry().topLeft())
    sizes = window.splitter.sizes()
    assert all(size > 100 for size in sizes)


def test_the_source_uses_its_width(qtbot, window):
    window.state.select(number_of(window, "inner"))
    source = window.details.source
    assert source._indent == 0
    window.state.select(number_of(window, "work.<locals>.<lambda>") if "work.<locals>.<lambda>" in names(window) else 1)
    assert source._number_room < 44


def names(window):
    return window.state.view.loaded.profile.functions.name


def test_the_status_line_is_about_the_run_whatever_is_read(qtbot, window):
    before = window.status.text()
    window.state.set_reading(parse("inside inner"))
    settle(qtbot, window)
    assert window.status.text() == before


# ---- one's own code


def test_code_is_claimed_in_one_step_and_the_first_look_follows(qtbot, window):
    window.state.select(number_of(window, "work"))
    menu = row_menu(window.state, window)
    (action,) = [action for action in menu.actions() if "is not my code" in action.text() and action.menu() is None]
    action.trigger()
    settle(qtbot, window)
    layers = window.state.view.loaded.profile.functions.layer
    assert layers[number_of(window, "work")] == "packages"
    assert window.reading.charge_button.text() == "not charged", "nothing is mine now, so it is read where the time is spent"
    window.state.select(number_of(window, "work"))
    (action,) = [
        action for action in row_menu(window.state, window).actions() if action.text().endswith("is my code") and action.menu() is None
    ]
    action.trigger()
    settle(qtbot, window)
    assert window.state.view.loaded.profile.functions.layer[number_of(window, "work")] == "mine"
    window.state.back()
    settle(qtbot, window)
    assert window.state.view is not None


# ---- for everyone


def test_every_control_has_a_name_and_a_place_in_the_order_of_the_keyboard(qtbot, window):
    controls = [
        widget
        for kind in (QAbstractButton, QLineEdit, QComboBox, QSpinBox, QSlider, QAbstractItemView)
        for widget in window.findChildren(kind)
        if not widget.objectName().startswith("qt_")
        and not widget.parent().metaObject().className().startswith("QComboBox")
        and not isinstance(widget.parent(), QComboBox | QAbstractSpinBox | QLineEdit | QAbstractScrollArea)
    ]
    assert len(controls) > 30
    for widget in controls:
        text = widget.text() if isinstance(widget, QAbstractButton) else ""
        above = widget.parent().metaObject().className()
        assert widget.accessibleName() or text, f"{type(widget).__name__} {widget.objectName()} in {above} has no name"
        if widget.isVisible() and widget.isEnabled() and isinstance(widget, QAbstractButton | QLineEdit | QSlider):
            assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus, f"{widget.accessibleName() or text} is out of the keyboard's reach"


def test_every_action_is_in_the_find_box(window):
    found = [name.split("   ")[0] for name, _act in window.actions_by_name()]
    for wanted in ("New round", "Open a study", "Open in editor", "Export this round", "Keys", "Guide", "Add a clause to the reading",
                   "Start page", "Dark theme", "Quit", "Run both rounds in turn", "Show page Graph"):  # fmt: skip
        assert wanted in found
    assert len(found) == len(set(found))
    assert np.all([name.strip() for name in found])
    listed = {key for _heading, keys in KEYS[:2] for key, _does in keys}
    shown = {name.split("   ")[1] for name, _act in window.actions_by_name() if "   " in name}
    assert shown - {f"Ctrl+{number}" for number in range(1, 9)} - {"Alt+Left", "Alt+Right"} <= listed, "every key is on the page of keys"


@pytest.mark.parametrize("level", ["class", "module", "package"])
def test_lines_are_shown_whatever_a_row_stands_for(qtbot, window, level):
    before = len(window.state.view.loaded.lines)
    window.state.set_reading(parse(f"by {level}"))
    settle(qtbot, window)
    window.show_named_page("Lines")
    settle(qtbot, window)
    loaded = window.state.view.loaded
    assert len(window.lines.table.model.rows) == len(loaded.lines) >= before > 0
    texts = [window.lines.table.model.index(row, 2).data() for row in range(len(loaded.lines))]
    assert any("inner(n)" in text for text in texts)
    row = next(int(at) for at in window.lines.table.model.rows if window.state.view.texts[at] == "inner(n)")
    window.lines.table.chosen.emit(row)
    assert loaded.profile.functions.name[window.state.selected] == "__main__"
    QTest.keyClick(window, Qt.Key.Key_K, CONTROL)
    assert window.find_box.found("inner(n)")


def test_first_rows_of_the_call_tree_are_named_after_their_threads(qtbot, open_window, tmp_path):  # noqa: F811
    (tmp_path / "threads.py").write_text(
        "import threading\ndef job(n):\n    return sum(k * k for k in range(n))\n"
        "made = [threading.Thread(target=job, args=(20000,), name=f'worker {k}') for k in range(3)]\n"
        "for one in made: one.start()\nfor one in made: one.join()\n"
    )
    assert ricerca("record", "threads.py", cwd=tmp_path).returncode == 0
    window = open_window(tmp_path / "threads.ricerca")
    window.show_named_page("Call tree")
    settle(qtbot, window)
    model = window.tree.model
    firsts = {model.cell(model.index(row, 0)).text for row in range(model.rowCount())}
    assert {"MainThread", "worker 0", "worker 1", "worker 2"} <= firsts | {"MainThread"}
    assert sum(text.startswith("worker") for text in firsts) == 3
