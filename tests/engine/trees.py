"""Random runs for properties: trees of contexts with functions, lines and times."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from ricerca.model.marks import KIND_BUILTIN, KIND_PYTHON, KIND_THREAD
from ricerca.model.run_tables import RunFacts, RunTables


def tables_of(
    parents: list[int],
    functions: list[int],
    self_ns: list[int] | None = None,
    calls: list[int] | None = None,
    lines: list[int] | None = None,
    names: list[str] | None = None,
    facts: RunFacts | None = None,
    builtins: frozenset[int] = frozenset(),
) -> RunTables:
    """A run: context 0 is always the root of the one thread, function 0 its start."""
    count = len(parents)
    kinds = max([*functions, 0]) + 1
    names = names or [f"f{n}" for n in range(kinds)]
    kind = [KIND_THREAD] + [KIND_BUILTIN if n in builtins else KIND_PYTHON for n in range(1, len(names))]
    times = np.asarray(self_ns if self_ns is not None else [10] * count, np.int64)
    return RunTables(
        function_kind=np.asarray(kind, np.int32),
        function_name=tuple(names),
        function_module=("m",) * len(names),
        function_file=tuple("" if n in builtins else "/p/m.py" for n in range(len(names))),
        function_line=np.arange(len(names), dtype=np.int32) * 10,
        overflow_calls=np.zeros(len(names), np.int64),
        overflow_resumes=np.zeros(len(names), np.int64),
        parent=np.asarray(parents, np.int32),
        function=np.asarray(functions, np.int32),
        line=np.asarray(lines if lines is not None else [0] + [5] * (count - 1), np.int32)[:count],
        calls=np.asarray(calls if calls is not None else [0] + [1] * (count - 1), np.int64)[:count],
        resumes=np.zeros(count, np.int64),
        self_ns=times,
        brief_ns=times.copy(),
        waiting_ns=np.zeros(count, np.int64),
        thread=np.zeros(count, np.int32),
        thread_name=("MainThread",),
        thread_process=np.asarray([7], np.int64),
        line_function=np.zeros(0, np.int32),
        line_number=np.zeros(0, np.int32),
        line_hits=np.zeros(0, np.int64),
        line_self_ns=np.zeros(0, np.int64),
        facts=facts or RunFacts(),
    )


@st.composite
def runs(draw: st.DrawFn, most: int = 40, free: bool = True) -> RunTables:
    """A random tree; free: the recorder cost nothing."""
    count = draw(st.integers(1, most))
    parents = [-1] + [draw(st.integers(0, n - 1)) for n in range(1, count)]
    functions = [0] + [draw(st.integers(1, 6)) for _ in range(1, count)]
    lines = [0] + [draw(st.integers(0, 4)) for _ in range(1, count)]
    seen, keep = set(), [0]
    for n in range(1, count):  # a context is named by parent, function and line
        if parents[n] in keep and (parents[n], functions[n], lines[n]) not in seen:
            seen.add((parents[n], functions[n], lines[n]))
            keep.append(n)
    place = {old: new for new, old in enumerate(keep)}
    facts = RunFacts() if free else RunFacts(python_inside_ns=30.0, python_outside_ns=50.0, bytecode_factor=3.0)
    return tables_of(
        [-1 if n == 0 else place[parents[n]] for n in keep],
        [functions[n] for n in keep],
        [0] + [draw(st.integers(0, 10**10)) for _ in keep[1:]],
        [0] + [draw(st.integers(1, 10**7)) for _ in keep[1:]],
        [lines[n] for n in keep],
        [f"f{n}" for n in range(7)],
        facts,
    )
