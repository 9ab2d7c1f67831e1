"""Gives the functions of compiled code their names, files and lines; while it ran they were kept by address."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace

import numpy as np

from ricerca.model.marks import KIND_ABOVE, KIND_PYTHON, KIND_SITE
from ricerca.model.run_tables import RunTables
from ricerca.recording.symbols import ObjectFile


def contexts_above(tables: RunTables) -> dict[int, int]:
    """Contexts that stand for one of the interpreter's in the same process, with the number of that one in its recording."""
    rows = np.flatnonzero(tables.function_kind[tables.function] == KIND_ABOVE).tolist()
    return {row: int(tables.function_name[int(tables.function[row])]) - 1 for row in rows}


def with_names(tables: RunTables) -> RunTables:
    """A run of compiled code with names in the place of addresses, and its call sites as lines.

    What recording a call took was measured when the program began; half of it falls on the callee, half on its caller.

    Where a file is gone, or has neither symbols nor debugging information, addresses stay.
    """
    kinds = tables.function_kind
    asked: dict[str, list[int]] = defaultdict(list)
    for number in np.flatnonzero(np.isin(kinds, (KIND_PYTHON, KIND_SITE))).tolist():
        asked[tables.function_file[number]].append(int(tables.function_name[number], 16))
    files = {path: ObjectFile(path, offsets) for path, offsets in asked.items()}
    names, modules, places = list(tables.function_name), list(tables.function_module), list(tables.function_file)
    lines, languages = tables.function_line.copy(), list(tables.languages)
    site_lines = np.zeros(len(names) + 1, np.int32)
    for number, kind in enumerate(kinds.tolist()):
        if kind not in (KIND_PYTHON, KIND_SITE):
            continue
        object_file, offset = files[places[number]], int(names[number], 16)
        if kind == KIND_SITE:
            site_lines[number + 1] = object_file.line_of_call(offset)
            continue
        found = object_file.function(offset)
        modules[number] = places[number].rpartition("/")[2]
        names[number], places[number], lines[number], languages[number] = found.name, found.file, found.line, found.language
    kept = np.flatnonzero(kinds != KIND_SITE)
    place = np.full(len(names), -1, np.int64)
    place[kept] = np.arange(len(kept))
    chosen = kept.tolist()
    called = tables.parent >= 0
    cost = tables.calls * tables.facts.python_inside_ns
    cost = cost + np.bincount(tables.parent[called], tables.calls[called] * tables.facts.python_outside_ns, len(tables.parent))
    own = next((languages[n] for n in chosen if kinds[n] == KIND_PYTHON), tables.facts.language)
    return replace(
        tables,
        function_kind=kinds[kept],
        function_name=tuple(names[n] for n in chosen),
        function_module=tuple(modules[n] for n in chosen),
        function_file=tuple(places[n] for n in chosen),
        function_line=lines[kept],
        function_language=tuple(languages[n] for n in chosen),
        function_lookups=tables.function_lookups[kept],
        function_light=tables.function_light[kept],
        function_nesting=tables.function_nesting[kept] * 0,
        overflow_calls=tables.overflow_calls[kept],
        overflow_resumes=tables.overflow_resumes[kept],
        function=place[tables.function].astype(np.int32),
        line=np.where(tables.parent >= 0, site_lines[tables.line], 0).astype(np.int32),
        cost_ns=np.minimum(cost.astype(np.int64), tables.self_ns),
        facts=replace(tables.facts, python_inside_ns=0.0, python_outside_ns=0.0, binaries=tuple(sorted(asked)), python="", language=own),
    )
