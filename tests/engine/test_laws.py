"""Laws that hold for every run, on random trees."""

import numpy as np
from hypothesis import given, settings

from ricerca.engine.comparison import compare
from ricerca.engine.forest import not_nested
from ricerca.engine.lines import line_figures
from ricerca.engine.neighbours import edges
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import ORDERS, function_figures, ranked
from ricerca.engine.tree import children, heaviest_path, path_to, roots

from .trees import runs

law = settings(max_examples=150, deadline=None)


def slow_nested(profile, group):
    """The same by walking up, one context at a time."""
    found = []
    for context in range(len(profile)):
        above = int(profile.parent[context])
        while above >= 0 and group[above] != group[context]:
            above = int(profile.parent[above])
        found.append(above < 0)
    return found


@law
@given(runs(free=False))
def test_self_times_sum_to_the_total(tables):
    profile = build_profile(tables)
    figures = function_figures(profile)
    assert figures.self_ns.sum() == profile.total_ns
    assert figures.raw_self_ns.sum() == profile.raw_total_ns == tables.self_ns.sum()
    assert profile.inclusive_ns[profile.parent < 0].sum() == profile.total_ns


@law
@given(runs())
def test_preorder_keeps_every_context_once_and_children_inside_parents(tables):
    profile = build_profile(tables)
    assert sorted(profile.calls.tolist()) == sorted(tables.calls.tolist())
    for context in range(len(profile)):
        above = int(profile.parent[context])
        assert above < context < profile.end[context]
        if above >= 0:
            assert profile.end[context] <= profile.end[above]
            assert profile.depth[context] == profile.depth[above] + 1


@law
@given(runs())
def test_not_nested_agrees_with_walking_up(tables):
    profile = build_profile(tables)
    assert not_nested(profile.function, profile.end).tolist() == slow_nested(profile, profile.function)
    assert not_nested(profile.line, profile.end).tolist() == slow_nested(profile, profile.line)


@law
@given(runs(free=False))
def test_inclusive_never_exceeds_the_total_nor_falls_below_self(tables):
    profile = build_profile(tables)
    figures = function_figures(profile)
    assert (figures.inclusive_ns <= profile.total_ns).all()
    assert (figures.inclusive_ns >= figures.self_ns).all()
    assert (figures.first_entry_calls <= figures.calls).all()
    assert (figures.self_ns <= figures.raw_self_ns).all()


@law
@given(runs())
def test_calls_on_incoming_edges_sum_to_the_calls(tables):
    profile = build_profile(tables)
    found, figures = edges(profile), function_figures(profile)
    incoming = np.zeros(len(profile.functions), np.int64)
    np.add.at(incoming, found.callee, found.calls)
    assert incoming.tolist() == figures.calls.tolist()
    assert (found.inclusive_ns <= profile.total_ns).all()


@law
@given(runs())
def test_lines_hold_no_more_than_the_whole(tables):
    profile = build_profile(tables)
    lines = line_figures(profile)
    assert (lines.call_ns <= profile.total_ns).all()
    inner = (profile.parent >= 0) & (profile.line > 0)
    from_threads = inner & (profile.parent[profile.parent] < 0)
    assert lines.calls.sum() == profile.calls[inner & ~from_threads].sum()


@law
@given(runs(), runs())
def test_comparing_backwards_is_the_negative(base, new):
    there = compare(build_profile(base), build_profile(new))
    back = compare(build_profile(new), build_profile(base))
    gains = {(m.base, m.new): gain for m, gain in zip(there.matches, there.gain_ns, strict=True)}
    other = {(m.new, m.base): -gain for m, gain in zip(back.matches, back.gain_ns, strict=True)}
    assert gains == other
    assert sum(gains.values()) == there.base.total_ns - there.new.total_ns


@law
@given(runs())
def test_rankings_hold_every_function_once(tables):
    profile = build_profile(tables)
    figures = function_figures(profile)
    for by in ORDERS:
        order = ranked(figures, by)
        assert sorted(order.tolist()) == np.flatnonzero(figures.shown).tolist()
    assert (np.diff(figures.self_ns[ranked(figures, "self")]) <= 0).all()


@law
@given(runs())
def test_tree_levels_hold_every_context_once(tables):
    profile = build_profile(tables)
    seen, level = [], roots(profile).tolist()
    while level:
        seen += level
        level = [int(child) for context in level for child in children(profile, context)]
    assert sorted(seen) == np.flatnonzero(profile.parent >= 0).tolist()
    path = heaviest_path(profile, 0.0)
    assert path == path_to(profile, path[-1]) if path else True
