"""One study file: opened, checked, read and written in transactions."""

from __future__ import annotations

import json
import os
import sqlite3
import time
import zlib
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, replace
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING

from ricerca.model.cases import WHOLE, Case, Part, size_from, size_number, sized
from ricerca.model.completeness import Gap
from ricerca.model.errors import FileDamagedError, InputError, NewerFormatError
from ricerca.model.rounds import LINE, RECORDED, Round, Run, Subject, with_exits_judged
from ricerca.study import about_runs
from ricerca.study.cases import case_values, cases_from
from ricerca.study.paths import damaged, kept_path, path_of, trouble
from ricerca.study.schema import APPLICATION_ID, FORMAT, free_name, migrate

if TYPE_CHECKING:  # recording a program must not wait for NumPy to load
    from ricerca.model.run_tables import RunTables


SOURCE_LEVEL = 1  # a person waits for it


class Study:
    """An open study. Use it as a context manager, from one thread only.

    ``part`` is the case, and the size of it, that its rounds are looked at for.
    """

    def __init__(self, path: Path, connection: sqlite3.Connection, part: Part = WHOLE) -> None:
        self.path = path
        self.part = part
        self._db = connection

    @classmethod
    def open(cls, path: str | os.PathLike[str], create: bool = False, part: Part = WHOLE) -> Study:
        """Open a study, or make a new one.

        Raises
        ------
        InputError
            It is not there and create is False.
        FileDamagedError
            It is not a study, or damaged.
        NewerFormatError
            A later version wrote it.
        EnvironmentProblem
            The folder cannot be written to.
        """
        place = Path(path).expanduser().absolute()
        fresh = not place.exists()
        if fresh and not create:
            raise InputError(f"There is no study {place}.", "Make one with: ricerca record --study FILE SCRIPT")
        if place.is_dir():
            raise InputError(f"{place} is a folder, not a study.")
        if fresh and not place.parent.is_dir():
            raise InputError(f"There is no folder {place.parent} to put the study in.")
        try:
            connection = sqlite3.connect(place, isolation_level=None, timeout=5)
            connection.execute("PRAGMA foreign_keys = ON")
            connection.execute("PRAGMA trusted_schema = OFF")
            cls._check(place, connection, fresh or place.stat().st_size == 0)
        except sqlite3.OperationalError as problem:
            raise trouble(place, problem) from None
        except sqlite3.DatabaseError as problem:
            raise damaged(place, problem) from None
        return cls(place, connection, part)

    def of(self, part: Part) -> Study:
        """The same open study, looked at for another part of its rounds."""
        return Study(self.path, self._db, part)

    @staticmethod
    def _check(place: Path, connection: sqlite3.Connection, fresh: bool) -> None:
        version = int(connection.execute("PRAGMA user_version").fetchone()[0])
        application = int(connection.execute("PRAGMA application_id").fetchone()[0])
        if not fresh and application != APPLICATION_ID:
            connection.close()
            raise FileDamagedError(f"{place.name} is not a Ricerca study.")
        if version < 0:
            connection.close()
            raise damaged(place, f"its format is {version}")
        if version > FORMAT:
            connection.close()
            raise NewerFormatError(f"{place.name} was written by a newer Ricerca.", "Update Ricerca to open it.")
        migrate(connection, version)

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    def __enter__(self) -> Study:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing; nests through savepoints."""
        outermost = not self._db.in_transaction
        self._run("BEGIN IMMEDIATE" if outermost else "SAVEPOINT nested")
        try:
            yield
        except BaseException:
            if self._db.in_transaction:
                for statement in ("ROLLBACK",) if outermost else ("ROLLBACK TO nested", "RELEASE nested"):
                    self._db.execute(statement)
            raise
        self._run("COMMIT" if outermost else "RELEASE nested")

    def _run(self, statement: str, values: tuple[object, ...] | dict[str, object] = ()) -> sqlite3.Cursor:
        try:
            return self._db.execute(statement, values)
        except sqlite3.OperationalError as problem:
            raise trouble(self.path, problem) from None
        except sqlite3.DatabaseError as problem:
            raise damaged(self.path, problem) from None

    def execute_many(self, statement: str, rows: Iterable[tuple[object, ...]]) -> None:
        """Run a statement for each row."""
        try:
            self._db.executemany(statement, rows)
        except sqlite3.OperationalError as problem:
            raise trouble(self.path, problem) from None
        except sqlite3.DatabaseError as problem:
            raise damaged(self.path, problem) from None

    def query(self, statement: str, values: tuple[object, ...] = ()) -> list[tuple]:
        """All rows of a question to the file."""
        try:
            return self._db.execute(statement, values).fetchall()
        except sqlite3.OperationalError as problem:
            raise trouble(self.path, problem) from None
        except (sqlite3.DatabaseError, UnicodeDecodeError, OverflowError) as problem:
            raise damaged(self.path, problem) from None

    # ---- subjects and rounds

    def add_subject(self, subject: Subject) -> Subject:
        """Store a subject, or find the equal one that is there already."""
        for known in self.subjects():
            if known == subject:
                return known
        with self.transaction():
            cursor = self._run(
                "INSERT INTO subjects (kind, program, cwd, python, env, roots, lines, inside, answer, input)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    subject.kind,
                    json.dumps(subject.program),
                    kept_path(subject.cwd),
                    kept_path(subject.python),
                    json.dumps(subject.env),
                    json.dumps(subject.roots),
                    json.dumps(subject.lines),
                    json.dumps(subject.inside),
                    json.dumps(subject.answer),
                    kept_path(subject.input),
                ),
            )
        return replace(subject, id=int(cursor.lastrowid or 0))

    def subjects(self) -> tuple[Subject, ...]:
        """All subjects, in the order they were first recorded."""
        rows = self.query("SELECT id, kind, program, cwd, python, env, roots, lines, inside, answer, input FROM subjects ORDER BY id")
        try:
            return tuple(
                Subject(
                    kind=str(kind),
                    program=tuple(str(part) for part in json.loads(program)),
                    cwd=path_of(cwd),
                    python=path_of(python),
                    env=tuple((str(name), str(value)) for name, value in json.loads(env)),
                    roots=tuple(str(root) for root in json.loads(roots)),
                    lines=tuple(str(pattern) for pattern in json.loads(lines)),
                    inside=tuple(str(name) for name in json.loads(inside)),
                    answer=tuple(str(file) for file in json.loads(answer)),
                    input=path_of(input_),
                    id=int(number),
                )
                for number, kind, program, cwd, python, env, roots, lines, inside, answer, input_ in rows
            )
        except (TypeError, ValueError) as problem:
            raise damaged(self.path, problem) from None

    # ---- cases

    def cases(self) -> tuple[Case, ...]:
        """The cases that a new round measures, in the order they were made."""
        return tuple(case for case, dropped in self._cases() if not dropped)

    def _cases(self) -> list[tuple[Case, bool]]:
        subjects = {subject.id: subject for subject in self.subjects()}
        rows = self.query("SELECT id, name, subject_id, runs_per_day, sizes, prepare, dropped FROM cases ORDER BY id")
        try:
            return cases_from(rows, subjects)
        except (KeyError, TypeError, ValueError) as problem:
            raise damaged(self.path, problem) from None

    def case(self, name: str) -> Case:
        """The case of this name, also one that was dropped but measured before.

        Raises
        ------
        InputError
            There is no such case.
        """
        known = self._cases()
        for case, _dropped in known:
            if case.name == name:
                return case
        names = ", ".join(case.name for case, _ in known) or "none"
        raise InputError(f"{self.path.name} has no case {name!r}.", f"It has these: {names}. See: ricerca cases {self.path.name}")

    def keep_case(self, case: Case) -> Case:
        """Add a case, or give the one of this name new values."""
        with self.transaction():
            subject = self.add_subject(case.subject)
            self._run(
                "INSERT INTO cases (name, subject_id, runs_per_day, sizes, prepare) VALUES (?, ?, ?, ?, ?) ON CONFLICT (name) DO UPDATE"
                " SET subject_id = excluded.subject_id, runs_per_day = excluded.runs_per_day, sizes = excluded.sizes,"
                " prepare = excluded.prepare, dropped = 0",
                case_values(case, subject.id),
            )
        return self.case(case.name)

    def drop_case(self, name: str) -> None:
        """Measure a case no more; the rounds that have measured it keep what they have."""
        case = self.case(name)
        with self.transaction():
            measured = self.query("SELECT 1 FROM round_cases WHERE case_id = ? LIMIT 1", (case.id,))
            self._run("UPDATE cases SET dropped = 1 WHERE id = ?" if measured else "DELETE FROM cases WHERE id = ?", (case.id,))

    def case_for(self, subject: Subject) -> Case:
        """The case of what is run: one with this very subject, else one of the same work, else a new one named after the program."""
        known = [case for case, _ in self._cases()]
        for alike in (lambda case: not case.subject.not_alike(subject), lambda case: not case.subject.other_work(subject)):
            for case in filter(alike, known):
                return self.keep_case(replace(case, subject=subject))
        return self.keep_case(Case(free_name(subject.title, {case.name for case in known}), subject))

    # ---- rounds

    def add_round(self, subject: Subject, name: str = "", note: str = "", revision: str = "", case: str = "",
                  made_from: int | None = None) -> Round:  # fmt: skip
        """Begin a round; the first is called baseline where no name is given."""
        with self.transaction():
            kept = self.add_subject(subject)
            number = int(self.query("SELECT coalesce(max(number), 0) + 1 FROM rounds")[0][0])
            title = name or ("baseline" if number == 1 else f"round {number}")
            self._run(
                "INSERT INTO rounds (number, name, note, subject_id, created_unix_ns, revision, made_from) VALUES (?, ?, ?, ?, ?, ?, ?)",
                (number, title, note, kept.id, time.time_ns(), revision, made_from),
            )
            return self.measure_case(number, case or self.case_for(subject).name, subject)

    def measure_case(self, number: int, case: str, subject: Subject) -> Round:
        """Have a round measure a case, too; returns the round as measured for it."""
        with self.transaction():
            kept = self.add_subject(subject)
            self._run(
                "INSERT OR IGNORE INTO round_cases SELECT id, ?, ? FROM rounds WHERE number = ?", (self.case(case).id, kept.id, number)
            )
        return self.of(Part(case, self.part.size)).round(number)

    def template(self, number: int) -> Subject:
        """What a round measured of the case that is looked at, its placeholders as they stand."""
        subjects = {subject.id: subject for subject in self.subjects()}
        return subjects[self.round(number).subject.id]

    def rounds(self) -> tuple[Round, ...]:
        """The rounds that measured the part that is looked at, in the order of their numbers."""
        subjects = {subject.id: subject for subject in self.subjects()}
        names = {case.id: case.name for case, _ in self._cases()}
        runs: dict[tuple[int, int], list[Run]] = {}
        measured: dict[int, list[tuple[int, int]]] = {}
        try:
            for round_id, case_id, subject_id in self.query("SELECT round_id, case_id, subject_id FROM round_cases ORDER BY case_id"):
                measured.setdefault(int(round_id), []).append((int(case_id), int(subject_id)))
            for row in self.query(
                "SELECT round_id, id, kind, started_unix_ns, wall_ns, cpu_ns, exit_status, ended, gaps, answer, machine, pair, again,"
                " case_id, size FROM runs ORDER BY id"
            ):
                case_id = int(row[13]) if row[13] is not None else measured[int(row[0])][0][0]
                run = Run(
                    int(row[1]), str(row[2]), int(row[3]), int(row[4]), int(row[5]), None if row[6] is None else int(row[6]), str(row[7]),
                    _gaps(str(row[8])), about_runs.answer_from(str(row[9])), about_runs.machine_from(str(row[10])),
                    None if row[11] is None else int(row[11]), bool(row[12]), names[case_id], str(row[14]),
                )  # fmt: skip
                runs.setdefault((int(row[0]), case_id), []).append(run)
            found = []
            for row in self.query(
                "SELECT id, number, name, note, subject_id, created_unix_ns, revision, made_from, fate FROM rounds ORDER BY number"
            ):
                cases = measured.get(int(row[0]), [])
                chosen = next((both for both in cases if names[both[0]] == self.part.case), None) if self.part.case else cases[0]
                if chosen is None:
                    continue
                own, sizes, size = self._of_size(runs.get((int(row[0]), chosen[0]), []))
                found.append(
                    Round(
                        id=int(row[0]),
                        number=int(row[1]),
                        name=str(row[2]),
                        note=str(row[3]),
                        subject=replace(sized(subjects[chosen[1]], size_from(size)), id=chosen[1]),
                        created_unix_ns=int(row[5]),
                        revision=str(row[6]),
                        runs=own,
                        case=names[chosen[0]],
                        cases=tuple(names[case_id] for case_id, _ in cases),
                        size=size,
                        sizes=sizes,
                        made_from=None if row[7] is None else int(row[7]),
                        fate=str(row[8]),
                    )
                )
            return with_exits_judged(tuple(found))
        except (KeyError, TypeError, ValueError, IndexError) as problem:
            raise damaged(self.path, problem) from None

    def _of_size(self, runs: list[Run]) -> tuple[tuple[Run, ...], tuple[str, ...], str]:
        """The runs of the size that is looked at, all sizes from the smallest on, and that size: the largest where none is named."""
        sizes = sorted({run.size for run in runs}, key=lambda size: (size_number(size) or 0, size))
        size = self.part.size or (sizes[-1] if sizes else "")
        return tuple(run for run in runs if run.size == size), tuple(sizes), size

    def round(self, number: int | None = None) -> Round:
        """The round with this number; the latest with a call recording when None.

        Raises
        ------
        InputError
            There is no such round.
        """
        found = self.rounds()
        if not found and self.part.case:
            raise InputError(f"No round of {self.path.name} has measured the case {self.case(self.part.case).name!r}.",
                             f"Measure it with: ricerca again {self.path.name}")  # fmt: skip
        if not found:
            raise InputError(f"{self.path.name} has no rounds yet.", "Record one with: ricerca record --study FILE SCRIPT")
        if number is None:
            measured = [round_ for round_ in found if round_.last_run(RECORDED, LINE)]
            return (measured or found)[-1]
        for round_ in found:
            if round_.number == number:
                return round_
        numbers = ", ".join(str(round_.number) for round_ in found)
        of_case = f" of the case {self.part.case!r}" if self.part.case else ""
        raise InputError(f"{self.path.name} has no round {number}{of_case}.", f"It has these: {numbers}.")

    def describe_round(self, number: int, name: str | None = None, note: str | None = None, fate: str | None = None) -> None:
        """Change a round's name or note, or say what became of its change."""
        with self.transaction():
            if name is not None:
                self._run("UPDATE rounds SET name = ? WHERE number = ?", (name, number))
            if note is not None:
                self._run("UPDATE rounds SET note = ? WHERE number = ?", (note, number))
            if fate is not None:
                self._run("UPDATE rounds SET fate = ? WHERE number = ?", (fate, number))

    def drop_round_if_empty(self, round_id: int) -> None:
        """Remove a round for which no run was kept."""
        with self.transaction():
            self._run("DELETE FROM rounds WHERE id = ? AND id NOT IN (SELECT round_id FROM runs)", (round_id,))

    # ---- readings

    def readings(self) -> dict[str, str]:
        """Readings kept under a name: their sentences."""
        rows = self.query("SELECT name, value FROM facts WHERE name LIKE 'reading:%' ORDER BY name")
        return {str(name).removeprefix("reading:"): str(value) for name, value in rows}

    def keep_reading(self, name: str, text: str) -> None:
        """Keep a reading's sentence under a name, in place of one of the same name."""
        with self.transaction():
            self._run("INSERT OR REPLACE INTO facts VALUES (?, ?)", (f"reading:{name}", text))

    # ---- snippets

    def add_snippets(self, facts: str) -> int:
        """Keep what came of snippets, as JSON. Returns their number."""
        with self.transaction():
            cursor = self._run("INSERT INTO snippets (created_unix_ns, facts) VALUES (?, ?)", (time.time_ns(), facts))
        return int(cursor.lastrowid or 0)

    def snippets(self) -> list[str]:
        """All that came of snippets, as JSON, the oldest first."""
        return [str(row[0]) for row in self.query("SELECT facts FROM snippets ORDER BY id")]

    # ---- layers

    def layers_toml(self) -> str:
        """The person's own layers, as TOML; empty without any."""
        rows = self.query("SELECT value FROM facts WHERE name = 'layers'")
        return str(rows[0][0]) if rows else ""

    def relocate(self, before: str, after: str) -> None:
        """Say that all that lay in a folder (or was this file) lies elsewhere now."""
        moved = {"subjects": ("program", "cwd", "python", "env", "roots", "input"), "functions": ("file",), "run_sources": ("file",)}
        with self.transaction():
            for table, columns in moved.items():
                for column in columns:
                    self._run(f"UPDATE {table} SET {column} = replace({column}, ?, ?)", (before, after))

    def keep_layers(self, text: str) -> None:
        """Keep the person's own layers."""
        with self.transaction():
            self._run("INSERT OR REPLACE INTO facts VALUES ('layers', ?)", (text,))

    # ---- runs

    def add_run(self, round_id: int, run: Run, tables: RunTables | None = None, sources: Mapping[str, bytes] | None = None) -> int:
        """Store a run, with its tables and the sources as they were. Returns its id."""
        from ricerca.study import run_tables

        with self.transaction():
            facts = json.dumps(asdict(tables.facts)) if tables else "{}"
            cursor = self._run(
                "INSERT INTO runs (round_id, kind, started_unix_ns, wall_ns, cpu_ns, exit_status, ended, complete, gaps, facts,"
                " answer, machine, pair, again, case_id, size)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT id FROM cases WHERE name = ?), ?)",
                (round_id, run.kind, run.started_unix_ns, run.wall_ns, run.cpu_ns, run.exit_status, run.ended,
                 int(run.complete), json.dumps([[gap.kind, gap.count, gap.what] for gap in run.gaps]), facts,
                 about_runs.answer_text(run.answer), about_runs.machine_text(run.machine), run.pair, int(run.again), run.case, run.size),
            )  # fmt: skip
            run_id = int(cursor.lastrowid or 0)
            if tables is not None:
                run_tables.write(self.execute_many, run_id, tables)
            self._add_sources(run_id, sources or {})
        return run_id

    def _add_sources(self, run_id: int, sources: Mapping[str, bytes]) -> None:
        digests = {file: blake2b(text, digest_size=20).hexdigest() for file, text in sources.items()}
        known = {str(row[0]) for row in self.query("SELECT hash FROM sources")}
        fresh = {digest: sources[file] for file, digest in digests.items() if digest not in known}
        with ThreadPoolExecutor(2) as pool:  # compressing leaves the interpreter to others
            packed = pool.map(lambda text: zlib.compress(text, SOURCE_LEVEL), fresh.values())
            rows = [(digest, len(text), data) for (digest, text), data in zip(fresh.items(), packed, strict=True)]
        self.execute_many("INSERT OR IGNORE INTO sources VALUES (?, ?, ?)", rows)
        self.execute_many(
            "INSERT OR IGNORE INTO run_sources VALUES (?, ?, ?)", [(run_id, kept_path(file), digest) for file, digest in digests.items()]
        )

    def new_pair(self) -> int:
        """A number for the next pair of plain runs."""
        return int(self.query("SELECT coalesce(max(pair), 0) + 1 FROM runs")[0][0])

    def tables(self, run_id: int) -> RunTables:
        """The tables of a recorded run.

        Raises
        ------
        FileDamagedError
            They contradict each other.
        """
        from ricerca.study import run_tables

        try:
            return run_tables.read(self.query, run_id)
        except (KeyError, TypeError, ValueError, IndexError, OverflowError) as problem:
            if isinstance(problem, FileDamagedError):
                raise
            raise damaged(self.path, problem) from None

    def sources(self, run_id: int) -> dict[str, str]:
        """File name to content hash of all sources kept for a run."""
        rows = self.query("SELECT file, hash FROM run_sources WHERE run_id = ?", (run_id,))
        return {path_of(file): str(digest) for file, digest in rows}

    def source_text(self, digest: str) -> str:
        """A source as it was recorded."""
        return self.source_bytes(digest).decode("utf-8", "replace")

    def source_bytes(self, digest: str) -> bytes:
        """The same, byte by byte."""
        rows = self.query("SELECT bytes, data FROM sources WHERE hash = ?", (digest,))
        if not rows:
            raise FileDamagedError(f"{self.path.name} lacks a source it refers to.")
        try:
            return zlib.decompressobj().decompress(rows[0][1], max(int(rows[0][0]), 1))
        except (zlib.error, TypeError, ValueError) as problem:
            raise damaged(self.path, problem) from None


def _gaps(text: str) -> tuple[Gap, ...]:
    return tuple(Gap(str(kind), int(count), str(what)) for kind, count, what in json.loads(text))
