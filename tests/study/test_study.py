"""The study file: round trips, transactions, damage."""

from __future__ import annotations

import sqlite3
import sys
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ricerca.engine.profile import build_profile
from ricerca.loading import load
from ricerca.model.completeness import Gap
from ricerca.model.errors import EnvironmentProblem, FileDamagedError, InputError, NewerFormatError, RicercaError
from ricerca.model.rounds import PLAIN, RECORDED, Run, Subject
from ricerca.study.columns import pack, unpack
from ricerca.study.schema import FORMAT
from ricerca.study.store import Study

sys.path.insert(0, str(Path(__file__).parents[1]))
from engine.trees import runs, tables_of

SUBJECT = Subject("script", ("a b.py", "ü", '"q"'), "/tmp", "/usr/bin/python3", (("K", "V=1"),), ("/tmp",), ("f*",))


def run(kind: str = RECORDED, wall_ns: int = 5) -> Run:
    return Run(0, kind, 2**62, wall_ns, 3, -9, "killed by SIGKILL", (Gap("killed", 0, "SIGKILL"),))


@pytest.fixture
def filled(tmp_path: Path) -> Path:
    path = tmp_path / "s.ricerca"
    with Study.open(path, create=True) as study:
        one = study.add_round(SUBJECT, note="why")
        study.add_run(one.id, run(PLAIN, 2**40))
        study.add_run(one.id, run(), tables_of([-1, 0, 1], [0, 1, 2]), {"/p/m.py": b"x = 1\n" * 50})
        study.add_round(SUBJECT, "second")
    return path


def test_what_was_stored_comes_back(filled):
    with Study.open(filled) as study:
        first, second = study.rounds()
        assert (first.number, first.name, first.note, first.subject) == (1, "baseline", "why", SUBJECT)
        assert (second.number, second.name, second.runs) == (2, "second", ())
        assert first.runs[0].wall_ns == 2**40
        assert first.runs[1].ended == "killed by SIGKILL"
        assert len(study.subjects()) == 1
        hashes = study.sources(first.runs[1].id)
        assert study.source_text(hashes["/p/m.py"]) == "x = 1\n" * 50
    with Study.open(filled) as study:
        assert load(study).profile.total_calls == 2


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(tables=runs())
def test_tables_survive_the_round_trip(tables, tmp_path):
    path = tmp_path / "round.ricerca"
    path.unlink(missing_ok=True)
    with Study.open(path, create=True) as study:
        run_id = study.add_run(study.add_round(SUBJECT).id, run(), tables)
        back = study.tables(run_id)
    for name in ("parent", "function", "calls", "self_ns", "line", "function_line"):
        assert np.array_equal(getattr(back, name), getattr(tables, name))
    assert back.function_name == tables.function_name
    assert back.facts == tables.facts
    assert build_profile(back).total_ns == build_profile(tables).total_ns


@given(st.lists(st.integers(-(2**63), 2**63 - 1)))
def test_columns_keep_extreme_values(values):
    array = np.asarray(values, np.int64)
    assert unpack(*pack(array)).tolist() == values


def test_columns_that_lie_are_refused():
    dtype, count, data = pack(np.arange(100))
    for wrong in (
        (dtype, count + 1, data),
        (dtype, count - 1, data),
        ("<f8", count, data),
        (dtype, count, data[:-9]),
        (dtype, -1, data),
    ):
        with pytest.raises(FileDamagedError):
            unpack(*wrong)


def test_a_failed_transaction_leaves_nothing(filled):
    with Study.open(filled) as study:
        with pytest.raises(ZeroDivisionError), study.transaction():
            study.add_round(SUBJECT, "never")
            with study.transaction():
                study.describe_round(1, name="never")
            raise ZeroDivisionError
        assert [one.name for one in study.rounds()] == ["baseline", "second"]


def test_a_newer_version_is_refused_and_not_touched(filled):
    with sqlite3.connect(filled) as connection:
        connection.execute(f"PRAGMA user_version = {FORMAT + 1}")
    connection.close()
    before = filled.read_bytes()
    with pytest.raises(NewerFormatError, match="newer Ricerca"):
        Study.open(filled)
    assert filled.read_bytes() == before


def test_other_files_are_refused(tmp_path):
    (tmp_path / "text.ricerca").write_text("not a study at all, but long enough to be looked at" * 40)
    with pytest.raises(FileDamagedError, match="damaged or not a Ricerca study"):
        Study.open(tmp_path / "text.ricerca")
    sqlite3.connect(tmp_path / "other.ricerca").execute("CREATE TABLE t (x)").connection.close()
    with pytest.raises(FileDamagedError, match="not a Ricerca study"):
        Study.open(tmp_path / "other.ricerca")
    with pytest.raises(InputError, match="There is no study"):
        Study.open(tmp_path / "none.ricerca")
    with pytest.raises(InputError, match="is a folder"):
        Study.open(tmp_path)
    with pytest.raises(InputError, match="There is no folder"):
        Study.open(tmp_path / "no" / "x.ricerca", create=True)


def test_a_missing_round_names_those_there_are(filled):
    with Study.open(filled) as study, pytest.raises(InputError, match="these: 1, 2"):
        study.round(7)


def read_all(path: Path) -> None:
    """Everything that opening a study in the window or on the command line reads."""
    with Study.open(path) as study:
        for one in study.rounds():
            if one.last_run(RECORDED):
                loaded = load(study, one.number)
                _ = loaded.figures, loaded.lines, loaded.edges


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_a_study_cut_off_anywhere_gives_an_error_or_reads(data, filled, tmp_path):
    whole = filled.read_bytes()
    cut = tmp_path / "cut.ricerca"
    cut.write_bytes(whole[: data.draw(st.integers(1, len(whole) - 1))])
    try:
        read_all(cut)
    except RicercaError as problem:
        assert str(problem)


@settings(max_examples=200, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_a_study_with_wrong_bytes_gives_an_error_or_reads(data, filled, tmp_path):
    raw = bytearray(filled.read_bytes())
    for _ in range(data.draw(st.integers(1, 8))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    wrong = tmp_path / "wrong.ricerca"
    wrong.write_bytes(raw)
    try:
        read_all(wrong)
    except RicercaError as problem:
        assert str(problem)


def test_a_format_below_zero_is_damage(filled):
    with closing(sqlite3.connect(filled)) as raw:
        raw.execute("PRAGMA user_version = -2147483647")
    before = filled.read_bytes()
    with pytest.raises(FileDamagedError, match="its format is -2147483647"):
        Study.open(filled)
    assert filled.read_bytes() == before


def test_a_locked_study_says_so(filled, monkeypatch):
    monkeypatch.setattr(sqlite3, "connect", lambda path, **options: _connect(path, **{**options, "timeout": 0.05}))
    other = _connect(filled, isolation_level=None)
    other.execute("BEGIN EXCLUSIVE")
    with pytest.raises(EnvironmentProblem, match="in use by another program"):
        read_all(filled)
    other.close()


_connect = sqlite3.connect
