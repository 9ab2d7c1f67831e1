"""The tables of a run in the study file, both ways."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import asdict

import numpy as np

from ricerca.model.errors import FileDamagedError
from ricerca.model.marks import MOST_SLICES
from ricerca.model.run_tables import RunFacts, RunTables
from ricerca.study.columns import pack, unpack

SLICES = ("slice_context", "slice_number", "slice_calls", "slice_self_ns", "slice_waiting_ns")
SPANS = ("span_context", "span_start_ns", "span_end_ns")
COST = "cost_ns"
"""A column that only runs of a source have that knows its cost event by event."""
COLUMNS = ("parent", "function", "line", "calls", "resumes", "self_ns", "brief_ns", "waiting_ns", "thread")

Write = Callable[[str, Iterable[tuple[object, ...]]], None]
Query = Callable[[str, tuple[object, ...]], list[tuple]]


def write(many: Write, run_id: int, tables: RunTables) -> None:
    """Store the tables of a run, inside the caller's transaction."""
    count = len(tables.function_name)
    traits = [part.tolist() if len(part) else [-1] * count for part in (tables.function_lookups, tables.function_light)]
    functions = zip(
        tables.function_kind.tolist(), tables.function_name, tables.function_module, tables.function_file,
        tables.function_line.tolist(), tables.overflow_calls.tolist(), tables.overflow_resumes.tolist(), *traits,
        tables.languages, strict=True,
    )  # fmt: skip
    many(
        "INSERT INTO functions VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        ((run_id, number, *row) for number, row in enumerate(functions)),
    )
    threads = zip(tables.thread_name, tables.thread_process.tolist(), strict=True)
    many("INSERT INTO threads VALUES (?, ?, ?, ?)", ((run_id, number, *row) for number, row in enumerate(threads)))
    lines = zip(
        tables.line_function.tolist(), tables.line_number.tolist(), tables.line_hits.tolist(),
        tables.line_self_ns.tolist(), strict=True,
    )  # fmt: skip
    many("INSERT INTO lines VALUES (?, ?, ?, ?, ?)", ((run_id, *row) for row in lines))
    known = (COST,) if tables.cost_ns.any() else ()
    columns = (*COLUMNS, *known, *SLICES, *SPANS)
    many("INSERT INTO columns VALUES (?, ?, ?, ?, ?)", ((run_id, name, *pack(getattr(tables, name))) for name in columns))


def read(query: Query, run_id: int) -> RunTables:
    """The tables of a run; every reference in them has been checked.

    Raises
    ------
    FileDamagedError, KeyError, TypeError, ValueError
        They contradict each other or are of the wrong kind.
    """
    functions = query(
        "SELECT kind, name, module, file, line, overflow_calls, overflow_resumes, lookups, light, language FROM functions"
        " WHERE run_id = ? ORDER BY number", (run_id,),
    )  # fmt: skip
    kinds, names, modules, files, first, calls, resumes, lookups, light, languages = (
        zip(*functions, strict=True) if functions else ((),) * 10
    )
    threads = query("SELECT name, process FROM threads WHERE run_id = ? ORDER BY number", (run_id,))
    lines = query("SELECT function, line, hits, self_ns FROM lines WHERE run_id = ?", (run_id,))
    by_line = np.asarray(lines, np.int64).reshape(-1, 4)
    columns = query("SELECT name, dtype, count, data FROM columns WHERE run_id = ?", (run_id,))
    packed = {str(name): unpack(dtype, count, data) for name, dtype, count, data in columns}
    facts = json.loads(str(query("SELECT facts FROM runs WHERE id = ?", (run_id,))[0][0]))
    known = {name: type(value)(facts[name]) for name, value in asdict(RunFacts()).items() if name in facts}
    tables = RunTables(
        function_kind=np.asarray(kinds, np.int32),
        function_name=tuple(str(name) for name in names),
        function_module=tuple(str(name) for name in modules),
        function_file=tuple(str(name) for name in files),
        function_line=np.asarray(first, np.int32),
        overflow_calls=np.asarray(calls, np.int64),
        overflow_resumes=np.asarray(resumes, np.int64),
        function_lookups=np.asarray(lookups, np.int32),
        function_light=np.asarray(light, np.int32),
        function_language=tuple(str(name) for name in languages),
        cost_ns=packed.get(COST, np.zeros(0, np.int64)),
        thread_name=tuple(str(row[0]) for row in threads),
        thread_process=np.asarray([row[1] for row in threads], np.int64),
        line_function=by_line[:, 0].astype(np.int32),
        line_number=by_line[:, 1].astype(np.int32),
        line_hits=by_line[:, 2],
        line_self_ns=by_line[:, 3],
        facts=RunFacts(**known),
        **{name: packed[name] for name in (*COLUMNS, *SLICES, *SPANS)},
    )
    _check(tables)
    return tables


def _check(tables: RunTables) -> None:
    """Every reference must hold before the engine computes with it."""
    counts = {len(getattr(tables, name)) for name in COLUMNS}
    rows, functions = len(tables.parent), len(tables.function_name)
    if len(counts) != 1:
        raise FileDamagedError("The columns of a run differ in length.")
    for group in (SLICES, SPANS):
        if len({len(getattr(tables, name)) for name in group}) != 1:
            raise FileDamagedError("The slices or spans of a run differ in length.")
    fits = (
        (tables.parent >= -1).all()
        and (tables.parent < np.arange(rows)).all()
        and ((tables.function >= 0) & (tables.function < functions)).all()
        and ((tables.thread >= 0) & (tables.thread < max(len(tables.thread_name), 1))).all()
        and all(((values >= 0) & (values < rows)).all() for values in (tables.slice_context, tables.span_context))
        and ((tables.slice_number >= 0) & (tables.slice_number < MOST_SLICES)).all()
        and (tables.line >= 0).all()
        and (tables.self_ns >= 0).all()
        and len(tables.cost_ns) in (0, rows)
        and (tables.line_number >= 0).all()
        and ((tables.line_function >= 0) & (tables.line_function < functions)).all()
    )
    if not fits:
        raise FileDamagedError("The contexts of a run contradict each other.")
