"""What SQLite says of a study file is worded with what to do; paths of any bytes come back as they were."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ricerca.model.errors import EnvironmentProblem, FileDamagedError
from ricerca.study.paths import damaged, kept_path, path_of, trouble

STUDY = Path("/w/s.ricerca")


@given(st.binary(min_size=1, max_size=20).filter(lambda name: b"\0" not in name))
def test_any_path_comes_back_as_it_was(name):
    path = os.fsdecode(name)
    assert path_of(kept_path(path)) == path


@pytest.mark.parametrize(
    ("said", "kind", "words", "advice"),
    [
        ("database or disk is full", EnvironmentProblem, "no room on the disk", "Free some space"),
        ("disk I/O error", EnvironmentProblem, "no room on the disk", "nothing already stored is lost"),
        ("database is locked", EnvironmentProblem, "in use by another program", "Try again"),
        ("attempt to write a readonly database", EnvironmentProblem, "cannot be opened for writing", "permissions"),
        ("unable to open database file", EnvironmentProblem, "cannot be opened for writing", "permissions"),
        ("no such table: runs", FileDamagedError, "is damaged", "backup"),
    ],
)
def test_each_trouble_is_told_from_the_others(said, kind, words, advice):
    found = trouble(STUDY, sqlite3.OperationalError(said))
    assert type(found) is kind
    assert words in str(found)
    assert advice in str(found)


def test_a_damaged_file_names_itself_and_the_reason():
    assert "s.ricerca is damaged or not a Ricerca study (its format is -1)" in str(damaged(STUDY, "its format is -1"))
