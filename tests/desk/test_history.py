"""The History page: rounds placed by what they were made from, cases beside each other, functions followed, saved as shown."""

from __future__ import annotations

import csv
import io
from dataclasses import replace

import pytest
from conftest import ricerca
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from test_pages_of_a_reading import settle
from test_window import no_qt_warnings, number_of, open_window, settings  # noqa: F401 - fixtures

from ricerca.measure.estimates import Speedup
from ricerca.model.cases import Part
from ricerca.model.rounds import PLAIN, UNDONE, Round, Run, Subject
from ricerca.report.account import HistoryRow
from ricerca.report.history import beside_text, history_csv, placed, read_history, short_verdict, turns_offered
from ricerca.report.verdicts import Judged, judged
from ricerca.runner.restoring import why_not_here
from ricerca.study.store import Study

PROGRAM = "import sys\ndef work(n):\n    return [step(i) for i in range(n)]\ndef step(i):\n    return i\nwork(int(sys.argv[1]))\n"
SUBJECT = Subject("script", ("p.py",), "/w", "python3")


@pytest.fixture(scope="module")
def cases(tmp_path_factory):
    """A study of two cases and three rounds; the third was made from the first, the second is undone."""
    folder = tmp_path_factory.mktemp("history")
    (folder / "job.py").write_text(PROGRAM)
    for name, count in (("large", "900"), ("small", "9")):
        ricerca("cases", "s.ricerca", "--add", name, "--", "job.py", count, cwd=folder)
    for words in ((), (), ("--from", "1", "--note", "another way")):
        done = ricerca("again", "s.ricerca", "--plain", 3, *words, cwd=folder)
        assert done.returncode == 0, done.stderr
    with Study.open(folder / "s.ricerca") as study:
        study.describe_round(2, fate=UNDONE)
    return folder / "s.ricerca"


@pytest.fixture
def window(open_window, cases, qtbot):  # noqa: F811
    made = open_window(cases)
    made.show_named_page("History")
    qtbot.waitUntil(lambda: made.history.table.rowCount() == 3 and not made.workers.busy, timeout=20_000)
    return made


def row(number, made_from=None, fate="", run_ns=100):
    return HistoryRow(number, f"r{number}", "", "", made_from, fate, run_ns, None, None)


def round_(number, *wall_ns, note=""):
    runs = tuple(Run(n, PLAIN, 0, wall, 0, 0, "exit status 0") for n, wall in enumerate(wall_ns))
    return Round(number, number, f"r{number}", note, SUBJECT, 0, "", runs)


def test_alternatives_stand_side_by_side_one_step_after_the_round_they_were_made_from():
    rounds = {n: round_(n, 10, 10, 10) for n in range(1, 6)}
    places = placed([row(1), row(2, 1), row(3, 1), row(4, 1), row(5, 4)], rounds)
    assert [place.parent for place in places] == [None, 1, 1, 1, 4]
    xs = [place.x for place in places]
    assert xs[0] == 0 and xs[4] == 2
    assert xs[1] < xs[2] == 1 < xs[3]
    assert [len(place.beside) for place in places] == [0, 0, 1, 2, 0]


def test_a_round_whose_origin_is_not_known_follows_the_one_before_it():
    rounds = {n: round_(n, 10) for n in (1, 3, 4)}
    assert [place.parent for place in placed([row(1), row(3, 2), row(4)], rounds)] == [None, 1, 3]
    assert placed([], {}) == ()


def test_what_was_expected_comes_from_the_note_of_the_round_it_was_made_from():
    note = "Expected: with fit 2× as fast, the run takes 1.50 s (1.30×)."
    rounds = {1: round_(1, 10, note=note), 2: round_(2, 10)}
    assert [place.expected_ns for place in placed([row(1), row(2, 1)], rounds)] == [None, 1.5e9]


@pytest.mark.parametrize(
    ("speedup", "text"),
    [
        (Speedup(2.0, (1.9, 2.1), "faster"), "▼ 2.0× faster"),
        (Speedup(0.5, (0.4, 0.6), "slower"), "▲ 0.50× slower"),
        (Speedup(1.0, (0.99, 1.01), "no difference"), "no difference"),
        (Speedup(1.1, (0.9, 1.3), "undecided"), "1.10× undecided"),
        (Speedup(float("nan"), None, "undecided"), "no verdict"),
    ],
)
def test_verdicts_in_few_words(speedup, text):
    found = replace(judged(round_(1, 10), round_(2, 10)), speedup=speedup)
    assert isinstance(found, Judged)
    assert short_verdict(found) == text
    assert short_verdict(None) == ""


def test_the_table_tells_each_round_and_enter_reads_it(window, qtbot):
    table = window.history.table
    texts = [[table.item(line, column).text() for column in range(table.columnCount())] for line in range(3)]
    assert [line[0] for line in texts] == ["1", "2", "3"]
    assert texts[0][5] == "baseline"
    assert [line[3] for line in texts] == ["", "undone", ""]
    assert not table.isColumnHidden(2), "the third round was made from the first"
    assert texts[2][7] == beside_text(window.history.history.places[2])
    table.setFocus()
    table.setCurrentCell(1, 0)
    QTest.keyClick(table, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.state.number == 2, timeout=10_000)


