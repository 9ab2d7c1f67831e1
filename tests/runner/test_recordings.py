"""A recording belongs to the round it was made for; what could not be taken in is listed, taken and dropped."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import time
from contextlib import closing
from pathlib import Path

import pytest
from conftest import RICERCA, facts_of, ricerca

from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject
from ricerca.runner import recordings
from ricerca.study.store import Study

PROGRAM = (
    "import sys, time\ndef f(): pass\nfor _ in range(int(sys.argv[1])): f()\ntime.sleep(float(sys.argv[2]))\nsys.exit(int(sys.argv[3]))\n"
)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "p.py").write_text(PROGRAM)
    return tmp_path


def locked_while_it_runs(folder: Path, study: str, *words: object) -> subprocess.CompletedProcess:
    """Record a program while its study gets locked by somebody else, until record has returned."""
    process = subprocess.Popen([*RICERCA, "record", "--study", study, "--", "p.py", *map(str, words)], cwd=folder,
                               stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    while not list(recordings.recordings_folder().glob("*.recording")):
        time.sleep(0.01)
    with closing(sqlite3.connect(folder / study, isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        out, err = process.communicate(timeout=60)
        other.execute("ROLLBACK")
    return subprocess.CompletedProcess([], process.returncode, out, err)


def test_a_locked_study_costs_neither_the_exit_status_nor_the_recording(folder):
    assert ricerca("record", "--study", "s.ricerca", "--", "p.py", 1, 0, 0, cwd=folder).returncode == 0
    done = locked_while_it_runs(folder, "s.ricerca", 7, 0.5, 4)
    assert done.returncode == 4  # the program's own
    assert "could not be taken in: s.ricerca is in use by another program" in done.stderr
    (waiting,) = recordings.waiting()
    assert str(waiting.file) in done.stderr
    assert f"ricerca recordings take {waiting.name}" in done.stderr
    listed = ricerca("recordings", cwd=folder).stdout
    assert "p.py 7 0.5 4" in listed
    assert "in use by another program" in listed
    # another program's round stays its own
    (folder / "q.py").write_text("def g(): pass\ng()\n")
    assert ricerca("record", "--study", "t.ricerca", "q.py", cwd=folder).returncode == 0
    assert ricerca("record", "--study", "t.ricerca", "q.py", cwd=folder).returncode == 0
    assert {row["function"] for row in facts_of(folder / "t.ricerca")["functions"]} == {"<module>", "g"}
    assert len(list(recordings.waiting())) == 1
    # and it comes into the round it was made for
    done = ricerca("recordings", "take", waiting.name, cwd=folder)
    assert done.returncode == 0, done.stderr
    assert f"is now in round 2 of {folder / 's.ricerca'}" in done.stderr
    facts = facts_of(folder / "s.ricerca")
    assert (facts["round"], facts["exit_status"]) == (2, 4)
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 7
    assert "All recordings are in their studies" in ricerca("recordings", cwd=folder).stdout


def test_it_is_taken_in_by_itself_when_its_study_is_read_next(folder):
    ricerca("record", "--study", "s.ricerca", "--", "p.py", 1, 0, 0, cwd=folder)
    locked_while_it_runs(folder, "s.ricerca", 5, 0.4, 0)
    facts = facts_of(folder / "s.ricerca")
    assert facts["round"] == 2
    assert not list(recordings.waiting())


def test_a_recording_whose_round_is_gone_gets_one_of_its_own_and_that_is_said(folder):
    ricerca("record", "--study", "s.ricerca", "--", "p.py", 1, 0, 0, cwd=folder)
    locked_while_it_runs(folder, "s.ricerca", 5, 0.4, 0)
    (folder / "s.ricerca").unlink()
    (folder / "q.py").write_text("def g(): pass\ng()\n")
    ricerca("record", "--study", "s.ricerca", "q.py", cwd=folder)
    ricerca("record", "--study", "s.ricerca", "q.py", cwd=folder)
    done = ricerca("rank", "s.ricerca", "--round", 2, cwd=folder)
    assert "was taken into a round of its own, 3" in done.stderr
    assert "g" in done.stdout
    with Study.open(folder / "s.ricerca") as study:
        assert [round_.subject.program[0] for round_ in study.rounds()] == ["q.py", "q.py", "p.py"]


def test_a_round_of_other_arguments_is_not_added_to(folder):
    assert ricerca("record", "--study", "s.ricerca", "--round", "a", "--", "p.py", 1, 0, 0, cwd=folder).returncode == 0
    done = ricerca("record", "--study", "s.ricerca", "--round", "a", "--", "p.py", 2, 0, 0, cwd=folder)
    assert done.returncode == 2
    assert "Round 1 “a” is of something else (arguments: 1 0 0, then 2 0 0)" in done.stderr
    assert ricerca("record", "--study", "s.ricerca", "--round", "a", "--lines", "f", "--", "p.py", 1, 0, 0, cwd=folder).returncode == 0
    with Study.open(folder / "s.ricerca") as study:
        assert [len(round_.runs) for round_ in study.rounds()] == [2]


def test_rounds_of_different_work_get_no_verdict(folder):
    for times in (10, 20_000):
        ricerca("record", "--plain", 3, "--study", "s.ricerca", "--", "p.py", times, 0, 0, cwd=folder)
    facts = json.loads(ricerca("compare", "s.ricerca", "--json", cwd=folder).stdout)
    assert facts["verdict"] == "undecided"
    assert facts["speedup"] is None
    assert facts["differs"] == ["arguments: 10 0 0, then 20000 0 0"]
    assert "of different work" in facts["why"]
    assert "No verdict: the rounds are of different work" in ricerca("compare", "s.ricerca", cwd=folder).stdout


def test_a_program_that_fails_at_once_is_not_faster(folder):
    ricerca("record", "--plain", 3, "--study", "s.ricerca", "--", "p.py", 10, 0.1, 0, cwd=folder)
    (folder / "p.py").write_text("raise SystemExit(1)\n")
    assert ricerca("record", "--plain", 3, "--study", "s.ricerca", "--", "p.py", 10, 0.1, 0, cwd=folder).returncode == 1
    facts = json.loads(ricerca("compare", "s.ricerca", "--json", cwd=folder).stdout)
    assert facts["verdict"] == "undecided"
    assert facts["speedup"] is None
    assert "exit status 1, which is usually 0" in facts["why"]
    assert facts["new"]["plain_total_ns"] is None
    assert facts["new"]["incomplete_because"] == ["it ended with exit status 1, which is usually 0"]
    assert facts["base"]["complete"]


def test_a_killed_ricerca_leaves_what_the_next_look_takes_in(folder):
    process = subprocess.Popen([*RICERCA, "record", "--study", "s.ricerca", "--", "p.py", "3", "6", "0"], cwd=folder)
    while not any(one.running and one.bytes > 20_000 for one in recordings.waiting()):
        time.sleep(0.02)
    time.sleep(0.5)
    process.kill()
    process.wait()
    assert "still running" in ricerca("recordings", cwd=folder).stdout
    (waiting,) = recordings.waiting()
    with pytest.raises(InputError, match="still running"):
        recordings.drop(waiting)
    deadline = time.monotonic() + 30
    while next(recordings.waiting()).running and time.monotonic() < deadline:
        time.sleep(0.05)
    facts = facts_of(folder / "s.ricerca")
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 3
    assert facts["exit_status"] is None  # nobody saw it


def test_what_belongs_to_a_recording_comes_back_as_it_was(own_cache, tmp_path):
    own_cache.mkdir(parents=True)
    subject = Subject("script", ("a b.py", "\udcff", "ü"), "/tmp/\udcfe", "/usr/bin/python3", (("K", "V=1"),), ("/r",), ("l*",), ("i",))
    with Study.open(tmp_path / "s.ricerca", create=True) as study:
        round_ = study.add_round(subject, "näme")
        kept = recordings.about_round(study.path, round_, subject, "a case")
        assert study.rounds()[0].subject == subject
    place = recordings.recording_path(tmp_path / "s.ricerca", round_.id)
    place.touch()
    recordings.note(place, kept)
    assert recordings.about(place) == kept
    assert kept.kind == "line"


def test_a_recording_without_a_word_can_only_be_dropped(own_cache):
    own_cache.mkdir(parents=True)
    (own_cache / "lost.recording").write_bytes(b"x" * 5000)
    (own_cache / "torn.recording").write_bytes(b"y")
    (own_cache / "torn.recording.about").write_text("{")
    assert {one.name for one in recordings.waiting()} == {"lost", "torn"}
    done = ricerca("recordings", "take", "lost")
    assert done.returncode == 2
    assert "ricerca recordings drop lost" in done.stderr
    assert ricerca("recordings", "drop", "lost", "torn").returncode == 0
    assert not list(own_cache.iterdir())
    done = ricerca("recordings", "drop", "lost")
    assert done.returncode == 2
    assert "There is no recording 'lost'" in done.stderr


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGQUIT, signal.SIGTERM])
def test_a_signal_sent_to_ricerca_alone_reaches_the_program(folder, number):
    (folder / "w.py").write_text(
        f"import signal, sys, time\nsignal.signal({int(number)}, lambda *_: sys.exit(9))\nprint('ready', flush=True)\ntime.sleep(30)\n"
    )
    # a shell that starts the tests in the background has these two ignored, and what is ignored stays so
    before = {
        each: signal.signal(each, signal.SIG_DFL) for each in (signal.SIGINT, signal.SIGQUIT) if signal.getsignal(each) == signal.SIG_IGN
    }
    process = subprocess.Popen([*RICERCA, "record", "--study", "s.ricerca", "w.py"], cwd=folder, stdout=subprocess.PIPE, text=True,
                               start_new_session=True)  # fmt: skip
    for each, handler in before.items():
        signal.signal(each, handler)
    assert process.stdout.readline() == "ready\n"
    time.sleep(0.1)
    os.kill(process.pid, number)
    assert process.wait(20) == 9
    process.stdout.close()
