"""Copies a recording into plain arrays."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.model import marks
from ricerca.model.run_tables import RunFacts, RunTables
from ricerca.recording import layout
from ricerca.recording.reader import Recording

INTERPRETER_MODULES = ("_interpreters", "_xxsubinterpreters")


def _to_ns(ticks: np.ndarray, ns_per_tick: float) -> np.ndarray:
    return np.rint(ticks * ns_per_tick).astype(np.int64)


def _texts(recording: Recording, part: str) -> tuple[str, ...]:
    rows = recording.functions[1:]
    return tuple(
        recording.text(int(offset), int(length)) for offset, length in zip(rows[f"{part}_offset"], rows[f"{part}_bytes"], strict=True)
    )


def _thread_names(recording: Recording) -> tuple[str, ...]:
    names = []
    for index, row in enumerate(recording.threads[1:]):
        name = recording.text(int(row["name_offset"]), int(row["name_bytes"]))
        names.append(name or ("MainThread" if index == 0 else f"thread {index + 1}"))
    return tuple(names)


def _open_time(recording: Recording, ns_per_tick: float) -> np.ndarray:
    """Ticks that had passed in each thread's running context when its program was cut off."""
    extra = np.zeros(len(recording.contexts), np.float64)
    head = recording.header
    end_mono_ns = int(head["end_mono_ns"])
    if recording.closed or end_mono_ns == 0:
        return extra
    end_ticks = int(head["start_ticks"]) + (end_mono_ns - int(head["start_mono_ns"])) / ns_per_tick
    for row in recording.threads[1:]:
        top = int(row["top"])
        if not row["ended"] and top != int(row["root"]):
            extra[top] += max(0.0, end_ticks - int(row["last_ticks"]))
    return extra


def _python_version(hex_version: int) -> str:
    return f"{hex_version >> 24}.{hex_version >> 16 & 255}.{hex_version >> 8 & 255}"


def _slices(recording: Recording, rate: float) -> dict[str, np.ndarray]:
    """What fell into each slice: a row says what its context had before, the next one what it had after."""
    rows = recording.slices[1:]
    order = np.lexsort((np.arange(len(rows)), rows["slice"], rows["context"]))
    rows = rows[order]
    context = rows["context"].astype(np.int64)
    last = np.concatenate((context[1:] != context[:-1], [True]))[: len(rows)]
    found: dict[str, np.ndarray] = {"slice_context": context - 1, "slice_number": rows["slice"].astype(np.int64)}
    for name in ("calls", "self_ticks", "waiting_ticks"):
        before = rows[name].astype(np.int64)
        final = recording.contexts[name][context].astype(np.int64)
        after = np.where(last, final, np.concatenate((before[1:], [0]))[: len(rows)])
        passed = np.maximum(after - before, 0)
        found["slice_calls" if name == "calls" else f"slice_{name[:-6]}_ns"] = passed if name == "calls" else _to_ns(passed, rate)
    used = (found["slice_calls"] > 0) | (found["slice_self_ns"] > 0)
    return {name: values[used] for name, values in found.items()}


def _spans(recording: Recording, rate: float) -> dict[str, np.ndarray]:
    rows, start = recording.spans[1:], int(recording.header["start_ticks"])
    return {
        "span_context": rows["context"].astype(np.int64) - 1,
        "span_start_ns": np.maximum(_to_ns(rows["start_ticks"].astype(np.int64) - start, rate), 0),
        "span_end_ns": np.maximum(_to_ns(rows["end_ticks"].astype(np.int64) - start, rate), 0),
    }


def _made_interpreters(recording: Recording) -> int:
    """Subinterpreters that the program made by the interpreter's own module, which 3.13 does not tell of otherwise."""
    functions = recording.functions
    rows = [
        number
        for number in np.flatnonzero(functions["kind"] == marks.KIND_BUILTIN)
        if recording.text(int(functions[number]["name_offset"]), int(functions[number]["name_bytes"])) == "create"
        and recording.text(int(functions[number]["module_offset"]), int(functions[number]["module_bytes"])) in INTERPRETER_MODULES
    ]
    return int(recording.contexts["calls"][np.isin(recording.contexts["function"], rows)].sum()) if rows else 0


