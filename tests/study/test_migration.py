"""Studies of earlier formats open with all they hold."""

from __future__ import annotations

import sqlite3

import pytest

from ricerca.model.rounds import PLAIN, RECORDED, SPARSE, Run
from ricerca.study.schema import APPLICATION_ID, FORMAT, MIGRATIONS
from ricerca.study.store import Study


def of_format(path, version):
    """A study as that version of Ricerca left it: one round, a recorded run with a function, a plain run, a source."""
    db = sqlite3.connect(path, isolation_level=None)
    db.execute("PRAGMA foreign_keys = ON")
    for step in MIGRATIONS[:version]:
        for statement in filter(str.strip, step.split(";")):
            db.execute(statement)
    db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    db.execute(f"PRAGMA user_version = {version}")
    db.execute(
        "INSERT INTO subjects (id, kind, program, cwd, python, env, roots, lines, inside)"
        " VALUES (1, 'script', '[\"p.py\"]', '/w', 'python3', '[]', '[\"/w\"]', '[]', '[]')"
    )
    db.execute(
        "INSERT INTO rounds (id, number, name, note, subject_id, created_unix_ns, revision) VALUES (1, 1, 'baseline', 'a note', 1, 5, 'abc')"
    )
    for number, kind, wall in ((1, "recorded", 900), (2, "plain", 100)):
        db.execute(
            "INSERT INTO runs (id, round_id, kind, started_unix_ns, wall_ns, cpu_ns, exit_status, ended, complete, facts)"
            " VALUES (?, 1, ?, 7, ?, 8, 0, 'exit status 0', 1, '{}')",
            (number, kind, wall),
        )
    columns = "run_id, number, kind, name, module, file, line, overflow_calls, overflow_resumes, lookups, light"
    db.execute(f"INSERT INTO functions ({columns}) VALUES (1, 0, 1, 'f', 'm', '/w/p.py', 3, 0, 0, -1, -1)")
    db.execute("INSERT INTO threads VALUES (1, 0, 'MainThread', 9)")
    db.execute("INSERT INTO sources VALUES ('h', 1, x'789c4b04000062006200')")
    db.execute("INSERT INTO run_sources VALUES (1, '/w/p.py', 'h')")
    if version >= 4:  # cases came with it
        db.execute("INSERT INTO cases (id, name, subject_id) VALUES (1, 'p', 1)")
        db.execute("INSERT INTO round_cases VALUES (1, 1, 1)")
        db.execute("UPDATE runs SET case_id = 1")
    db.close()


@pytest.mark.parametrize("version", range(1, FORMAT))
def test_nothing_is_lost_on_the_way_to_todays_format(tmp_path, version):
    path = tmp_path / "old.ricerca"
    of_format(path, version)
    with Study.open(path) as study:
        (one,) = study.rounds()
        assert (one.name, one.note, one.revision) == ("baseline", "a note", "abc")
        assert [(run.id, run.kind, run.wall_ns, run.complete) for run in one.runs] == [(1, RECORDED, 900, True), (2, PLAIN, 100, True)]
        assert one.subject.answer == ()
        assert (one.case, one.cases, one.size, [case.name for case in study.cases()]) == ("p", ("p",), "", ["p"])
        assert {run.case for run in one.runs} == {"p"}
        assert not one.runs[1].answer
        assert study.query("SELECT name, language FROM functions WHERE run_id = 1") == [("f", "Python")]
        assert study.sources(1) == {"/w/p.py": "h"}
        assert study.query("PRAGMA foreign_key_check") == []
        assert study.query("PRAGMA foreign_keys") == [(1,)]
        assert study.query("PRAGMA integrity_check") == [("ok",)]


def test_what_is_new_can_be_kept_in_an_older_study(tmp_path):
    path = tmp_path / "old.ricerca"
    of_format(path, 1)
    with Study.open(path) as study:
        study.add_run(1, Run(0, SPARSE, 1, 2, 3, 0, "exit status 0"))
        study.add_run(1, Run(0, PLAIN, 1, 2, 3, 0, "exit status 0", pair=study.new_pair(), again=True))
    with Study.open(path) as study:
        runs = study.round(1).runs
        assert [run.kind for run in runs] == [RECORDED, PLAIN, SPARSE, PLAIN]
        assert (runs[-1].pair, runs[-1].again) == (1, True)
        assert study.round(1).plain_ns == (100,)  # the run made again tells of another day
        assert study.new_pair() == 2


def test_a_round_that_goes_takes_its_runs_along_after_migration(tmp_path):
    path = tmp_path / "old.ricerca"
    of_format(path, 2)
    with Study.open(path) as study, study.transaction():
        study.execute_many("DELETE FROM rounds WHERE id = ?", [(1,)])
        assert study.query("SELECT count(*) FROM runs") == [(0,)]
        assert study.query("SELECT count(*) FROM functions") == [(0,)]
