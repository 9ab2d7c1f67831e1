"""Laws of bringing a recorded run into agreement with sparse ones, on random trees."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.agreement import agree
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import parse, read
from ricerca.model.run_tables import RunFacts

from .trees import runs, tables_of


def sparse_of(tables, timed, self_ns):
    """What a sparse run of the same program would hold, where these times are the true ones: regions of timed functions alone."""
    place, parents, functions, times, calls = {0: 0}, [-1], [0], [0], [0]
    known = {}
    for context in range(1, len(tables.parent)):
        above = place[int(tables.parent[context])]
        function = int(tables.function[context])
        if function in timed:
            key = (above, function)
            if key not in known:
                known[key] = len(parents)
                parents.append(above)
                functions.append(function)
                times.append(0)
                calls.append(0)
            place[context] = known[key]
            calls[known[key]] += int(tables.calls[context])
        else:
            place[context] = above
        if place[context]:
            times[place[context]] += int(self_ns[context])
    return tables_of(parents, functions, times, calls, [0] * len(parents), list(tables.function_name))


@st.composite
def measured(draw):
    """A recorded run, the functions that were timed, and the true self times."""
    tables = draw(runs())
    timed = draw(st.sets(st.integers(1, 6), min_size=1))
    tops = {int(f) for f, parent in zip(tables.function, tables.parent, strict=True) if parent == 0}
    true = np.asarray([0] + [draw(st.integers(0, 10**9)) for _ in tables.parent[1:]], np.int64)
    return tables, timed | tops, true  # the program's beginning is always timed


@given(measured())
@settings(max_examples=120, deadline=None)
def test_every_function_that_was_timed_takes_what_the_sparse_runs_say(case):
    tables, timed, true = case
    sparse = [sparse_of(tables, timed, true) for _ in range(3)]
    profile = build_profile(tables, sparse=sparse)
    exact = function_figures(build_profile(replace(tables, self_ns=true, brief_ns=true)))
    found = function_figures(profile)
    for function in timed:
        assert found.inclusive_ns[function] == pytest.approx(exact.inclusive_ns[function], abs=len(tables.parent))
    assert profile.total_ns == pytest.approx(int(true.sum()), abs=len(tables.parent))


@given(measured())
@settings(max_examples=60, deadline=None)
def test_counts_are_untouched_and_times_still_add_up(case):
    tables, timed, true = case
    before = build_profile(tables)
    profile = build_profile(tables, sparse=[sparse_of(tables, timed, true)] * 2)
    assert np.array_equal(profile.calls, before.calls)
    assert (profile.self_ns >= 0).all()
    assert np.array_equal(profile.inclusive_ns[profile.parent < 0].sum(), profile.total_ns)
    charged = read(profile, parse("charging f2"))
    assert charged.total_ns == profile.total_ns


@given(measured(), st.integers(10**6, 10**10))
@settings(max_examples=60, deadline=None)
def test_the_total_is_the_plain_one(case, plain_ns):
    tables, timed, true = case
    if not true.any():
        return
    profile = build_profile(tables, plain_ns=plain_ns, sparse=[sparse_of(tables, timed, true)] * 3)
    assert profile.total_ns == pytest.approx(plain_ns, rel=1e-6, abs=len(tables.parent))


@given(measured())
@settings(max_examples=60, deadline=None)
def test_what_is_not_known_is_taken_as_it_was(case):
    tables, _timed, _true = case
    assert np.array_equal(agree(tables, tables.self_ns).self_ns, tables.self_ns)


def test_a_region_that_another_run_did_not_enter_goes_to_the_one_around_it():
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 3], [0, 10, 100, 50])
    seen = tables_of([-1, 0, 1], [0, 1, 2], [0, 120, 200], [0, 1, 1])
    without = tables_of([-1, 0], [0, 1], [0, 320], [0, 1])
    found = agree(tables, tables.self_ns, [seen, without])
    assert found.region[2] == found.region[1]
    assert found.self_ns[1:].sum() == 320


def test_times_are_taken_as_if_entered_as_often_as_when_it_was_recorded():
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 10, 100], [0, 1, 4])
    found = agree(tables, tables.self_ns, [tables_of([-1, 0, 1], [0, 1, 2], [0, 10, 60], [0, 1, 3])] * 2)
    assert found.self_ns.tolist() == [0, 10, 80]


def test_a_long_call_of_compiled_code_keeps_its_time():
    names = ["start", "main", "sorted", "small"]
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 3], [0, 1_000_000, 12_000_000, 9_000_000], [0, 1, 1, 50_000], names=names, builtins=frozenset({2}),
                       facts=RunFacts(python="3.11.7", python_inside_ns=40.0, python_outside_ns=60.0, bytecode_factor=3.0))  # fmt: skip
    profile = build_profile(tables, plain_ns=15_000_000, swing=1.05)
    figures = function_figures(profile)
    assert profile.total_ns == pytest.approx(15_000_000, rel=1e-3)
    assert figures.self_ns[2] >= 12_000_000 / 1.06


def test_calls_that_were_not_timed_are_deducted_by_count():
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 100_000, 200_000], [0, 1, 1000])
    sparse = replace(
        tables_of([-1, 0], [0, 1], [0, 250_000], [0, 1]), facts=RunFacts(python="3.11.7", unwatched_call_ns=50.0, unwatched_deep_ns=50.0)
    )
    found = agree(tables, tables.self_ns, [sparse] * 3)
    assert found.self_ns.sum() == 250_000 - 50_000


def test_bodies_that_go_on_and_operators_cost_less_where_they_were_not_timed():
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 3], [0, 100_000, 200_000, 200_000], [0, 1, 1000, 1000])
    tables = replace(tables, resumes=np.array([0, 0, 2000, 0]), function_name=("", "main", "given", "P.__add__"))
    facts = RunFacts(python="3.11.7", unwatched_call_ns=50.0, unwatched_deep_ns=50.0, unwatched_resume_ns=5.0)
    sparse = replace(tables_of([-1, 0], [0, 1], [0, 460_000 + 50_000 + 10_000 + 5_000], [0, 1]), facts=facts)
    sparse = replace(sparse, function_name=tables.function_name[:2])
    found = agree(tables, tables.self_ns, [sparse] * 3)
    assert found.self_ns.sum() == 460_000


def test_where_all_calls_were_timed_or_are_operators_only_these_cost_something():
    tables = replace(tables_of([-1, 0, 1], [0, 1, 2], [0, 100_000, 200_000], [0, 1, 1000]), function_name=("", "main", "P.__add__"))
    facts = RunFacts(python="3.11.7", unwatched_call_ns=50.0, unwatched_deep_ns=50.0, unwatched_resume_ns=5.0)
    sparse = replace(tables_of([-1, 0], [0, 1], [0, 255_000], [0, 1]), facts=facts, function_name=("", "main"))
    assert agree(tables, tables.self_ns, [sparse] * 3).self_ns.sum() == 250_000


def test_intervals_say_how_far_the_runs_differ():
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 100, 100], [0, 1, 1])
    apart = [tables_of([-1, 0, 1], [0, 1, 2], [0, 100, own], [0, 1, 1]) for own in (90, 100, 110)]
    figures = function_figures(build_profile(tables, sparse=apart))
    half = figures.inclusive_half_ns
    assert half[2] == pytest.approx(100 * (np.exp(4.303 * np.std(np.log([90, 100, 110]), ddof=1) / np.sqrt(3)) - 1), rel=0.01)
    assert figures.self_half_ns[2] == pytest.approx(half[2], rel=0.01)  # all of its region is its own
    alike = function_figures(build_profile(tables, sparse=[apart[1]] * 3))
    assert alike.self_half_ns[2] < 1


def test_what_a_reading_charges_to_a_timed_function_is_as_well_known_as_the_function():
    tables = tables_of([-1, 0, 1, 2], [0, 1, 2, 3], [0, 10, 100, 100], [0, 1, 1, 500])
    sparse = [tables_of([-1, 0, 1], [0, 1, 2], [0, 10, own], [0, 1, 1]) for own in (198, 200, 202)]
    profile = build_profile(tables, sparse=sparse)
    apart, together = function_figures(profile), function_figures(read(profile, parse("charging f3")))
    assert apart.self_half_ns[2] > 5  # how the two share the region is not known that well
    assert together.self_ns[2] == 200
    assert together.self_half_ns[2] < 6
    assert np.isnan(function_figures(read(profile, parse("raw"))).self_half_ns).all()
