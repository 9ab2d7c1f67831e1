"""The example: all states of its code print the same, and it is recorded state by state."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from ricerca.examples import harbour
from ricerca.examples.harbour import STATES, Harbour
from ricerca.loading import load
from ricerca.model.rounds import PLAIN
from ricerca.study.store import Study


@pytest.fixture
def short(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The example with twenty days instead of a year."""
    copy = tmp_path / "tidebook"
    shutil.copytree(STATES, copy)
    maker = copy / "1-baseline" / "make_readings.py"
    maker.write_text(maker.read_text().replace("DAYS = 365", "DAYS = 20"))
    monkeypatch.setattr(harbour, "STATES", copy)
    return tmp_path / "work"


def test_every_state_prints_the_same(tmp_path):
    said = set()
    for state in sorted(STATES.iterdir()):
        if not state.is_dir():
            continue
        for file in state.glob("*.py"):
            shutil.copy(file, tmp_path)
        if not said:
            maker = tmp_path / "make_readings.py"
            maker.write_text(maker.read_text().replace("DAYS = 365", "DAYS = 30"))
            subprocess.run([sys.executable, "make_readings.py"], cwd=tmp_path, check=True)
        done = subprocess.run([sys.executable, "tidebook.py", "readings.csv", "table.txt"], cwd=tmp_path, capture_output=True, check=True)
        said.add((done.stdout, (tmp_path / "table.txt").read_bytes()))
    assert len(said) == 1
    assert b"high waters" in said.pop()[0]


def test_readings_come_out_the_same_from_the_same_seed(tmp_path):
    texts = []
    for name in ("a.csv", "b.csv"):
        subprocess.run([sys.executable, str(STATES / "1-baseline" / "make_readings.py"), name], cwd=tmp_path, check=True)
        texts.append((tmp_path / name).read_bytes())
    assert texts[0] == texts[1]


def test_all_rounds_are_made_once_and_an_interrupted_example_goes_on(short):
    told: list[str] = []
    first = Harbour(short, plain_runs=1)

    def stop_after_two(step: str) -> None:
        told.append(step)
        if step.startswith("Round 3"):
            first.stop()

    assert first.make(stop_after_two) is None
    assert not first.complete()
    again = Harbour(short, plain_runs=1)
    assert again.make(told.append) == again.study
    assert again.complete()
    with Study.open(again.study) as study:
        rounds = study.rounds()
        assert [one.name for one in rounds][:2] == ["baseline", "no re-sort"]
        assert all(sum(run.kind == PLAIN for run in one.runs) >= 1 for one in rounds)
        last = load(study, rounds[-1].number)
        assert (last.lines.hits >= 0).any()
        names = last.profile.functions.name
        assert last.figures.calls[names.index("nearest_reading")] > 10
    before = again.study.stat().st_mtime_ns
    assert Harbour(short).make(told.append) == again.study
    assert again.study.stat().st_mtime_ns == before


def test_a_folder_that_cannot_be_made_is_said(tmp_path):
    from ricerca.model.errors import RicercaError

    (tmp_path / "file").touch()
    with pytest.raises(RicercaError, match="could not be made"):
        Harbour(tmp_path / "file" / "x").make(lambda _step: None)
