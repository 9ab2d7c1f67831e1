"""The reading: laws for every clause and their combinations, and figures worked out by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from ricerca.engine.cycles import function_cycles
from ricerca.engine.forest import not_nested
from ricerca.engine.graph import call_graph, lay_out
from ricerca.engine.graph_text import to_dot, to_graphml
from ricerca.engine.levels import LEVELS
from ricerca.engine.neighbours import edges
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import ALL_OTHERS, CLOCKS, EVERYTHING, Reading, parse, read, unknown_names
from ricerca.engine.reducing import merged
from ricerca.engine.slices import counterpart, growth
from ricerca.engine.timeline import timeline
from ricerca.engine.tree import children, path_to, roots
from ricerca.model.errors import InputError

from .trees import runs, tables_of

law = settings(max_examples=120, deadline=None)
LAYERS = ("mine", "mine", "packages", "builtins", "imports", "standard library", "packages")
NAMES = [f"f{n}" for n in range(1, 7)]


@st.composite
def profiles(draw):
    """A run with layers, waiting and four slices."""
    tables = draw(runs())
    count = len(tables.parent)
    rows = [(context, number) for context in range(1, count) for number in range(4)]
    times = np.asarray([draw(st.integers(0, 10**6)) for _ in rows], np.int64)
    calls = np.asarray([draw(st.integers(0, 9)) for _ in rows], np.int64)
    context = np.asarray([row[0] for row in rows], np.int64)
    waiting = times // draw(st.integers(2, 9))
    totals = {"self_ns": times, "brief_ns": times * 0, "waiting_ns": waiting, "calls": calls}
    tables = replace(
        tables,
        slice_context=context, slice_number=np.asarray([row[1] for row in rows], np.int64), slice_calls=calls,
        slice_self_ns=times, slice_waiting_ns=waiting,
        **{name: np.bincount(context, values, count).astype(np.int64) if len(rows) else np.zeros(count, np.int64)
           for name, values in totals.items()},
    )  # fmt: skip
    return build_profile(tables, LAYERS)


def readings(**fixed):
    names = st.lists(st.sampled_from(NAMES), max_size=1).map(tuple)
    charged = st.lists(st.sampled_from([ALL_OTHERS, "packages", *NAMES]), max_size=2, unique=True).map(tuple)
    parts = {"clock": st.sampled_from(CLOCKS), "raw": st.booleans(), "inside": names, "without": names, "charged": charged, "level": st.sampled_from(LEVELS),
                 "stretch": st.none() | st.tuples(st.integers(0, 2), st.integers(2, 4)), "machinery": st.booleans()}  # fmt: skip
    return st.builds(Reading, **{**parts, **{name: st.just(value) for name, value in fixed.items()}})


def check(profile):
    """What holds for every profile, read or not."""
    count = len(profile)
    assert (profile.parent < np.arange(count)).all()
    inner = np.flatnonzero(profile.parent >= 0)
    assert (profile.end[inner] <= profile.end[profile.parent[inner]]).all()
    assert (profile.depth[inner] == profile.depth[profile.parent[inner]] + 1).all()
    figures = function_figures(profile)
    assert figures.self_ns.sum() == profile.total_ns
    assert (figures.self_ns >= 0).all()
    assert (figures.inclusive_ns <= profile.total_ns).all()
    assert profile.inclusive_ns[profile.parent < 0].sum() == profile.total_ns
    found = edges(profile)
    called = np.bincount(found.callee, found.calls, len(profile.functions)) if len(found) else np.zeros(len(profile.functions))
    assert (called == figures.calls - profile.overflow_calls - np.bincount(profile.function[profile.parent < 0],
            profile.calls[profile.parent < 0], len(profile.functions))).all()  # fmt: skip


@law
@given(profiles(), readings())
def test_every_reading_gives_a_profile_that_keeps_the_laws(profile, reading):
    found = read(profile, reading)
    check(found)
    together = merged(found)
    check(together)
    assert together.total_ns == found.total_ns
    assert function_figures(together).inclusive_ns.tolist() == function_figures(found).inclusive_ns.tolist()


@law
@given(profiles(), readings(inside=(), without=(), stretch=None, clock="wall", raw=False))
def test_charging_folding_and_levels_move_time_but_never_create_or_lose_it(profile, reading):
    assert read(profile, reading).total_ns == profile.total_ns


@law
@given(profiles(), st.sampled_from(NAMES), readings(inside=(), without=(), charged=(), level="function"))
def test_inside_and_without_make_the_whole(profile, name, rest):
    inside, without = read(profile, replace(rest, inside=(name,))), read(profile, replace(rest, without=(name,)))
    whole = read(profile, rest)
    assert inside.total_ns + without.total_ns == whole.total_ns
    if rest.machinery:  # what is folded in the whole may have nothing around it in a part
        assert inside.calls.sum() + without.calls.sum() == whole.calls.sum()
    function = profile.functions.name.index(name) if name in profile.functions.name else -1
    assert not (without.function == function).any()


@law
@given(profiles(), readings(clock="wall", raw=False, stretch=None, level="function"))
def test_clauses_together_are_the_clauses_one_after_another(profile, reading):
    _ = profile.outermost  # what is known of the tree is taken along
    stepwise = profile
    for name in reading.inside:
        stepwise = read(stepwise, Reading(inside=(name,)))
    for name in reading.without:
        stepwise = read(stepwise, Reading(without=(name,)))
    stepwise = read(read(stepwise, Reading(machinery=reading.machinery)), Reading(charged=reading.charged))
    together = read(profile, reading)
    for name in ("parent", "end", "function", "line", "calls", "self_ns", "raw_self_ns", "waiting_ns", "slice_self_ns", "slice_calls"):
        assert getattr(together, name).tolist() == getattr(stepwise, name).tolist(), name
    assert together.outermost.tolist() == not_nested(together.function, together.end).tolist()


@law
@given(profiles(), readings(clock="wall", raw=True, stretch=None))
def test_on_cpu_and_waiting_make_the_wall(profile, reading):
    parts = [read(profile, replace(reading, clock=clock)).total_ns for clock in ("on-CPU", "waiting")]
    assert sum(parts) == read(profile, reading).total_ns


@law
@given(profiles(), st.integers(0, 4), readings(raw=True, clock="wall", stretch=None, level="function", charged=()))
def test_stretches_add_up(profile, at, reading):
    parts = [read(profile, replace(reading, stretch=part)) for part in ((0, at), (at, 4))]
    whole = read(profile, reading)
    assert sum(part.calls.sum() for part in parts) == whole.calls.sum()
    assert sum(part.total_ns for part in parts) == whole.total_ns


@law
@given(profiles(), st.integers(0, 3), st.integers(1, 4))
def test_a_run_did_the_work_of_a_stretch_in_that_stretch(profile, first, length):
    assume(profile.slice_count > first)
    last = min(first + length, profile.slice_count)
    assert counterpart(profile, first, last, profile) == (first, last)


def sliced(*steps):
    """A run of the functions f1 and f2, each called so often in each slice."""
    calls = np.asarray(steps, np.int64)
    number, context = np.nonzero(calls)
    made = calls[number, context]
    tables = tables_of([-1, 0, 0], [0, 1, 2], [0, *(calls.sum(0) * 100)], [0, *calls.sum(0)], [0, 1, 2])
    return build_profile(replace(tables, slice_context=context + 1, slice_number=number, slice_calls=made,
                                 slice_self_ns=made * 100, slice_waiting_ns=made * 0))  # fmt: skip


def test_the_work_of_a_stretch_is_found_again_where_another_run_did_it():
    slow = sliced(*[(2, 0)] * 10, *[(0, 1)] * 10)
    quick_start = sliced(*[(10, 0)] * 2, *[(0, 1)] * 10)
    assert counterpart(slow, 0, 10, quick_start) == (0, 2)
    assert counterpart(slow, 10, 20, quick_start) == (2, 12)
    assert counterpart(quick_start, 2, 7, slow) == (10, 15)


def test_without_common_marks_time_itself_is_the_mark():
    assert counterpart(sliced(*[(1, 0)] * 8), 2, 6, sliced(*[(3, 0)] * 4)) == (1, 3)
    assert counterpart(sliced((1, 0)), 0, 1, build_profile(tables_of([-1, 0], [0, 1]))) is None


def test_a_sentence_may_name_its_rounds():
    found = parse("round 3; against round 1; inside fit")
    assert (found.round, found.against, found.of_any_round) == (3, 1, Reading(inside=("fit",)))
    assert parse(found.text) == found


@law
@given(readings())
def test_a_reading_is_what_its_sentence_says(reading):
    assert parse(reading.text) == reading
    assert parse("everything") == EVERYTHING


def test_a_sentence_that_is_not_understood_says_which_part():
    with pytest.raises(InputError, match="by colour"):
        parse("on-CPU time; by colour")


# main calls a, b, c; each calls the wrapper, which calls the real one.
WRAPPED = tables_of(
    [-1, 0, 1, 1, 1, 2, 3, 4, 5, 6, 7], [0, 1, 2, 3, 4, 5, 5, 5, 6, 6, 6], [0, 10, 1, 2, 3, 40, 50, 60, 100, 200, 300],
    [0, 1, 1, 1, 1, 4, 5, 6, 4, 5, 6], [0, 0, 11, 12, 13, 21, 31, 41, 7, 7, 7], ["start", "main", "a", "b", "c", "checked", "real"],
)  # fmt: skip


def test_a_wrapper_charged_to_its_three_places_of_application():
    found = read(build_profile(WRAPPED), parse("charging checked"))
    figures = function_figures(found)
    names = found.functions.name
    own = dict(zip(names, figures.self_ns.tolist(), strict=True))
    assert own == {"start": 0, "main": 10, "a": 41, "b": 52, "c": 63, "checked": 0, "real": 600}
    lines = {(names[c], names[f], int(line)): int(n) for c, f, line, n in
             zip(*(getattr(edges(found), part) for part in ("caller", "callee", "line", "calls")), strict=True) if c >= 0}  # fmt: skip
    assert lines[("a", "real", 21)] == 4
    assert lines[("b", "real", 31)] == 5
    assert lines[("c", "real", 41)] == 6


def test_a_library_used_by_two_functions_of_mine_forty_to_sixty():
    tables = tables_of(
        [-1, 0, 1, 1, 2, 3, 4, 5],
        [0, 1, 2, 3, 4, 4, 5, 5],
        [0, 0, 0, 0, 30, 50, 10, 10],
        names=["start", "main", "fit", "draw", "solve", "dot"],
    )
    profile = build_profile(tables, ("mine", "mine", "mine", "mine", "packages", "builtins"))
    found = read(profile, parse("charged to my code"))
    own = dict(zip(found.functions.name, function_figures(found).self_ns.tolist(), strict=True))
    assert (own["fit"], own["draw"], own["solve"], own["dot"]) == (40, 60, 0, 0)
    assert found.total_ns == 100


def test_a_cycle_of_three_entered_from_two_places():
    # main → a → b → c → a …; other → b → c
    tables = tables_of(
        [-1, 0, 1, 2, 3, 4, 1, 6, 7, 0], [0, 1, 2, 3, 4, 2, 5, 3, 4, 6], [0, 5, 10, 20, 30, 40, 7, 50, 60, 9], [0, 1, 2, 3, 4, 5, 1, 6, 7, 1],
        names=["start", "main", "a", "b", "c", "other", "lone"],
    )  # fmt: skip
    graph = call_graph(build_profile(tables))
    (cycle,) = graph.cycles
    assert sorted(graph.nodes[at].name for at in cycle.members) == ["a", "b", "c"]
    assert cycle.inclusive_ns == (10 + 20 + 30 + 40) + (50 + 60)
    assert cycle.entries == 2 + 6
    assert cycle.inner_calls == 3 + 4 + 5 + 7
    (of_functions,) = function_cycles(build_profile(tables), edges(build_profile(tables)))
    assert of_functions.members == (2, 3, 4)
    assert (of_functions.entries, of_functions.inner_calls, of_functions.inclusive_ns, of_functions.self_ns) == (8, 19, 210, 210)
    assert all(node.cycle == (0 if node.name in "abc" else -1) for node in graph.nodes)
    places = lay_out(graph)
    assert places.column[[node.name for node in graph.nodes].index("main")] == 0
    assert to_dot(graph).count("->") == len(graph.ribbons)
    assert to_graphml(graph).count("<edge ") == len(graph.ribbons)


@law
@given(profiles(), readings())
def test_a_cycle_has_the_time_of_its_entries_and_its_calls_come_from_outside_or_inside(profile, reading):
    found = read(profile, reading)
    for one in function_cycles(found, edges(found)):
        here = np.isin(found.function, one.members) & (found.parent >= 0)
        above = [{int(n) for n in path_to(found, context)[:-1]} for context in np.flatnonzero(here)]
        tops = [context for context, callers in zip(np.flatnonzero(here), above, strict=True) if not any(here[n] for n in callers)]
        assert one.inclusive_ns == found.inclusive_ns[tops].sum() <= found.total_ns
        assert one.self_ns == found.self_ns[here].sum() <= one.inclusive_ns
        assert one.entries + one.inner_calls == found.calls[here].sum()
        assert one.entries == sum(found.calls[n] for n in np.flatnonzero(here) if not here[found.parent[n]])


def test_a_chain_leads_through_code_that_is_charged_only_where_it_is_charged():
    # main > fit > solve (packages) > step (mine), and main > step
    tables = tables_of(
        [-1, 0, 1, 2, 3, 1], [0, 1, 2, 3, 4, 4], [0, 1, 10, 100, 1000, 10_000], names=["start", "main", "fit", "solve", "step"]
    )
    profile = build_profile(tables, ("mine", "mine", "mine", "packages", "mine"))
    chain = Reading(inside=("fit > step",))
    assert read(profile, chain).total_ns == 0
    assert read(profile, replace(chain, charged=("packages",))).total_ns == 1000
    assert read(profile, Reading(inside=("main > fit > step",), charged=("packages",))).total_ns == 1000
    assert read(profile, Reading(without=("main > step",), charged=("packages",))).total_ns == 1111


def test_inside_a_chain_takes_part_of_a_functions_calls():
    tables = tables_of(
        [-1, 0, 1, 1, 2, 3], [0, 1, 2, 3, 4, 4], [0, 1, 2, 3, 40, 60], [0, 1, 1, 1, 400, 600], names=["start", "main", "a", "b", "f"]
    )
    profile = build_profile(tables)
    for sentence, calls, self_ns in (("inside a", 400, 40), ("inside b > f", 600, 60), ("without a", 600, 60), ("inside f", 1000, 100)):
        found = read(profile, parse(sentence))
        figures, function = function_figures(found), found.functions.name.index("f")
        assert (figures.calls[function], figures.self_ns[function]) == (calls, self_ns)
    assert read(profile, parse("inside nothing")).total_ns == 0


def test_levels_put_methods_and_modules_together():
    tables = replace(
        tables_of([-1, 0, 1, 2, 3], [0, 1, 2, 3, 4], names=["start", "main", "K.first", "K.second", "helper"]),
        function_module=("", "app.core", "app.core", "app.core", "app.tools"),
    )
    profile = build_profile(tables)
    by_class = function_figures(found := read(profile, parse("by class")))
    assert by_class.calls[found.functions.name.index("K")] == 1  # second is called from within
    assert by_class.self_ns[found.functions.name.index("K")] == 20
    found = read(profile, parse("by module"))
    assert [int(function_figures(found).self_ns[found.functions.name.index(name)]) for name in ("app.core", "app.tools")] == [30, 10]
    found = read(profile, parse("by package"))
    assert int(function_figures(found).inclusive_ns[found.functions.name.index("app")]) == 40


def test_the_tree_of_a_reading_has_no_twins():
    tables = tables_of(
        [-1, 0, 1, 1, 2, 3], [0, 1, 2, 3, 4, 4], [0, 1, 2, 3, 40, 60], lines=[0, 0, 5, 5, 7, 8], names=["start", "main", "w", "v", "f"]
    )
    found = merged(read(build_profile(tables), parse("charging w; charging v")))
    (main,) = roots(found)
    (only,) = children(found, int(main))
    assert (found.functions.name[found.function[only]], int(found.self_ns[only]), int(found.calls[only])) == ("f", 100, 2)


def test_growth_tells_what_rises_from_what_stays():
    tables = tables_of([-1, 0, 0], [0, 1, 2], [0, 2000, 2000], names=["start", "rising", "steady"])
    number = np.tile(np.arange(20), 2)
    tables = replace(
        tables,
        slice_context=np.repeat([1, 2], 20), slice_number=number, slice_calls=np.full(40, 10),
        slice_self_ns=np.concatenate((np.arange(20) * 10 + 5, np.full(20, 100))), slice_waiting_ns=np.zeros(40, np.int64),
    )  # fmt: skip
    profile = build_profile(tables)
    assert growth(profile, 1).rises
    assert not growth(profile, 2).rises
    assert growth(profile, 0) is None


def test_the_timeline_finds_where_the_mix_of_functions_changes():
    tables = tables_of([-1, 0, 0], [0, 1, 2], [0, 6000, 6000], names=["start", "early", "late"])
    tables = replace(
        tables,
        slice_context=np.repeat([1, 2], 60), slice_number=np.arange(120), slice_calls=np.ones(120, np.int64),
        slice_self_ns=np.full(120, 100), slice_waiting_ns=np.zeros(120, np.int64), facts=replace(tables.facts, slice_ns=100.0),
        span_context=np.asarray([1, 2]), span_start_ns=np.asarray([0, 6000]), span_end_ns=np.asarray([6000, 12000]),
    )  # fmt: skip
    line = timeline(build_profile(tables))
    assert [abs(at - 60) <= 2 for at in line.phases] == [True]
    assert line.staves[0].density.sum() == 12000
    assert line.staves[0].spans == ((1, 0, 6000, 0), (2, 6000, 12000, 0))


def test_a_part_far_below_the_root_is_found_however_long_the_way(monkeypatch):
    for steps in (100, 3):
        monkeypatch.setattr("ricerca.engine.reducing.MOST_STEPS", steps)
        tables = tables_of(list(range(-1, 12)), [0] + [1] * 11 + [2], [0] + [5] * 11 + [7], lines=[0, *range(1, 13)])
        found = read(build_profile(tables), parse("inside f2"))
        assert (found.total_ns, found.parent.tolist(), found.line.tolist()) == (7, [-1, 0], [0, 1])


def growing_tables(times, calls, waits=None, kind=1):
    """One function called by another over slices of time."""
    count = len(times)
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 0, int(sum(times))], names=["start", "main", "f"])
    return replace(
        tables, function_kind=np.asarray([3, 1, kind]), slice_context=np.full(count, 2), slice_number=np.arange(count),
        slice_calls=np.asarray(calls), slice_self_ns=np.asarray(times), slice_waiting_ns=np.asarray(waits or [0] * count),
    )  # fmt: skip


def test_waits_and_builtins_do_not_grow():
    rising, calls = [100 * n + 50 for n in range(24)], [10] * 24
    assert growth(build_profile(growing_tables(rising, calls)), 2).rises
    assert growth(build_profile(growing_tables(rising, calls, kind=2)), 2) is None
    found = growth(build_profile(growing_tables(rising, calls, waits=[max(t - 50, 0) for t in rising])), 2)
    assert not found.rises  # what rises is waiting


def test_time_of_a_long_call_is_its_own_also_where_no_call_began():
    times, calls = [10, 100, 100] * 8, [1, 0, 0] * 8
    found = growth(build_profile(growing_tables(times, calls)), 2)
    assert sum(found.per_call_ns) == 8 * 210
    assert not found.rises


def test_noise_without_a_trend_is_hardly_ever_taken_for_growth():
    rng = np.random.default_rng(11)
    marked = 0
    for _ in range(400):
        times = rng.lognormal(8, 1.2, 24).astype(int) + 1  # as restless as machines get
        marked += growth(build_profile(growing_tables(times.tolist(), [10] * 24)), 2).rises
    assert marked <= 8


def test_a_cycle_is_of_functions_that_call_each_other_by_themselves():
    tables = tables_of([-1, 0, 1, 2, 3, 4], [0, 1, 2, 3, 1, 2], names=["start", "encode", "visit", "sorted", "-", "-"])
    kinds = np.asarray([3, 1, 1, 2, 1, 1])
    through_builtin = replace(tables, function_kind=kinds)  # encode -> visit -> sorted -> encode
    profile = build_profile(through_builtin)
    assert function_cycles(profile, edges(profile)) == ()
    direct = tables_of([-1, 0, 1, 2, 3], [0, 1, 2, 1, 2], names=["start", "encode", "visit"])
    profile = build_profile(direct)
    (cycle,) = function_cycles(profile, edges(profile))
    assert [profile.functions.name[n] for n in cycle.members] == ["encode", "visit"]


def test_names_that_the_run_does_not_have_are_told():
    profile = build_profile(tables_of([-1, 0, 1], [0, 1, 2], names=["start", "main", "fit"]))
    assert unknown_names(profile, parse("inside fit; without main; charged to my code; charging mine")) == ()
    assert unknown_names(profile, parse("inside main > fot; charging nobody; thread T9; process 77")) == ("fot", "nobody", "T9", "77")
