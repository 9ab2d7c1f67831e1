"""Elapsed time: each moment of a run counts once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ricerca.engine.elapsed import runs_beside_itself, with_elapsed
from ricerca.engine.profile import Profile, build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import parse, read
from ricerca.engine.shown import Shown
from ricerca.engine.timeline import timeline

from .trees import tables_of

WIDTH = 100


def threads(cells: list[list[tuple[int, int]]], length: int | None = None) -> Profile:
    """One function a thread; cells of (ran, waited) by thread and slice."""
    count, slices = len(cells), len(cells[0])
    parent, function = [-1, *([-1] * (count - 1))], [0] * count
    parent += list(range(count))
    function += list(range(1, count + 1))
    tables = tables_of(parent, function, names=["start", *(f"f{n}" for n in range(count))])
    ran = np.asarray([[cell[0] for cell in row] for row in cells])
    waited = np.asarray([[cell[1] for cell in row] for row in cells])
    total = (ran + waited).sum(axis=1)
    rows = [(n, s) for n in range(count) for s in range(slices) if ran[n, s] + waited[n, s]]
    at = np.asarray(rows, np.int64).reshape(-1, 2)
    tables = replace(
        tables,
        self_ns=np.concatenate((np.zeros(count, np.int64), total)), waiting_ns=np.concatenate((np.zeros(count, np.int64), waited.sum(axis=1))),
        brief_ns=np.zeros(2 * count, np.int64), thread=np.tile(np.arange(count, dtype=np.int32), 2),
        thread_name=tuple(f"T{n}" for n in range(count)), thread_process=np.ones(count, np.int64),
        slice_context=at[:, 0] + count, slice_number=at[:, 1], slice_calls=np.ones(len(at), np.int64),
        slice_self_ns=(ran + waited)[at[:, 0], at[:, 1]], slice_waiting_ns=waited[at[:, 0], at[:, 1]],
        facts=replace(tables.facts, slice_ns=float(WIDTH), duration_ns=length or WIDTH * slices),
    )  # fmt: skip
    return build_profile(tables)


def times(profile: Profile) -> list[int]:
    figures = function_figures(with_elapsed(profile))
    return [int(figures.self_ns[n]) for n in range(1, len(profile.functions))]


def test_one_thread_has_its_own_time():
    profile = threads([[(60, 40), (100, 0)]])
    assert not runs_beside_itself(profile)
    assert with_elapsed(profile) is profile


def test_sleepers_beside_a_worker_weigh_nothing():
    profile = threads([[(100, 0), (100, 0)], [(0, 100), (0, 100)], [(0, 100), (0, 100)]])
    assert times(profile) == [200, 0, 0]


def test_what_runs_at_the_same_time_shares_it():
    assert times(threads([[(100, 0)], [(100, 0)]])) == [50, 50]
    assert times(threads([[(100, 0)], [(50, 50)], [(50, 50)]])) == [50, 25, 25]


def test_when_none_runs_it_is_what_the_main_thread_waits_in():
    assert times(threads([[(0, 100)], [(0, 100)]])) == [100, 0]
    assert times(threads([[(0, 100)], [(30, 70)]])) == [70, 30]


def test_when_the_main_thread_is_gone_it_is_what_the_others_wait_in():
    assert times(threads([[(100, 0), (0, 0)], [(0, 100), (0, 100)], [(0, 100), (0, 100)]])) == [100, 50, 50]


def test_the_last_slice_is_as_long_as_the_run():
    assert times(threads([[(100, 0), (40, 0)], [(100, 0), (40, 0)]], length=140)) == [70, 70]


@given(st.lists(st.lists(st.integers(0, WIDTH), min_size=3, max_size=3), min_size=2, max_size=4))
def test_the_whole_is_the_run_s_own_time_where_the_main_thread_lives_to_its_end(shares):
    profile = threads([[(ran, WIDTH - ran) for ran in row] for row in shares])
    assert abs(with_elapsed(profile).total_ns - 3 * WIDTH) <= 3 * len(shares) + 3  # rounding
    assert (with_elapsed(profile).self_ns <= profile.self_ns + 3).all()


@given(st.lists(st.lists(st.integers(0, WIDTH), min_size=3, max_size=3), min_size=2, max_size=3))
def test_a_stretch_of_elapsed_time_is_a_part_of_the_whole(shares):
    profile = threads([[(ran, WIDTH - ran) for ran in row] for row in shares])
    parts = [read(profile, parse(f"elapsed time; slices {n} to {n + 1}")).total_ns for n in range(3)]
    assert abs(sum(parts) - read(profile, parse("elapsed time")).total_ns) <= 9 * len(shares)


def test_without_slices_it_is_the_main_thread_s_time():
    profile = threads([[(100, 0)], [(100, 0)]])
    none = np.zeros(0, np.int64)
    bare = replace(profile, slice_context=none, slice_number=none, slice_calls=none, slice_self_ns=none, slice_waiting_ns=none)
    assert times(bare) == [100, 0]


def test_calls_are_the_same_by_every_clock():
    profile = threads([[(100, 0)], [(50, 50)]])
    assert with_elapsed(profile).total_calls == profile.total_calls


def test_ceilings_are_of_the_clock_that_is_read():
    profile = threads([[(100, 0)], [(0, 100)]])
    shown = Shown(profile, None, profile)
    assert shown.clock_total_ns == 200
    assert shown.through(parse("elapsed time")).clock_total_ns == shown.elapsed_ns == 100


def test_the_timeline_tells_running_from_waiting_by_layer():
    line = timeline(threads([[(60, 40)], [(10, 90)]]))
    assert [int(stave.density.sum()) for stave in line.staves] == [100, 100]
    assert [int(stave.waiting_density.sum()) for stave in line.staves] == [40, 90]
    assert (line.staves[0].waiting_density <= line.staves[0].density).all()
