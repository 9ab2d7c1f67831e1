"""Tables of the study file and the steps that bring older files up to date (see docs/formats.md)."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable

from ricerca.model.rounds import Subject

APPLICATION_ID = 0x52696365  # "Rice"

MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE subjects (
        id INTEGER PRIMARY KEY, kind TEXT NOT NULL, program TEXT NOT NULL, cwd TEXT NOT NULL,
        python TEXT NOT NULL, env TEXT NOT NULL, roots TEXT NOT NULL, lines TEXT NOT NULL,
        inside TEXT NOT NULL);
    CREATE TABLE rounds (
        id INTEGER PRIMARY KEY, number INTEGER NOT NULL UNIQUE, name TEXT NOT NULL, note TEXT NOT NULL DEFAULT '',
        subject_id INTEGER NOT NULL REFERENCES subjects(id), created_unix_ns INTEGER NOT NULL,
        revision TEXT NOT NULL DEFAULT '');
    CREATE TABLE runs (
        id INTEGER PRIMARY KEY, round_id INTEGER NOT NULL REFERENCES rounds(id) ON DELETE CASCADE,
        kind TEXT NOT NULL CHECK (kind IN ('plain', 'recorded', 'line')), started_unix_ns INTEGER NOT NULL,
        wall_ns INTEGER NOT NULL, cpu_ns INTEGER NOT NULL, exit_status INTEGER, ended TEXT NOT NULL,
        complete INTEGER NOT NULL, facts TEXT NOT NULL);
    CREATE TABLE functions (
        run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE, number INTEGER NOT NULL,
        kind INTEGER NOT NULL, name TEXT NOT NULL, module TEXT NOT NULL, file TEXT NOT NULL,
        line INTEGER NOT NULL, overflow_calls INTEGER NOT NULL, overflow_resumes INTEGER NOT NULL,
        lookups INTEGER NOT NULL, light INTEGER NOT NULL,
        PRIMARY KEY (run_id, number)) WITHOUT ROWID;
    CREATE TABLE threads (
        run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE, number INTEGER NOT NULL, name TEXT NOT NULL,
        process INTEGER NOT NULL, PRIMARY KEY (run_id, number)) WITHOUT ROWID;
    CREATE TABLE lines (
        run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE, function INTEGER NOT NULL,
        line INTEGER NOT NULL, hits INTEGER NOT NULL, self_ns INTEGER NOT NULL,
        PRIMARY KEY (run_id, function, line)) WITHOUT ROWID;
    CREATE TABLE columns (
        run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE, name TEXT NOT NULL, dtype TEXT NOT NULL,
        count INTEGER NOT NULL, data BLOB NOT NULL, PRIMARY KEY (run_id, name));
    CREATE TABLE sources (hash TEXT PRIMARY KEY, bytes INTEGER NOT NULL, data BLOB NOT NULL);
    CREATE TABLE run_sources (
        run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE, file TEXT NOT NULL,
        hash TEXT NOT NULL REFERENCES sources(hash), PRIMARY KEY (run_id, file)) WITHOUT ROWID;
    CREATE INDEX runs_of_round ON runs(round_id);
    """,
    # why a run is not whole, as a list of kind, count, what
    """
    ALTER TABLE runs ADD COLUMN gaps TEXT NOT NULL DEFAULT '[]';
    UPDATE runs SET gaps = '[["unknown", 0, ""]]' WHERE NOT complete;
    """,
    # sparse runs; what a run answered, on what machine it ran, and which two plain runs were made as a pair
    """
    CREATE TABLE runs_3 (
        id INTEGER PRIMARY KEY, round_id INTEGER NOT NULL REFERENCES rounds(id) ON DELETE CASCADE,
        kind TEXT NOT NULL CHECK (kind IN ('plain', 'recorded', 'line', 'sparse')), started_unix_ns INTEGER NOT NULL,
        wall_ns INTEGER NOT NULL, cpu_ns INTEGER NOT NULL, exit_status INTEGER, ended TEXT NOT NULL,
        complete INTEGER NOT NULL, facts TEXT NOT NULL, gaps TEXT NOT NULL DEFAULT '[]',
        answer TEXT NOT NULL DEFAULT '{}', machine TEXT NOT NULL DEFAULT '{}', pair INTEGER,
        again INTEGER NOT NULL DEFAULT 0);
    INSERT INTO runs_3 (id, round_id, kind, started_unix_ns, wall_ns, cpu_ns, exit_status, ended, complete, facts, gaps)
        SELECT id, round_id, kind, started_unix_ns, wall_ns, cpu_ns, exit_status, ended, complete, facts, gaps FROM runs;
    DROP TABLE runs;
    ALTER TABLE runs_3 RENAME TO runs;
    CREATE INDEX runs_of_round ON runs(round_id);
    ALTER TABLE subjects ADD COLUMN answer TEXT NOT NULL DEFAULT '[]';
    CREATE INDEX runs_of_pair ON runs(pair) WHERE pair IS NOT NULL;
    """,
    # cases and their sizes; which round a round was made from, and what became of its change; snippets
    """
    CREATE TABLE cases (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, subject_id INTEGER NOT NULL REFERENCES subjects(id),
        runs_per_day REAL, sizes TEXT NOT NULL DEFAULT '[]', prepare TEXT NOT NULL DEFAULT '',
        dropped INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE round_cases (
        round_id INTEGER NOT NULL REFERENCES rounds(id) ON DELETE CASCADE, case_id INTEGER NOT NULL REFERENCES cases(id),
        subject_id INTEGER NOT NULL REFERENCES subjects(id), PRIMARY KEY (round_id, case_id)) WITHOUT ROWID;
    ALTER TABLE subjects ADD COLUMN input TEXT NOT NULL DEFAULT '';
    ALTER TABLE rounds ADD COLUMN made_from INTEGER;
    ALTER TABLE rounds ADD COLUMN fate TEXT NOT NULL DEFAULT '';
    ALTER TABLE runs ADD COLUMN case_id INTEGER REFERENCES cases(id);
    ALTER TABLE runs ADD COLUMN size TEXT NOT NULL DEFAULT '';
    CREATE INDEX runs_of_case ON runs(case_id);
    CREATE TABLE snippets (
        id INTEGER PRIMARY KEY, created_unix_ns INTEGER NOT NULL, facts TEXT NOT NULL);
    """,
    # the language of each function
    """
    ALTER TABLE functions ADD COLUMN language TEXT NOT NULL DEFAULT 'Python';
    """,
)


