"""Stretches of time: what happened in them, and where another run did the same."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import parse, read
from ricerca.engine.slices import counterpart, counterpart_evidence, growing, in_stretch

from .trees import tables_of


def sliced(early: list[int], late: list[int]):
    """main calls f in the early slices and g in the late ones, one call a slice."""
    cells = [(2, n, ns) for n, ns in enumerate(early) if ns] + [(3, n, ns) for n, ns in enumerate(late) if ns]
    context, number, times = (np.asarray(part, np.int64) for part in zip(*cells, strict=True))
    calls = [0, 1, sum(1 for ns in early if ns), sum(1 for ns in late if ns)]
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 3], [0, 0, sum(early), sum(late)], calls, names=["start", "main", "f", "g"])
    return build_profile(
        replace(
            tables, slice_context=context, slice_number=number, slice_calls=np.ones(len(context), np.int64), slice_self_ns=times,
            slice_waiting_ns=np.zeros(len(context), np.int64), facts=replace(tables.facts, slice_ns=100.0),
        )
    )  # fmt: skip


PROFILE = sliced([100, 100, 0, 0], [0, 0, 100, 100])


def test_a_stretch_holds_what_happened_in_it():
    figures = function_figures(in_stretch(PROFILE, 0, 2))
    assert figures.calls.tolist() == [0, 0, 2, 0]
    assert figures.self_ns.tolist() == [0, 0, 200, 0]


@given(st.integers(0, 4), st.integers(0, 4))
def test_stretches_that_follow_each_other_add_up(first, second):
    one, two = sorted((first, second))
    parts = [in_stretch(PROFILE, a, b).total_ns for a, b in ((0, one), (one, two), (two, 4))]
    assert sum(parts) == PROFILE.total_ns


def test_an_empty_stretch_is_empty():
    assert in_stretch(PROFILE, 2, 2).total_ns == 0
    assert read(PROFILE, parse("slices 9 to 12")).total_calls == 0


def test_the_counterpart_is_where_the_same_work_was_done():
    other = sliced([100, 0, 0, 0, 0, 0], [0, 0, 0, 0, 100, 100])  # f twice as quick... its calls differ, g's do not
    assert counterpart(PROFILE, 2, 4, other)[1] == 6
    assert counterpart(PROFILE, 0, 4, other) == (0, 6)


def test_without_slices_there_is_no_counterpart():
    assert counterpart(PROFILE, 0, 1, build_profile(tables_of([-1, 0], [0, 1]))) is None


def test_slices_of_a_function_are_found_for_each_of_them():
    assert [PROFILE.slice_number[PROFILE.slices_of(n)].tolist() for n in range(4)] == [[], [], [0, 1], [2, 3]]


def test_a_function_that_hardly_matters_is_not_looked_at_for_growth():
    assert growing(PROFILE, np.zeros(4, np.int64)) == {}


def test_a_counterpart_says_how_much_it_rests_on():
    assert counterpart_evidence(PROFILE, 0, 4, PROFILE) == 1.0
    nothing = build_profile(tables_of([-1, 0], [0, 1]))
    assert counterpart_evidence(PROFILE, 0, 4, nothing) == 0.0
