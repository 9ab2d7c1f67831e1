"""How functions grow with the size of the input: a column, a picture in the details, and the run sheet that measures sizes and cases."""

from __future__ import annotations

import pytest
from conftest import ricerca
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton
from test_window import no_qt_warnings, number_of, open_window, settings  # noqa: F401 - fixtures

from ricerca.desk.rounds.run_sheet import ALL_CASES
from ricerca.engine.leads import GROWTH, SIZES, Evidence, Lead
from ricerca.report.leads import lead_evidence, lead_sentence
from ricerca.study.store import Study

PROGRAM = """
import sys
def same(a, b): return a == b
def pairs(n):
    for i in range(n):
        for j in range(i): same(i, j)
pairs(int(sys.argv[1]))
"""


@pytest.fixture(scope="module")
def grown(tmp_path_factory):
    folder = tmp_path_factory.mktemp("growth")
    (folder / "job.py").write_text(PROGRAM)
    done = ricerca("record", "--study", "s.ricerca", "--size", "n=10,20,40,80", "--", "job.py", "{n}", cwd=folder)
    assert done.returncode == 0, done.stderr
    return folder / "s.ricerca"


@pytest.fixture
def window(open_window, grown, qtbot):  # noqa: F811
    made = open_window(grown)
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    return made


def test_the_growth_of_calls_is_a_column_and_the_details_draw_it(window, qtbot):
    window.show_named_page("Functions")
    view, same = window.state.view, number_of(window, "same")
    assert view.by_size[same].calls == (45, 190, 780, 3160)
    assert view.by_size[same].calls_law.law == "n^2"
    table = window.functions.table
    assert "calls grow as" in {column.title for column in table.model.columns}
    window.state.select(same)
    assert window.details.by_size.isVisible()
    assert "Its calls grow as n²" in window.details.by_size.toolTip()
    image = window.details.by_size.grab().toImage()
    colours = {image.pixelColor(x, y).name() for x in range(0, image.width(), 2) for y in range(0, image.height(), 2)}
    assert len(colours) > 3, "points and a line are drawn"


def test_what_grows_faster_than_its_input_has_a_card_with_its_evidence_and_leads_to_the_column(window, qtbot):
    window.show_named_page("Leads")
    card = next(card for card in window.leads.cards if card.lead.kind == GROWTH and card.lead.name == "same")
    assert card.words == "The calls of same grow as n²."
    exact, then = lead_evidence(card.lead)
    assert exact == "counts exact at 4 sizes"
    assert then.startswith("with ten times the data it would take ")
    button = next(button for button in card.findChildren(QPushButton) if button.text() == "See how all functions grow")
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    assert window.pages.currentWidget() is window.functions
    assert window.state.selected_name()[1] == "same"


def test_the_law_of_time_is_told_with_its_interval():
    evidence = Evidence(SIZES, calls=5, low=1.96, high=2.24)
    lead = Lead(GROWTH, "scan", 7, 0.5, (evidence,), 10, 10, 2.0, law="n^2.1")
    assert lead_sentence(lead) == "The time of scan grows as n^2.1."
    assert lead_evidence(lead) == ["between n^2.0 and n^2.2 at 5 sizes"]


def test_a_study_without_sizes_has_neither(open_window, grown, qtbot, tmp_path):  # noqa: F811
    (tmp_path / "job.py").write_text(PROGRAM)
    ricerca("record", "--study", "s.ricerca", "--", "job.py", "9", cwd=tmp_path)
    made = open_window(tmp_path / "s.ricerca")
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    assert made.state.view.by_size == {}
    made.state.select(number_of(made, "same"))
    assert not made.details.by_size.isVisible()


def test_the_run_sheet_measures_a_new_case_with_sizes_then_all_cases(open_window, qtbot, tmp_path):  # noqa: F811
    (tmp_path / "job.py").write_text(PROGRAM)
    made = open_window(None)
    made.new_study(tmp_path / "job.py") if hasattr(made, "new_study") else made.sheet.prepare(
        tmp_path / "s.ricerca", str(tmp_path / "job.py")
    )
    sheet = made.sheet
    sheet._study = tmp_path / "s.ricerca"
    sheet.program.setText("job.py")
    sheet.cwd.setText(str(tmp_path))
    sheet.arguments.setText("{n}")
    sheet.case.setCurrentText("growing")
    sheet.sizes.setText("n=4,8")
    sheet.often.setValue(12)
    sheet.how.setCurrentIndex(1)
    sheet.record.click()
    qtbot.waitUntil(lambda: not sheet.running, timeout=60_000)
    with Study.open(tmp_path / "s.ricerca") as study:
        (case,) = study.cases()
        assert (case.name, case.runs_per_day, case.sizes) == ("growing", 12, (("n", ("4", "8")),))
        assert study.round(1).sizes == ("n=4", "n=8")
    ricerca("cases", "s.ricerca", "--add", "once", "--", "job.py", "3", cwd=tmp_path)
    again = open_window(tmp_path / "s.ricerca")
    qtbot.waitUntil(lambda: again.state.view is not None and not again.workers.busy, timeout=20_000)
    again.new_round()
    qtbot.waitUntil(lambda: again.sheet.case.count() == 3, timeout=10_000)
    assert again.sheet.case.currentText() == ALL_CASES
    assert not again.sheet.program.isVisible()
    again.sheet.how.setCurrentIndex(1)
    again.sheet.name.setFocus()
    QTest.keyClicks(again.sheet.name, "both")
    QTest.keyClick(again.sheet.name, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: again.sheet.running, timeout=5_000)
    qtbot.waitUntil(lambda: not again.sheet.running and not again.workers.busy, timeout=60_000)
    with Study.open(tmp_path / "s.ricerca") as study:
        assert study.round(2).name == "both"
        assert study.round(2).cases == ("growing", "once")


def test_leads_say_what_the_case_costs_in_a_week_where_somebody_said_how_often_it_is_run(open_window, qtbot, tmp_path):  # noqa: F811
    (tmp_path / "job.py").write_text(PROGRAM)
    ricerca("record", "--study", "s.ricerca", "--", "job.py", "400", cwd=tmp_path)
    made = open_window(tmp_path / "s.ricerca")
    made.show_named_page("Leads")
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    assert "a week" not in made.leads.head.text()
    ricerca("cases", "s.ricerca", "--change", "job", "--runs-per-day", "10", cwd=tmp_path)
    made.state.refresh_rounds(1)
    qtbot.waitUntil(lambda: "Run 10 times a day, it takes" in made.leads.head.text(), timeout=20_000)
    assert "the best lead could save at most" in made.leads.head.text()


def test_a_case_that_is_something_else_and_a_size_that_is_not_used_are_refused_in_the_sheet(open_window, grown, qtbot):  # noqa: F811
    made = open_window(grown)
    qtbot.waitUntil(lambda: made.state.view is not None and not made.workers.busy, timeout=20_000)
    made.new_round()
    sheet = made.sheet
    qtbot.waitUntil(lambda: sheet.case.count() == 1 and sheet.case.currentText() == "job", timeout=10_000)
    assert sheet.sizes.text() == "n=10,20,40,80"
    sheet.arguments.setText("7")
    sheet.record.click()
    assert "used nowhere" in sheet.problem.text()
    sheet.sizes.setText("")
    sheet.record.click()
    assert "is of something else" in sheet.problem.text()
    sheet.sizes.setText("n")
    sheet.record.click()
    assert "is not a size" in sheet.problem.text()
    assert not sheet.running
