"""The recorder's own cost taken off."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.compensation import LEAST_SCALE, MOST_SCALE, compensate
from ricerca.model.run_tables import RunFacts

from .trees import runs, tables_of

law = settings(max_examples=100, deadline=None)


@law
@given(runs(free=False), st.none() | st.integers(0, 10**12))
def test_times_stay_between_nothing_and_what_was_measured(tables, plain_ns):
    left, scale, _slowness = compensate(tables, plain_ns)
    assert (left >= 0).all()
    assert (left <= tables.self_ns).all()
    assert LEAST_SCALE <= scale <= MOST_SCALE


@law
@given(runs())
def test_a_recorder_that_costs_nothing_changes_nothing(tables):
    left, scale, _slowness = compensate(tables)
    assert left.tolist() == tables.self_ns.tolist()
    assert scale == 1.0


def test_a_higher_plain_time_never_leaves_less():
    facts = RunFacts(python_inside_ns=20.0, python_outside_ns=30.0, bytecode_factor=3.0)
    tables = tables_of([-1, 0, 1, 1], [0, 1, 2, 3], [0, 5000, 4000, 3000], [0, 1, 20, 30], facts=facts)
    totals = [int(compensate(tables, plain)[0].sum()) for plain in range(0, 12_000, 500)]
    assert totals == sorted(totals)


def test_plain_runs_that_can_be_met_are_met():
    facts = RunFacts(python_inside_ns=20.0, python_outside_ns=30.0)
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 5000, 4000], [0, 1, 60], facts=facts)
    left, scale, _slowness = compensate(tables, 5500)
    assert left.sum() == pytest.approx(5500, rel=0.01)
    assert 1.0 < scale <= (9000 - 5500) / (61 * 20 + 60 * 30) * 1.05  # the rest: the machine was slower


def test_callbacks_cost_their_own_price():
    facts = RunFacts(python_inside_ns=1.0, python_outside_ns=1.0, callback_inside_ns=10.0, callback_outside_ns=20.0)
    tables = tables_of([-1, 0, 1, 2], [0, 1, 2, 3], [0, 1000, 1000, 1000], [0, 1, 1, 10], facts=facts, builtins=frozenset({2}))
    left, *_ = compensate(tables)
    assert left.tolist() == [0, 1000 - 1, 1000 - 200, 1000 - 100]


def test_bodies_of_modules_have_a_factor_of_their_own():
    facts = RunFacts(bytecode_factor=4.0, names_factor=2.0)
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 800, 800], names=["start", "<module>", "f"], facts=facts)
    assert compensate(tables)[0].tolist() == [0, 400, 200]


def test_a_hook_that_worked_slower_in_the_program_cost_more_there():
    facts = RunFacts(python_inside_ns=20.0, python_outside_ns=30.0, python_work_ns=40.0, python_watched=500, python_watched_ns=25_000)
    assert facts.python_slowness == 1.5  # half of the hook's own work, the clock's, hardly slows
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 5000, 4000], [0, 1, 60], facts=facts)
    left, scale, _slowness = compensate(tables)
    assert left.tolist() == [0, 5000 - 1.5 * (20 + 60 * 30), 4000 - 1.5 * 60 * 20]
    assert scale == 1.0


@pytest.mark.parametrize(("times", "took_ns", "slowness"), [(0, 0, 1.0), (99, 99 * 80, 1.0), (100, 100 * 1000, 2.0), (100, 0, 0.5)])
def test_slowness_is_believed_within_bounds_and_from_enough_entries(times, took_ns, slowness):
    assert RunFacts(builtin_work_ns=40.0, builtin_watched=times, builtin_watched_ns=took_ns).builtin_slowness == slowness


def test_several_threads_are_not_fitted():
    tables = tables_of([-1, 0], [0, 1], [0, 100], facts=RunFacts(python_inside_ns=5.0))
    object.__setattr__(tables, "thread_name", ("MainThread", "other"))
    assert compensate(tables, 1)[1] == 1.0


def test_an_empty_run_has_nothing_to_deduct():
    tables = tables_of([-1], [0])
    empty = type(tables)(**{**tables.__dict__, **{name: np.zeros(0, np.int64) for name in
                         ("parent", "function", "line", "calls", "resumes", "self_ns", "brief_ns", "waiting_ns", "thread")}})  # fmt: skip
    assert compensate(empty)[0].tolist() == []