def take(recording: Recording) -> RunTables:
    """Copy a recording into plain arrays, ticks turned into nanoseconds.

    The time between a thread's last event and the end of a program that was cut off is booked on
    what was running, so that a program killed in a long call shows where it was.
    """
    rate = recording.ns_per_tick
    functions, contexts, lines = recording.functions[1:], recording.contexts[1:], recording.lines[1:]
    head = recording.header
    self_ticks = recording.contexts["self_ticks"] + _open_time(recording, rate)
    facts = RunFacts(
        python=_python_version(int(head["python_hex"])),
        pid=int(head["pid"]),
        parent_pid=int(head["parent_pid"]),
        setup_ns=int(head["setup_ns"]),
        start_unix_ns=int(head["start_unix_ns"]),
        duration_ns=max(int(head["end_mono_ns"]), int(head["last_mono_ns"])) - int(head["start_mono_ns"]),
        flags=int(head["flags"]),
        closed=recording.closed,
        unseen_threads=int(head["unseen_threads"]),
        unseen_interpreters=max(int(head["unseen_interpreters"]), _made_interpreters(recording)),
        taken_hooks=int(head["taken_hooks"]),
        strange_stacks=int(head["strange_stacks"]),
        unwatched_call_ns=float(head["unwatched_call_ns"]),
        unwatched_deep_ns=float(head["unwatched_deep_ns"]),
        unwatched_resume_ns=float(head["unwatched_resume_ns"]),
        deep_calls=int(head["deep_calls"]),
        hook=marks.HOOKS.get(int(head["hook"]), "unknown"),
        slice_ns=float(head["slice_ticks"]) * rate,
        span_ns=float(head["span_ticks"]) * rate,
        python_watched=int(head["python_watched"]["times"]),
        python_watched_ns=round(int(head["python_watched"]["ticks"]) * rate),
        builtin_watched=int(head["builtin_watched"]["times"]),
        builtin_watched_ns=round(int(head["builtin_watched"]["ticks"]) * rate),
    )
    known = set(layout.HEADER.names or ()) & set(vars(facts))
    costs = {name: float(head[name]) for name in known if name.endswith(("side_ns", "work_ns", "_factor", "_share"))}
    facts = replace(facts, **costs)  # type: ignore[arg-type]
    by_time: dict[str, Any] = {**_slices(recording, rate), **_spans(recording, rate)}
    return RunTables(
        function_kind=functions["kind"].astype(np.int32),
        function_name=_texts(recording, "name"),
        function_module=_texts(recording, "module"),
        function_file=_texts(recording, "file"),
        function_line=functions["first_line"].astype(np.int32),
        overflow_calls=functions["overflow_calls"].astype(np.int64),
        overflow_resumes=functions["overflow_resumes"].astype(np.int64),
        parent=contexts["parent"].astype(np.int64).astype(np.int32) - 1,
        function=contexts["function"].astype(np.int32) - 1,
        line=np.where(contexts["parent"] == 0, 0, contexts["line"]).astype(np.int32),
        calls=contexts["calls"].astype(np.int64),
        resumes=contexts["resumes"].astype(np.int64),
        self_ns=_to_ns(self_ticks[1:], rate),
        brief_ns=_to_ns(np.maximum(contexts["self_ticks"].astype(np.int64) - contexts["long_ticks"].astype(np.int64), 0), rate),
        waiting_ns=_to_ns(contexts["waiting_ticks"], rate),
        thread=contexts["thread"].astype(np.int32) - 1,
        thread_name=_thread_names(recording),
        thread_process=np.full(len(recording.threads) - 1, int(head["pid"]), np.int64),
        line_function=lines["function"].astype(np.int32) - 1,
        line_number=lines["line"].astype(np.int32),
        line_hits=lines["hits"].astype(np.int64),
        line_self_ns=_to_ns(lines["self_ticks"], rate),
        facts=facts,
        function_lookups=functions["lookups"].astype(np.int32),
        function_nesting=functions["nesting"].astype(np.int32),
        function_light=np.where(functions["light"] == marks.LIGHT_UNKNOWN, -1, functions["light"].astype(np.int32)),
        **by_time,
    )
