"""The example as it is shipped: whole, made-up throughout, at home wherever it is opened."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys

import pytest

from ricerca.examples import shipped
from ricerca.examples.harbour import STATES, Harbour
from ricerca.examples.shipped import PLACE, PYTHON, SHIPPED, open_shipped
from ricerca.loading import load, load_pair
from ricerca.model.errors import EnvironmentProblem
from ricerca.report.leads import lead_sentence
from ricerca.study.store import Study


def test_it_has_four_rounds_with_every_kind_of_run_and_its_story_holds():
    with Study.open(SHIPPED) as study:
        rounds = study.rounds()
        assert [one.name for one in rounds] == [state["name"] for state in Harbour._states()]
        assert {run.kind for one in rounds for run in one.runs} == {"plain", "recorded", "line", "sparse"}
        pair = load_pair(study, 1, 4)
    assert pair.verdict.verdict == "faster"
    assert pair.answer.verdict == "same"
    assert lead_sentence(pair.leads[0]).startswith("nearest_reading")
    assert (pair.new.lines.hits >= 0).any()


def test_it_tells_nothing_of_the_machine_it_was_made_on():
    content = SHIPPED.read_bytes()
    for trace in (b"/root/", b"/home/", b"/work/", b".pyenv"):
        assert trace not in content
    with sqlite3.connect(SHIPPED) as base:
        (subjects,) = base.execute("SELECT group_concat(cwd || python) FROM subjects").fetchone()
    assert PLACE in subjects and PYTHON in subjects


def test_its_sources_are_those_of_the_example_s_states():
    with Study.open(SHIPPED) as study:
        loaded = load(study, 4)
    last = {name: (folder / name).read_text() for folder in sorted(STATES.iterdir()) if folder.is_dir() for name in os.listdir(folder)
            if name.endswith(".py")}  # fmt: skip
    own = {file.rsplit("/", 1)[1]: text for file, text in loaded.sources.items() if file.startswith(PLACE)}
    assert own and all(last[name] == text for name, text in own.items())


@pytest.fixture
def opened(tmp_path):
    return open_shipped(tmp_path / "harbour")


def test_where_it_is_opened_it_is_at_home(opened):
    folder = opened.parent
    with Study.open(opened) as study:
        subject = study.rounds()[-1].subject
        table = load(study).whole.functions
    assert subject.cwd == str(folder) and subject.python == sys.executable
    assert f"{folder}/waters.py" in table.file
    assert not any(PLACE in file for file in table.file)
    mine = {name for name, layer in zip(table.name, table.layer, strict=True) if layer == "mine"}
    assert {"nearest_reading", "main", "fit_station"} <= mine


def test_its_program_runs_there(opened):
    done = subprocess.run([sys.executable, "tidebook.py", "readings.csv", "table.txt"], cwd=opened.parent, capture_output=True, text=True)
    assert done.returncode == 0 and done.stdout


def test_opened_again_it_is_left_as_it_is(opened):
    with Study.open(opened) as study:
        study.keep_reading("mine", "inside fit_station")
    before = opened.read_bytes()
    assert open_shipped(opened.parent) == opened
    assert opened.read_bytes() == before


def test_a_folder_that_cannot_be_written_is_said_and_nothing_is_left_half_done(tmp_path, monkeypatch):
    (tmp_path / "harbour").write_text("")
    with pytest.raises(EnvironmentProblem, match="could not be made in"):
        open_shipped(tmp_path / "harbour")
    monkeypatch.setattr(shipped.shutil, "copy", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(EnvironmentProblem, match="No space left"):
        open_shipped(tmp_path / "other")
    assert not list((tmp_path / "other").glob("*.ricerca")) and not list((tmp_path / "other").glob(".*"))
