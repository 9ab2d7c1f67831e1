"""What is said of a run can be read back, and what is put together holds what it says: on random names, times, trees."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.layers import LAYERS
from ricerca.engine.lines import line_figures
from ricerca.engine.neighbours import edges, neighbours
from ricerca.engine.own_layers import OwnLayer, added, changed, from_toml, patterns_of, reshaped, to_toml, with_own_layers
from ricerca.engine.profile import build_profile
from ricerca.model.errors import InputError
from ricerca.report.expectation import Expectation, expectation_text, expectations
from ricerca.report.wording import short_name, time_ns, time_text

from .trees import runs

law = settings(max_examples=150, deadline=None)
words = st.from_regex(r"[a-z_][a-z0-9_]{0,6}", fullmatch=True)
dotted = st.lists(words, min_size=1, max_size=3).map(".".join)


@law
@given(st.integers(1, 10**13))
def test_a_time_that_is_written_reads_back_to_three_digits(ns):
    assert time_ns(time_text(ns)) == pytest.approx(ns, rel=0.0051, abs=0.5)


@law
@given(st.lists(dotted, min_size=1, max_size=6), st.sampled_from([1.5, 2, 10, 100]), st.integers(1000, 10**12), st.floats(1, 50))
def test_an_expectation_is_found_again_in_a_note(names, factor, total_ns, speedup):
    text = expectation_text(names, factor, total_ns, speedup)
    (found,) = expectations(f"Tried this.\n{text}\nAnd that.")
    assert found.text == text
    assert found.total_ns == pytest.approx(total_ns, rel=0.0051)
    assert expectations("Expected: nothing much, the run takes long.") == []


def test_what_came_of_an_expectation_is_said_with_its_direction():
    expected = Expectation("", 1e9)
    assert expected.held(1.01e9).endswith("as expected")
    assert expected.held(1.5e9).endswith("more time than expected")
    assert expected.held(0.5e9).endswith("less time than expected")


@law
@given(dotted, dotted, st.sampled_from(["/home/a/x.py", "/lib/p/q.py", "", "<string>"]))
def test_each_pattern_offered_for_a_function_holds_it_and_the_broader_ones_hold_more(module, name, file):
    choices = patterns_of(module, name, file)
    for _words, pattern in choices:
        assert OwnLayer("x", (pattern,)).pattern_for(module, name, file) == pattern
    packages = [pattern for said, pattern in choices if said in ("the module", "the package")]
    for narrow, broad in pairwise(packages):
        assert OwnLayer("x", (broad,)).pattern_for(narrow, "other", "") == broad
        assert OwnLayer("x", (narrow,)).pattern_for(broad, "other", "") is None


@law
@given(st.lists(st.tuples(words, dotted), max_size=5), words, dotted)
def test_layers_survive_toml_and_change_one_at_a_time(pairs, other, pattern):
    own: tuple[OwnLayer, ...] = ()
    for name, one in pairs:
        own = added(own, name, one)
    assert from_toml(to_toml(own)) == own
    for one in own:
        before = one.patterns[0]
        moved = reshaped(own, one.name, before, pattern)
        assert [layer for layer in moved if layer.name != one.name] == [layer for layer in own if layer.name != one.name]
        assert pattern in next(layer for layer in moved if layer.name == one.name).patterns
        renamed = changed(own, one.name, replace(one, name=f"{other}!", colour="#010203"))
        assert [layer.name for layer in renamed].count(f"{other}!") == 1
        for wrong in (replace(one, name=""), replace(one, patterns=()), replace(one, name=LAYERS[0]), replace(one, colour="red")):
            with pytest.raises(InputError):
                changed(own, one.name, wrong)


def test_the_first_layer_that_holds_a_function_wins():
    own = (OwnLayer("inner", ("a.b",)), OwnLayer("outer", ("a",)))
    assert with_own_layers(("mine",) * 3, own, ("a.b", "a.c", "z"), ("f", "f", "f"), ("", "", "")) == ("inner", "outer", "mine")


@law
@given(runs())
def test_neighbours_are_the_edges_put_together(tables):
    found = edges(build_profile(tables))
    for function in range(7):
        for side, mine, other in zip(neighbours(found, function), (found.callee, found.caller), (found.caller, found.callee), strict=True):
            rows = np.flatnonzero(mine == function)
            assert {one.function for one in side} == set(other[rows].tolist())
            for one in side:
                of_it = rows[other[rows] == one.function]
                assert (one.calls, one.inclusive_ns) == (found.calls[of_it].sum(), found.inclusive_ns[of_it].sum())
                assert list(one.lines) == sorted(found.line[of_it].tolist())
            assert [one.inclusive_ns for one in side] == sorted((one.inclusive_ns for one in side), reverse=True)


@law
@given(runs())
def test_the_calls_made_from_lines_are_those_of_python_callers(tables):
    profile = build_profile(tables)
    lines = line_figures(profile)
    from_python = (profile.parent >= 0) & (profile.line > 0)
    from_python &= np.asarray(profile.functions.kind)[profile.function[profile.parent]] == 1
    assert lines.calls.sum() == profile.calls[from_python].sum()
    assert (np.diff(lines.total_ns) <= 0).all()
    assert len(set(zip(lines.function.tolist(), lines.line.tolist(), strict=True))) == len(lines)


def test_long_names_are_cut_at_their_end():
    assert short_name("a" * 40 + ".end", 10) == "aaaaaaaaa…"
    assert short_name("short") == "short"
