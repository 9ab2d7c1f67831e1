"""One run of several processes: their tables put together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.model.marks import MOST_SLICES
from ricerca.model.run_tables import RunTables

# Columns that are the same in the whole as in its parts.
SUMMED = ("line", "calls", "resumes", "self_ns", "brief_ns", "waiting_ns", "thread_process", "slice_calls", "slice_self_ns",
          "slice_waiting_ns")  # fmt: skip
WATCHED = ("python_watched", "python_watched_ns", "builtin_watched", "builtin_watched_ns", "unseen_threads", "unseen_interpreters",
           "taken_hooks", "strange_stacks", "deep_calls")  # fmt: skip


def _used(tables: RunTables) -> np.ndarray:
    """Contexts in which something happened, and those above them. A forked child begins with its parent's, all at zero."""
    used = (tables.calls > 0) | (tables.resumes > 0) | (tables.self_ns > 0)
    frontier = np.unique(tables.parent[used])
    while len(frontier := frontier[frontier >= 0]):
        fresh = frontier[~used[frontier]]
        used[fresh] = True
        frontier = np.unique(tables.parent[fresh])
    return used


def without_unused(tables: RunTables) -> RunTables:
    """The same run without contexts in which nothing happened."""
    used = _used(tables)
    if used.all():
        return tables
    place = np.cumsum(used) - 1
    parent = np.where(tables.parent >= 0, place[tables.parent], -1)
    sliced, spanned = used[tables.slice_context], used[tables.span_context]
    columns = ("function", "line", "calls", "resumes", "self_ns", "brief_ns", "waiting_ns", "thread")
    kept = {name: getattr(tables, name)[used] for name in columns}
    kept["cost_ns"] = tables.known_cost_ns[used]
    kept |= {f"slice_{name}": getattr(tables, f"slice_{name}")[sliced] for name in ("number", "calls", "self_ns", "waiting_ns")}
    kept |= {f"span_{name}": getattr(tables, f"span_{name}")[spanned] for name in ("start_ns", "end_ns")}
    return replace(
        tables,
        parent=parent[used].astype(np.int32),
        slice_context=place[tables.slice_context[sliced]],
        span_context=place[tables.span_context[spanned]],
        **kept,
    )


def _starts_ns(parts: Sequence[RunTables]) -> list[int]:
    """When each process began, in ns from the start of the first."""
    first = parts[0].facts.start_unix_ns
    return [max(part.facts.start_unix_ns - first, 0) for part in parts]


def _slice_numbers(parts: Sequence[RunTables], starts: Sequence[int]) -> tuple[float, list[np.ndarray]]:
    """One length of slice for all processes, and the slices numbered by it from the start of the first."""
    middles = [start + (part.slice_number + 0.5) * part.facts.slice_ns for start, part in zip(starts, parts, strict=True)]
    width = max(part.facts.slice_ns for part in parts) or 1.0
    latest = max((float(values.max()) for values in middles if len(values)), default=0.0)
    while latest / width >= MOST_SLICES:
        width *= 2
    return width, [(values / width).astype(np.int64) for values in middles]


def _nesting(tables: RunTables) -> list[int]:
    """Nesting of each function, 0 where nobody looked."""
    return tables.function_nesting.tolist() if len(tables.function_nesting) else [0] * len(tables.function_name)


def merge(parts: Sequence[RunTables]) -> RunTables:
    """Put the processes of a run together; the first is the one that was started.

    Functions are the same when kind, module, name, file, line and language are. Facts are those of the first
    process, but the flags, and what was watched, of all.
    """
    first = parts[0]
    rows: dict[tuple[int, str, str, str, int, int, str], int] = {}
    numbers = []
    for part in parts:
        keys = zip(part.function_kind.tolist(), part.function_module, part.function_name, part.function_file,
                   part.function_line.tolist(), _nesting(part), part.languages, strict=True)  # fmt: skip
        numbers.append(np.asarray([rows.setdefault(key, len(rows)) for key in keys], np.int64))
    kinds, modules, names, files, lines, nesting, languages = zip(*rows, strict=True) if rows else ((),) * 7
    overflow = {name: np.zeros(len(rows), np.int64) for name in ("overflow_calls", "overflow_resumes")}
    traits = {name: np.full(len(rows), -1, np.int32) for name in ("function_lookups", "function_light")}
    for part, number in zip(parts, numbers, strict=True):
        for name, values in traits.items():
            if len(getattr(part, name)):
                np.maximum.at(values, number, getattr(part, name))
        for name, total in overflow.items():
            np.add.at(total, number, getattr(part, name))
    context_base = np.cumsum([0] + [len(part.parent) for part in parts])
    thread_base = np.cumsum([0] + [len(part.thread_name) for part in parts])

    def joined(name: str, change=lambda values, _number: values) -> np.ndarray:
        return np.concatenate([change(getattr(part, name), n) for n, part in enumerate(parts)])

    followed: dict[tuple[int, int], tuple[int, int]] = {}
    for part, number in zip(parts, numbers, strict=True):
        for function, line, hits, self_ns in zip(
            number[part.line_function].tolist() if len(part.line_function) else [], part.line_number.tolist(),
            part.line_hits.tolist(), part.line_self_ns.tolist(), strict=True,
        ):  # fmt: skip
            before = followed.get((function, line), (0, 0))
            followed[function, line] = (before[0] + hits, before[1] + self_ns)
    by_line = np.asarray([(*key, *value) for key, value in followed.items()], np.int64).reshape(-1, 4)
    starts = _starts_ns(parts)
    slice_ns, slice_numbers = _slice_numbers(parts, starts)
    flags = 0
    for part in parts:
        flags |= part.facts.flags
    watched: dict[str, Any] = {name: sum(getattr(part.facts, name) for part in parts) for name in WATCHED}
    return RunTables(
        function_kind=np.asarray(kinds, np.int32),
        function_name=tuple(names),
        function_module=tuple(modules),
        function_file=tuple(files),
        function_line=np.asarray(lines, np.int32),
        function_nesting=np.asarray(nesting, np.int32),
        function_language=tuple(languages),
        cost_ns=joined("known_cost_ns"),
        parent=joined("parent", lambda values, n: np.where(values >= 0, values + context_base[n], -1)).astype(np.int32),
        function=joined("function", lambda values, n: numbers[n][values]).astype(np.int32),
        thread=joined("thread", lambda values, n: values + thread_base[n]).astype(np.int32),
        thread_name=tuple(name for part in parts for name in part.thread_name),
        line_function=by_line[:, 0].astype(np.int32),
        line_number=by_line[:, 1].astype(np.int32),
        line_hits=by_line[:, 2],
        line_self_ns=by_line[:, 3],
        facts=replace(first.facts, flags=flags, slice_ns=slice_ns, **watched),
        slice_context=joined("slice_context", lambda values, n: values + context_base[n]),
        slice_number=np.concatenate(slice_numbers),
        span_context=joined("span_context", lambda values, n: values + context_base[n]),
        span_start_ns=joined("span_start_ns", lambda values, n: values + starts[n]),
        span_end_ns=joined("span_end_ns", lambda values, n: values + starts[n]),
        **overflow,
        **traits,
        **{name: joined(name) for name in SUMMED},
    )
