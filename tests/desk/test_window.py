"""The window, with real keys and clicks on a study made by the real recorder."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest
from conftest import ricerca
from PyQt6.QtCore import QPoint, QSettings, Qt, qInstallMessageHandler
from PyQt6.QtGui import QColor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from ricerca.desk.application import make_application
from ricerca.desk.look import theme
from ricerca.desk.rounds.column import CARD_PX
from ricerca.desk.window import Window
from ricerca.study.store import Study

SLOW = """
import time
def inner(n):
    return sorted(range(n), key=lambda x: -x)
def work(n):
    for _ in range(3):
        inner(n)
def nap():
    time.sleep(0.01)
for _ in range({times}):
    work(300)
nap()
print('the program is done')
"""
# What Qt says of its offscreen platform is not ours to mend.
HARMLESS = ("propagateSizeHints", "This plugin does not support", "Could not set cursor position")


@pytest.fixture(scope="session")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("study")
    for name, times in (("slow", 60), ("quick", 12)):
        (folder / "job.py").write_text(SLOW.format(times=times))
        assert ricerca("record", "--round", name, "--plain", 3, "job.py", cwd=folder).returncode == 0
    return folder / "job.ricerca"


@pytest.fixture
def settings(tmp_path: Path) -> QSettings:
    return QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)


@pytest.fixture(autouse=True)
def no_qt_warnings():
    said: list[str] = []
    before = qInstallMessageHandler(lambda _kind, _where, text: said.append(text))
    yield
    qInstallMessageHandler(before)
    assert [text for text in said if not any(part in text for part in HARMLESS)] == []


@pytest.fixture
def open_window(qtbot, settings):
    app = make_application()
    theme.apply(app, theme.LIGHT)
    windows: list[Window] = []

    def open_it(path: Path | None) -> Window:
        window = Window(settings, path)
        windows.append(window)
        qtbot.addWidget(window)
        window.resize(1280, 800)
        window.show()
        if path is not None:
            qtbot.waitUntil(lambda: window.state.view is not None and not window.workers.busy, timeout=20_000)
        return window

    yield open_it
    for window in windows:
        window.close()
    QApplication.processEvents()


@pytest.fixture
def window(open_window, study):
    made = open_window(study)
    made.show_named_page("Functions")
    return made


def number_of(window: Window, name: str) -> int:
    return window.state.view.loaded.profile.functions.name.index(name)


def column(window: Window, key: str) -> int:
    return [c.key for c in window.functions.table.model.columns].index(key)


def test_opens_on_the_latest_round_against_the_first(window):
    assert window.reading.round_button.text() == "round 2 “quick”"
    assert window.reading.against_button.text() == "round 1 “slow”"
    assert window.title.text() == "job.ricerca"
    assert "calls" in window.status.text()
    assert window.functions.table.model.rowCount() > 4


def test_functions_are_ranked_by_self_time_and_reordered_by_a_click(window, qtbot):
    table, figures = window.functions.table, window.state.view.loaded.figures
    assert figures.self_ns[table.model.rows[0]] == max(figures.self_ns[table.model.rows])
    header = table.view.horizontalHeader()
    section = column(window, "calls")
    place = QPoint(header.sectionViewportPosition(section) + 5, 10)
    qtbot.mouseClick(header.viewport(), Qt.MouseButton.LeftButton, pos=place)
    assert figures.calls[table.model.rows[0]] == max(figures.calls[table.model.rows])
    qtbot.mouseClick(header.viewport(), Qt.MouseButton.LeftButton, pos=place)
    assert figures.calls[table.model.rows[0]] == min(figures.calls[table.model.rows])


def test_order_page_and_selected_function_survive_a_restart(window, open_window, study, qtbot):
    window.functions.table._on_head(column(window, "calls"))
    QTest.keyClick(window, Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    window.state.select(number_of(window, "nap"))
    window.close()
    again = open_window(study)
    assert again.functions.table.model.sort_key == "calls"
    assert again.pages.currentWidget() is again.lines
    assert again.details.title.text() == "nap"


def test_typing_filters_the_ranking(window, qtbot):
    QTest.keyClick(window, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(window.functions.table.filter, "inner")
    qtbot.waitUntil(lambda: window.functions.table.model.rowCount() == 2)  # inner and its lambda
    window.functions.table.filter.clear()
    qtbot.waitUntil(lambda: window.functions.table.model.rowCount() > 4)


def test_arrow_keys_select_functions_on_every_page(window, qtbot):
    view = window.functions.table.view
    view.setFocus()
    view.selectRow(0)
    QTest.keyClick(view, Qt.Key.Key_Down)
    chosen = int(window.functions.table.model.rows[1])
    assert window.state.selected == chosen
    assert window.details.title.text() == window.state.view.loaded.profile.functions.name[chosen]
    window.show_named_page("Call tree")
    node = window.tree.model.node(window.tree.view.currentIndex())
    assert int(window.state.view.loaded.tree.function[node.context]) == chosen


def test_details_say_calls_places_and_change(window):
    window.state.select(number_of(window, "inner"))
    text = window.details.sentence.text()
    assert "36 times" in text.replace("\u202f", " ")
    assert "from 1 place" in text.replace("\u202f", " ")
    assert "180 calls then" in text
    assert any(blade.name == "work" and blade.calls == "36 of 36" for blade in window.details.fan._blades)


def test_signs_that_look_like_tags_are_shown(window):
    window.state.select(number_of(window, "<module>"))
    text = window.details.sentence.text()
    assert "<0.1" not in text
    assert "of the run" in text
    assert window.details.title.text() == "<module>"
    told = [window.functions.table.model.data(window.functions.table.model.index(row, 1), Qt.ItemDataRole.ToolTipRole)
            for row in range(window.functions.table.model.rowCount())]  # fmt: skip
    assert any("&lt;module&gt;" in text for text in told)


def test_fan_is_walked_with_keys(window):
    window.state.select(number_of(window, "inner"))
    fan = window.details.fan
    fan.setFocus()
    QTest.keyClick(fan, Qt.Key.Key_Down)
    QTest.keyClick(fan, Qt.Key.Key_Return)
    assert window.details.title.text() == "work"


def test_source_shows_bars_beside_lines(window):
    window.state.select(number_of(window, "work"))
    source = window.details.source
    assert source._first == 5
    assert len(source._lines) == 3
    assert source._figures[7][1] > 0
    assert "what it called" in source._explain(" ", 7)


def test_a_click_on_a_card_reads_that_round(window, qtbot):
    cards = window.rounds.cards
    with qtbot.waitSignal(window.state.view_changed, timeout=10_000):
        qtbot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=QPoint(40, CARD_PX // 2))
    assert window.state.number == 1
    assert window.state.against is None
    with qtbot.waitSignal(window.state.view_changed, timeout=10_000):
        cards.setFocus()
        QTest.keyClick(cards, Qt.Key.Key_Down)
    assert window.state.number == 2
    with qtbot.waitSignal(window.state.view_changed, timeout=10_000):
        qtbot.mouseClick(cards, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, QPoint(40, CARD_PX // 2))
    assert (window.state.number, window.state.against) == (2, 1)


def test_the_sentence_changes_what_is_compared(window, qtbot):
    menu = window.reading.against_button.menu()
    with qtbot.waitSignal(window.state.view_changed, timeout=10_000):
        menu.actions()[-1].trigger()
    assert window.reading.against_button.text() == "nothing"
    assert "gain" not in [c.key for c in window.functions.table.model.columns]


def test_find_box_finds_functions_rounds_and_actions(window, qtbot):
    QTest.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(window.find_box, "nap")
    QTest.keyClick(window.find_box, Qt.Key.Key_Return)
    assert window.details.title.text() == "nap"
    assert [find.text for find in window.find_box.found("call tree")] == ["Show page Call tree   Ctrl+4"]
    assert "Read round 1 “slow”" in [find.text for find in window.find_box.found("slow")]
    assert window.find_box.found("no such thing anywhere") == []


def test_a_click_of_either_button_selects_a_row(window):
    view, rows = window.functions.table.view, window.functions.table.model.rows
    asked = []
    window.functions.table.asked.disconnect()
    window.functions.table.asked.connect(lambda _place: asked.append(window.state.selected))
    for row in (3, 1):
        place = view.visualRect(window.functions.table.model.index(row, 1)).center()
        QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=place)
        assert window.state.selected == rows[row]
    place = view.visualRect(window.functions.table.model.index(2, 1)).center()
    QTest.mouseClick(view.viewport(), Qt.MouseButton.RightButton, pos=place)
    view.customContextMenuRequested.emit(place)
    assert asked == [rows[2]]
    window.show_named_page("Call tree")
    tree = window.tree.view
    index = window.tree.model.index(0, 0, window.tree.model.index(0, 0))
    QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, pos=tree.visualRect(index).center())
    function = window.state.view.loaded.tree.function[window.tree.model.node(index).context]
    assert window.state.selected == function


def test_tree_opens_along_the_heaviest_path(window):
    window.show_named_page("Call tree")
    model, view = window.tree.model, window.tree.view
    top = model.index(0, 0)
    assert model.data(top, Qt.ItemDataRole.DisplayRole) == "<module>"
    assert view.isExpanded(top)
    names = [model.data(model.index(row, 0, top), Qt.ItemDataRole.DisplayRole) for row in range(model.rowCount(top))]
    assert names[0] in ("work", "nap")
    assert model.cell(model.index(0, 1)).bar.base_ns > 0


def test_every_number_explains_itself(window):
    for page in (window.functions, window.lines):
        model = page.table.model
        for section in range(1, len(model.columns)):
            told = model.data(model.index(0, section), Qt.ItemDataRole.ToolTipRole)
            assert told and len(told) > 8, model.columns[section].key


def test_widgets_for_input_have_accessible_names(window):
    from PyQt6.QtWidgets import QAbstractItemView, QAbstractSpinBox, QComboBox, QLineEdit

    def belongs_to_a_named_one(widget) -> bool:
        above = widget.parent()
        while above is not None and not (isinstance(above, QComboBox | QAbstractSpinBox | QAbstractItemView) and above.accessibleName()):
            above = above.parent()
        return above is not None

    for kind in (QLineEdit, QComboBox, QAbstractSpinBox, QAbstractItemView):
        for widget in window.findChildren(kind):
            assert widget.accessibleName() or belongs_to_a_named_one(widget), widget


def test_a_changed_source_offers_the_next_round(window, study, qtbot):
    assert not window.rounds.notice.isVisible()
    source = study.parent / "job.py"
    text = source.read_text()
    try:
        with qtbot.waitSignal(window.watcher.changed, timeout=10_000):
            source.write_text(text + "# changed\n")
        qtbot.waitUntil(window.rounds.notice.isVisible, timeout=10_000)
        assert "job.py" in window.rounds.notice_text.text()
    finally:
        source.write_text(text)
    qtbot.waitUntil(lambda: not window.rounds.notice.isVisible(), timeout=10_000)


@pytest.fixture
def copy(study, tmp_path) -> Path:
    (tmp_path / "job.py").write_text(SLOW.format(times=12))
    place = tmp_path / "job.ricerca"
    place.write_bytes(study.read_bytes())
    return place


def test_a_new_round_is_recorded_from_the_sheet_and_shown_against_the_baseline(open_window, copy, qtbot):
    window = open_window(copy)
    QTest.keyClick(window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    sheet = window.sheet
    assert sheet.program.text() == "job.py"
    sheet.cwd.setText(str(copy.parent))
    sheet.name.setText("third")
    sheet.note.setPlainText("because")
    sheet.plain.setValue(1)
    with qtbot.waitSignal(sheet.made, timeout=30_000):
        qtbot.mouseClick(sheet.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.number == 3 and window.state.view.loaded.round.number == 3, timeout=20_000)
    assert "the program is done" in sheet.output.toPlainText()
    assert window.state.against == 1
    with Study.open(copy) as kept:
        assert (kept.round(3).name, kept.round(3).note, len(kept.round(3).plain_ns)) == ("third", "because", 1)


def test_finish_now_keeps_what_is_there(open_window, copy, qtbot):
    (copy.parent / "long.py").write_text("import time\ndef tick():\n    time.sleep(0.01)\nfor _ in range(4000): tick()\n")
    window = open_window(copy)
    window.new_round()
    sheet = window.sheet
    sheet.program.setText("long.py")
    sheet.arguments.setText("")
    sheet.cwd.setText(str(copy.parent))
    sheet.plain.setValue(0)
    qtbot.mouseClick(sheet.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: sheet.leaders._glance is not None and len(sheet.leaders._glance.leaders) > 0, timeout=20_000)
    assert sheet.leaders._glance.leaders[0][0] == "sleep"
    with qtbot.waitSignal(sheet.made, timeout=20_000):
        qtbot.mouseClick(sheet.finish, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.number == 3 and window.state.view.loaded.round.number == 3, timeout=20_000)
    assert "NOT COMPLETE" in window.status.text()
    table = window.state.view.loaded.profile.functions
    assert window.state.view.loaded.figures.calls[table.name.index("tick")] > 3


def test_a_program_that_is_not_there_is_said_on_the_sheet(open_window, copy, qtbot):
    window = open_window(copy)
    window.new_round()
    window.sheet.program.setText("gone.py")
    qtbot.mouseClick(window.sheet.record, Qt.MouseButton.LeftButton)
    assert "There is no program 'gone.py'" in window.sheet.problem.text()
    (copy.parent / "bad.py").write_text("def f(:\n")
    window.sheet.cwd.setText(str(copy.parent))
    window.sheet.program.setText("bad.py")
    window.sheet.plain.setValue(0)
    qtbot.mouseClick(window.sheet.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "Nothing was recorded" in window.sheet.problem.text(), timeout=20_000)
    assert "SyntaxError" in window.sheet.problem.text()


def test_start_page_lists_recent_studies_and_opens_them(window, open_window, qtbot):
    window.to_start()
    from PyQt6.QtWidgets import QPushButton

    button = next(b for b in window.start.findChildren(QPushButton) if b.text() == "job")
    with qtbot.waitSignal(window.state.study_opened, timeout=10_000):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)


def test_a_damaged_study_is_said_and_harms_nothing(open_window, tmp_path, qtbot):
    bad = tmp_path / "bad.ricerca"
    bad.write_bytes(b"nothing of the kind" * 100)
    window = open_window(None)
    with qtbot.waitSignal(window.state.failed, timeout=10_000):
        window.open_study(bad)
    assert "damaged or not a Ricerca study" in window.notice_text.text()
    assert window.notice.isVisible()


def test_an_empty_study_and_a_dropped_program_lead_on(open_window, tmp_path, qtbot):
    empty = tmp_path / "empty.ricerca"
    Study.open(empty, create=True).close()
    window = open_window(None)
    with qtbot.waitSignal(window.state.study_opened, timeout=10_000):
        window.open_study(empty)
    assert window.middle.currentWidget() is window.empty
    window._program_dropped(str(tmp_path / "x.py"))
    assert window.sheet.program.text() == "x.py"
    assert window.sheet.cwd.text() == str(tmp_path)


def test_editor_is_the_one_of_the_environment(window, monkeypatch, tmp_path, qtbot):
    told = tmp_path / "told"
    editor = tmp_path / "editor"
    editor.write_text(f"#!{sys.executable}\nimport sys\nopen({str(told)!r}, 'w').write(' '.join(sys.argv[1:]))\n")
    editor.chmod(0o755)
    monkeypatch.setenv("VISUAL", str(editor))
    window.state.select(number_of(window, "nap"))
    QTest.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: told.exists() and told.read_text() != "", timeout=10_000)
    assert told.read_text().startswith("+8 ")
    assert told.read_text().endswith("job.py")


def test_a_line_opens_at_that_line(window, monkeypatch):
    opened = []
    monkeypatch.setattr("ricerca.desk.details.panel.open_at", lambda file, line: opened.append((Path(file).name, line)))
    window.show_named_page("Lines")
    lines = window.state.view.loaded.lines
    row = next(n for n, line in enumerate(lines.line) if line == 7)
    window.lines.table.select(-1)
    window.lines.table.chosen.emit(row)
    QTest.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    window.state.select(number_of(window, "inner"))
    source = window.details.source
    QTest.mouseDClick(source.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(120, 25))
    assert opened == [("job.py", 7), ("job.py", 4)]


def test_a_program_that_will_not_end_is_ended_by_force(open_window, copy, qtbot):
    stubborn = "import signal, time\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\ndef tick():\n    time.sleep(0.01)\nwhile True: tick()\n"
    (copy.parent / "stubborn.py").write_text(stubborn)
    window = open_window(copy)
    window.new_round()
    sheet = window.sheet
    sheet.program.setText("stubborn.py")
    sheet.cwd.setText(str(copy.parent))
    sheet.arguments.setText("")
    sheet.plain.setValue(0)
    qtbot.mouseClick(sheet.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: sheet.leaders._glance is not None and len(sheet.leaders._glance.leaders) > 0, timeout=20_000)
    qtbot.mouseClick(sheet.finish, Qt.MouseButton.LeftButton)
    assert sheet.finish.text() == "Kill it"
    with qtbot.waitSignal(sheet.made, timeout=20_000):
        qtbot.mouseClick(sheet.finish, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.number == 3 and window.state.view.loaded.round.number == 3, timeout=20_000)
    assert "SIGKILL" in window.status.text()


def test_themes_change_while_open(window):
    for choice in ("dark", "light"):
        window.wear(choice)
        assert theme.now().dark == (choice == "dark")
        assert not window.grab().isNull()


@pytest.mark.parametrize("colours", [theme.LIGHT, theme.DARK], ids=["light", "dark"])
def test_text_has_contrast(colours):
    for ground in (colours.paper, colours.panel, colours.chosen, colours.raised):
        for text in (colours.ink, colours.soft, colours.faster, colours.slower, colours.accent):
            assert theme.contrast(QColor(ground), QColor(text)) >= 4.5, (ground, text)


def test_contrast_is_that_of_the_standard():
    assert theme.contrast(QColor("#000000"), QColor("#ffffff")) == pytest.approx(21)
    assert theme.contrast(QColor("#777777"), QColor("#ffffff")) == pytest.approx(4.48, abs=0.005)


@pytest.mark.parametrize("colours", [theme.LIGHT, theme.DARK], ids=["light", "dark"])
@pytest.mark.parametrize("chosen", ["#ffff00", "#55007f", "#ffffff", "#000000", "#00ff00"])
def test_any_colour_that_a_person_chose_can_be_read(colours, chosen):
    theme.know_layers({"tides": chosen})
    own, called, paper = colours.own("tides"), colours.called("tides"), QColor(colours.paper)
    theme.know_layers({})
    assert theme.contrast(own, paper) >= 4.5
    assert 1.2 < theme.contrast(called, paper) < theme.contrast(own, paper)  # what it called is fainter, and still there


def test_interface_texts_need_no_sign_the_font_lacks(qapp):
    from PyQt6.QtGui import QRawFont

    make_application()
    fonts = [QRawFont.fromFont(theme.font()), QRawFont.fromFont(theme.font(bold=True))]
    for file in Path(theme.__file__).parent.glob("*.py"):
        signs = {sign for sign in file.read_text() if ord(sign) > 127}
        for font in fonts:
            assert all(font.supportsCharacter(sign) for sign in signs), (file.name, signs)