def free_name(name: str, taken: set[str]) -> str:
    """A name that is not taken yet.

    >>> free_name("year", {"year", "year 2"})
    'year 3'
    """
    number, found = 1, name
    while found in taken:
        number += 1
        found = f"{name} {number}"
    return found


def _make_cases(connection: sqlite3.Connection) -> None:
    """A case for each kind of work that an older study's rounds measured."""
    names: dict[tuple[str, ...], tuple[int, str]] = {}
    rows = connection.execute(
        "SELECT r.id, s.id, s.kind, s.program FROM rounds r JOIN subjects s ON s.id = r.subject_id ORDER BY r.number"
    ).fetchall()
    for round_id, subject_id, kind, program in rows:
        subject = Subject(str(kind), tuple(str(word) for word in json.loads(program)), "", "")
        if subject.work not in names:
            title = free_name(subject.title, {name for _, name in names.values()})
            cursor = connection.execute("INSERT INTO cases (name, subject_id) VALUES (?, ?)", (title, subject_id))
            names[subject.work] = int(cursor.lastrowid or 0), title
        case_id = names[subject.work][0]
        connection.execute("UPDATE cases SET subject_id = ? WHERE id = ?", (subject_id, case_id))
        connection.execute("INSERT INTO round_cases VALUES (?, ?, ?)", (round_id, case_id, subject_id))
        connection.execute("UPDATE runs SET case_id = ? WHERE round_id = ?", (case_id, round_id))


AFTERWARDS: dict[int, Callable[[sqlite3.Connection], None]] = {3: _make_cases}
"""What a step, by its place, does once its statements are through."""

FORMAT = len(MIGRATIONS)


def migrate(connection: sqlite3.Connection, version: int) -> None:
    """Apply the steps from version on; each commits together with its own record."""
    if version == FORMAT:
        return
    connection.execute("PRAGMA foreign_keys = OFF")  # a table that is made anew must not take along what refers to it
    for number in range(version, FORMAT):
        statements = [part for part in MIGRATIONS[number].split(";") if part.strip()]
        connection.execute("BEGIN IMMEDIATE")
        try:
            for statement in statements:
                connection.execute(statement)
            if number in AFTERWARDS:
                AFTERWARDS[number](connection)
            connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            connection.execute(f"PRAGMA user_version = {number + 1}")
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")
    connection.execute("PRAGMA foreign_keys = ON")