def test_another_case_is_looked_at_on_every_page(window, qtbot):
    assert window.state.cases == ("large", "small")
    assert window.reading.case_button.isVisible()
    assert window.state.view.loaded.round.subject.program == ("job.py", "900")
    small = next(action for action in window.reading.case_button.menu().actions() if action.text() == "small")
    small.trigger()
    qtbot.waitUntil(lambda: window.state.part == Part("small") and not window.workers.busy, timeout=20_000)
    assert window.state.view.loaded.round.subject.program == ("job.py", "9")
    assert window.reading.case_button.text() == "small"
    assert window.history.history.cases[0][0] == "small"
    window.state.back() if window.state.can_go_back else window.state.look_at_part(Part())
    settle(qtbot, window)


def test_a_function_is_followed_through_the_rounds_and_no_longer_when_asked_again(window, qtbot):
    window.state.select(number_of(window, "step"))
    window.history.follow_button.click()
    qtbot.waitUntil(lambda: len(window.history.followed) == 1, timeout=20_000)
    (times,) = window.history.followed.values()
    assert set(times) == {1, 2, 3}
    window.history.follow_button.click()
    assert window.history.followed == {}


def test_what_became_of_a_change_is_said_in_the_window(window, qtbot, cases):
    window.state.say_fate(3, "kept")
    qtbot.waitUntil(lambda: window.state.rounds[-1].fate == "kept" and not window.workers.busy, timeout=10_000)
    window.state.say_fate(3, "")
    qtbot.waitUntil(lambda: window.state.rounds[-1].fate == "", timeout=10_000)
    settle(qtbot, window)


def test_a_report_of_what_is_read_is_saved_from_the_window(window, qtbot, tmp_path, monkeypatch):
    from PyQt6.QtWidgets import QFileDialog

    said = []
    monkeypatch.setattr(window, "say", said.append)
    for name, start in (("r.html", b"<!DOCTYPE html>"), ("r.pdf", b"%PDF")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_words, name=name: (str(tmp_path / name), ""))
        window.export()
        qtbot.waitUntil(lambda: not window.workers.busy, timeout=30_000)
        assert (tmp_path / name).read_bytes().startswith(start)
        assert said[-1] == f"Saved {tmp_path / name}."
    assert "“round 3”" in (tmp_path / "r.html").read_text()


def test_the_picture_and_its_figures_are_saved(window, tmp_path, cases):
    for name, start in (("h.svg", b"<?xml"), ("h.png", b"\x89PNG"), ("h.pdf", b"%PDF"), ("h.csv", b"case,round")):
        window.history.save(tmp_path / name)
        assert (tmp_path / name).read_bytes().startswith(start)
    with Study.open(cases) as study:
        rows = list(csv.DictReader(io.StringIO(history_csv(read_history(study, Part()), {("m", "f"): {1: 5}}))))
    assert [(one["case"], one["round"]) for one in rows[:6]] == [(case, str(n)) for case in ("large", "small") for n in (1, 2, 3)]
    assert rows[0]["speedup"] == "1"
    assert rows[-1]["function"] == "m.f"


def test_a_round_can_be_run_in_turn_with_its_base_and_with_its_alternatives():
    rounds = {n: round_(n, 10) for n in range(1, 5)}
    places = placed([row(1), row(2, 1), row(3, 1), row(4, 3)], rounds)
    assert turns_offered(places, 0) == []
    assert turns_offered(places, 3) == [("Run it in turn with round 3", [(3, 4)])]
    alone, all_of_them = turns_offered(places, 2)
    assert alone == ("Run it in turn with round 1", [(1, 3)])
    assert all_of_them == ("Run rounds 1, 2, 3 in turn, each with each", [(1, 2), (1, 3), (2, 3)])


def paired_runs(window, number):
    with Study.open(window.state.path, part=window.state.part) as study:
        return sum(run.pair is not None for run in study.round(number).runs)


def test_alternatives_are_run_in_turn_one_pair_of_rounds_after_the_other_and_stopped_together(window, qtbot):
    if why_not_here():
        pytest.skip(why_not_here())
    before = paired_runs(window, 3)
    window.history.pairs_asked.emit([(1, 2), (1, 3), (2, 3)])
    assert "Rounds 1 and 2" in window.turns.words.text() and "(1 of 3)" in window.turns.words.text()
    qtbot.waitUntil(lambda: "pair" in window.turns.words.text().partition(": ")[2], timeout=30_000)
    QTest.mouseClick(window.turns.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not window.turns.running and not window.workers.busy, timeout=30_000)
    assert "(1 of 3)" in window.turns.words.text() or "made" in window.turns.words.text()
    assert paired_runs(window, 3) == before, "what had not begun is left out"
