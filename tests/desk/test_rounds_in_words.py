"""What the rounds' cards and the verdict say where runs are no measure or the work differs; and the clock of first sight."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import ricerca
from PyQt6.QtCore import QSettings

from ricerca.desk.kept_rounds import read_rounds
from ricerca.desk.reading.line import CLOCK_WORDS, verdict_facts, verdict_words
from ricerca.desk.rounds.column import describe
from ricerca.desk.window import Window
from ricerca.engine.reading import CLOCKS

THREADS = """
import threading, time
def nap(): time.sleep(0.3)
def work(): return sum(range(200_000))
threads = [threading.Thread(target=nap) for _ in range(4)]
for t in threads: t.start()
for _ in range(20): work()
for t in threads: t.join()
"""


def opened(qtbot, tmp_path: Path, study: Path) -> Window:
    window = Window(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat), study)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitUntil(lambda: window.state.view is not None and not window.workers.busy, timeout=20_000)
    return window


@pytest.fixture(scope="module")
def study(tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("rounds")
    (folder / "p.py").write_text("import sys\ndef f(): pass\nfor _ in range(50): f()\n")
    ricerca("record", "--plain", 3, "--study", "s.ricerca", "p.py", "1", cwd=folder)
    ricerca("record", "--plain", 3, "--study", "s.ricerca", "--round", "other", "p.py", "2", cwd=folder)
    (folder / "p.py").write_text("raise SystemExit(5)\n")
    ricerca("record", "--plain", 3, "--study", "s.ricerca", "--round", "fails", "p.py", "1", cwd=folder)
    return folder / "s.ricerca"


def test_a_round_whose_runs_fail_says_why_its_times_do_not_count(study):
    rounds = read_rounds(study)
    assert "3 plain runs" in describe(rounds[0])
    assert "Its plain runs failed: it ended with exit status 5, which is usually 0." in describe(rounds[2])


def test_the_verdict_of_other_work_and_of_failing_runs_is_none_and_says_why(qtbot, tmp_path, study):
    window = opened(qtbot, tmp_path, study)
    for number, said, why in (
        (2, "the rounds run different programs or arguments", "arguments: 1, then 2"),
        (3, "failed runs are not measured", "exit status 5, which is usually 0"),
    ):
        window.state.read(number, 1)
        qtbot.waitUntil(lambda number=number: not window.workers.busy and window.state.view.loaded.round.number == number, timeout=20_000)
        assert verdict_words(window.state).endswith(f"no verdict</span>: {said}")
        assert why in verdict_facts(window.state)


def test_every_clock_explains_itself():
    assert set(CLOCK_WORDS) == set(CLOCKS)


def test_a_run_with_threads_is_first_read_by_elapsed_time_and_a_chosen_clock_stays(qtbot, tmp_path):
    (tmp_path / "t.py").write_text(THREADS)
    ricerca("record", "t.py", cwd=tmp_path)
    window = opened(qtbot, tmp_path, tmp_path / "t.ricerca")
    assert window.state.reading.clock == "elapsed"
    assert window.reading.clock_button.text() == "elapsed time"
    assert "of all threads added up" in window.status.text()
    shown = window.state.view.loaded
    assert shown.profile.total_ns < 0.5 * shown.whole.total_ns
    assert len(window.timeline.staves._line.staves if window.timeline.staves._line else []) in (0, 5)
    from dataclasses import replace

    window.state.set_reading(replace(window.state.reading, clock="wall"))
    qtbot.waitUntil(lambda: not window.workers.busy and window.state.view.loaded.reading.clock == "wall", timeout=20_000)
    assert window.state.reading.clock == "wall"
    assert window.state.view.loaded.profile.total_ns > 1e9
