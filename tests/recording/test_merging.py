"""Several processes put together: nothing is lost, nothing counted twice."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.model.marks import FLAG_LIMIT_REACHED
from ricerca.recording.merging import merge, without_unused

sys.path.insert(0, str(Path(__file__).parents[1]))
from engine.trees import runs, tables_of

law = settings(max_examples=80, deadline=None)


@law
@given(st.lists(runs(most=20), min_size=1, max_size=4))
def test_calls_and_times_add_up(parts):
    merged = merge(parts)
    assert merged.calls.sum() == sum(part.calls.sum() for part in parts)
    assert merged.self_ns.sum() == sum(part.self_ns.sum() for part in parts)
    assert len(merged.thread_name) == len(parts)
    assert (merged.parent < np.arange(len(merged.parent))).all()
    profile = build_profile(merged)
    assert profile.total_ns == sum(part.self_ns.sum() for part in parts)
    assert (profile.parent < 0).sum() == len(parts)


@law
@given(runs(most=20), runs(most=20))
def test_the_same_function_of_two_processes_is_one(first, second):
    alone = [function_figures(build_profile(part)).calls for part in (first, second)]
    together = build_profile(merge([first, second]))
    calls = function_figures(together).calls
    by_name = dict(zip(together.functions.name, calls.tolist(), strict=True))
    for number, name in enumerate(first.function_name):
        assert by_name[name] == alone[0][number] + alone[1][number]


@law
@given(runs(most=25), st.integers(0, 2**25 - 1))
def test_unused_contexts_go_and_nothing_else(tables, bits):
    keep = np.asarray([bits >> n & 1 for n in range(len(tables.parent))], bool)
    thinned = replace(tables, calls=tables.calls * keep, self_ns=tables.self_ns * keep, brief_ns=tables.brief_ns * keep)
    left = without_unused(thinned)
    assert left.calls.sum() == thinned.calls.sum()
    assert left.self_ns.sum() == thinned.self_ns.sum()
    assert (left.parent < np.arange(len(left.parent))).all()
    leaves = set(range(len(left.parent))) - set(left.parent.tolist())
    assert all(left.calls[n] or left.self_ns[n] for n in leaves)


def test_followed_lines_of_two_processes_add_up_and_flags_are_joined():
    def part(hits: int, flags: int):
        made = tables_of([-1, 0], [0, 1])
        return replace(
            made,
            line_function=np.asarray([1], np.int32),
            line_number=np.asarray([4], np.int32),
            line_hits=np.asarray([hits]),
            line_self_ns=np.asarray([hits * 10]),
            facts=replace(made.facts, flags=flags, python="3.11.7"),
        )

    merged = merge([part(3, 0), part(4, FLAG_LIMIT_REACHED)])
    assert (merged.line_hits.tolist(), merged.line_self_ns.tolist()) == ([7], [70])
    assert merged.facts.flags == FLAG_LIMIT_REACHED
    assert merged.facts.python == "3.11.7"


def test_one_process_stays_as_it_is():
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 1])
    merged = merge([tables])
    for name in ("parent", "function", "line", "calls", "self_ns", "thread", "function_line"):
        assert getattr(merged, name).tolist() == getattr(tables, name).tolist()
