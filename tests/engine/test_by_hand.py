"""Figures of small runs, worked out by hand; and degenerate ones."""

import numpy as np
import pytest

from ricerca.engine.comparison import compare
from ricerca.engine.layers import layers_of
from ricerca.engine.lines import line_figures
from ricerca.engine.matching import GONE, MOVED, NEW, RENAMED, SAME
from ricerca.engine.neighbours import edges, neighbours
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import ceiling, function_figures, ranked
from ricerca.engine.source import function_spans, span_of, text_of
from ricerca.engine.tree import heaviest_path
from ricerca.engine.view import match_children, match_lines
from ricerca.model.run_tables import RunFacts

from .trees import tables_of

# main calls work (twice from line 3) and rest; work calls itself once more and leaf
NAMES = ["start", "main", "work", "leaf", "rest"]
PARENTS = [-1, 0, 1, 2, 3, 2, 1]
FUNCTIONS = [0, 1, 2, 2, 3, 3, 4]
SELF = [0, 5, 20, 30, 40, 7, 8]
CALLS = [0, 1, 2, 2, 6, 4, 1]
LINES = [0, 0, 3, 12, 13, 14, 4]


@pytest.fixture
def profile():
    return build_profile(tables_of(PARENTS, FUNCTIONS, SELF, CALLS, LINES, NAMES))


def test_self_inclusive_and_calls_by_function(profile):
    figures = function_figures(profile)
    assert figures.self_ns.tolist() == [0, 5, 50, 47, 8]
    assert figures.inclusive_ns.tolist() == [110, 110, 97, 47, 8]
    assert figures.calls.tolist() == [0, 1, 4, 10, 1]
    assert figures.first_entry_calls.tolist() == [0, 1, 2, 10, 1]
    assert [NAMES[n] for n in ranked(figures, "self")] == ["work", "leaf", "rest", "main"]
    assert [NAMES[n] for n in ranked(figures, "calls")] == ["leaf", "work", "main", "rest"]
    assert figures.per_call_ns[2] == 97 / 2


def test_edges_by_line(profile):
    found = edges(profile)
    rows = {(NAMES[c] if c >= 0 else None, NAMES[e], int(line)): (int(n), int(t))
            for c, e, line, n, t in zip(found.caller, found.callee, found.line, found.calls, found.inclusive_ns, strict=True)}  # fmt: skip
    assert rows == {
        (None, "main", 0): (1, 110),
        ("main", "work", 3): (2, 97),
        ("work", "work", 12): (2, 70),
        ("work", "leaf", 13): (6, 40),
        ("work", "leaf", 14): (4, 7),
        ("main", "rest", 4): (1, 8),
    }
    callers, callees = neighbours(found, 2)
    assert [(NAMES[one.function], one.calls) for one in callers] == [("main", 2), ("work", 2)]
    assert [(NAMES[one.function], one.calls, one.lines) for one in callees] == [("work", 2, (12,)), ("leaf", 10, (13, 14))]


def test_lines_count_what_they_called_once(profile):
    lines = line_figures(profile)
    found = {(NAMES[f], int(line)): int(t) for f, line, t in zip(lines.function, lines.line, lines.call_ns, strict=True)}
    assert found == {("main", 3): 97, ("work", 12): 70, ("work", 13): 40, ("work", 14): 7, ("main", 4): 8}


def test_heaviest_path_follows_the_slowest_child(profile):
    names = [NAMES[profile.function[context]] for context in heaviest_path(profile)]
    assert names == ["main", "work", "work", "leaf"]


def test_own_cost_is_deducted_from_callee_and_caller():
    facts = RunFacts(python_inside_ns=2.0, python_outside_ns=1.0)
    profile = build_profile(tables_of([-1, 0, 1], [0, 1, 2], [0, 100, 60], [0, 1, 10], facts=facts))
    assert profile.self_ns.tolist() == [0, 100 - 2 - 10, 60 - 20]
    assert profile.raw_self_ns.tolist() == [0, 100, 60]


def test_slowed_bytecode_is_deducted_from_brief_gaps_only():
    facts = RunFacts(bytecode_factor=4.0)
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 400, 400], facts=facts)
    tables.brief_ns[2] = 0  # one long gap: may be anything
    assert build_profile(tables).self_ns.tolist() == [0, 100, 400]


def test_plain_runs_scale_the_cost_within_bounds():
    facts = RunFacts(python_inside_ns=10.0)
    tables = tables_of([-1, 0, 1], [0, 1, 2], [0, 100, 1000], [0, 1, 40], facts=facts)
    fitted = build_profile(tables, plain_ns=590)
    assert fitted.total_ns == pytest.approx(590, abs=2)
    assert 1.0 < fitted.cost_scale <= 510 / 410 * 1.05
    assert build_profile(tables, plain_ns=1).cost_scale == pytest.approx(2.0, abs=0.001)


@pytest.mark.parametrize("count", [1, 2])
def test_runs_without_calls_have_empty_tables(count):
    profile = build_profile(tables_of([-1, 0][:count], [0, 1][:count]))
    figures = function_figures(profile)
    assert figures.inclusive_ns.max() == 10 * count
    assert len(line_figures(profile)) == 0
    assert len(heaviest_path(profile)) == count - 1


def test_deep_recursion_is_one_function():
    depth = 20_000
    profile = build_profile(tables_of([-1, *range(depth)], [0] + [1] * depth, [1] * (depth + 1)))
    figures = function_figures(profile)
    assert figures.inclusive_ns[1] == depth
    assert figures.first_entry_calls[1] == 1


def test_ceiling_of_nothing_and_of_everything():
    assert ceiling(0, 100) == 1.0
    assert ceiling(100, 100) == float("inf")


def test_functions_match_by_name_though_lines_moved():
    base = build_profile(tables_of([-1, 0, 0], [0, 1, 2], names=["s", "kept", "old"]))
    moved = tables_of([-1, 0, 0, 0], [0, 1, 2, 3], names=["s", "kept", "newer", "other"])
    moved.function_line[1] = 77
    found = compare(
        base, build_profile(moved), {2: "def old():\n    return 1"}, {2: "def newer():\n    return 1", 3: "def other():\n    pass"}
    )
    kinds = {(m.base, m.new): m.kind for m in found.matches}
    assert kinds == {(1, 1): MOVED, (2, 2): RENAMED, (-1, 3): NEW}
    again = compare(base, base)
    assert {m.kind for m in again.matches} == {SAME}
    assert {m.kind for m in compare(base, build_profile(moved)).matches} == {MOVED, NEW, GONE}


def test_lines_and_contexts_are_found_again_after_an_edit():
    base = build_profile(tables_of([-1, 0, 1, 1], [0, 1, 2, 2], lines=[0, 0, 3, 5]))
    new = build_profile(tables_of([-1, 0, 1, 1], [0, 1, 2, 2], lines=[0, 0, 13, 15]))
    found = compare(base, new)
    texts = ["b()", "a()"]  # the lines come in order of time, which is the same here
    rows = match_lines(found, line_figures(base), line_figures(new), texts, texts)
    assert rows.tolist() == [0, 1]
    assert match_children(found, np.asarray([2, 3]), 1) == [2, 3]
    assert match_children(found, np.asarray([2, 3]), -1) == [-1, -1]


def test_layers_are_told_by_place():
    files = ["/home/a/x.py", "/home/a/.venv/lib/python3.11/site-packages/numpy/core.py", "/usr/lib/python3.11/json/decoder.py",
             "<frozen posixpath>", "", "<string>", "/opt/other.py"]  # fmt: skip
    modules = ["x", "numpy.core", "json.decoder", "posixpath", "builtins", "json.decoder", "other"]
    kinds = [1, 1, 1, 1, 2, 1, 1]
    found = layers_of(files, modules, kinds, ["/home/a"])
    assert found == ("mine", "packages", "standard library", "standard library", "builtins", "standard library", "packages")


def test_code_made_while_running_lies_where_it_is_first_called_from():
    # start → my <module> → a package's function → exec → made; my <module> → exec → own
    files = ["", "/home/a/x.py", "/venv/lib/python3.11/site-packages/p/q.py", "", "<string>", "<string>"]
    function, parent = np.asarray([0, 1, 2, 3, 4, 3, 5, 4]), np.asarray([-1, 0, 1, 2, 3, 1, 5, 6])
    found = layers_of(files, ["", "x", "p.q", "builtins", "", ""], [3, 1, 1, 2, 1, 1], ["/home/a"], (function, parent))
    assert found == ("mine", "mine", "packages", "builtins", "packages", "mine")


def test_spans_count_decorators_and_survive_bad_source():
    text = "import a\n@a.b\n@a.c\ndef f():\n    x = 1\n    return x\n\nclass K:\n    def m(self):\n        pass\n"
    assert function_spans(text) == {2: 6, 8: 10, 9: 10}
    assert span_of(text, 2) == (2, 6)
    assert text_of(text, 9) == "    def m(self):\n        pass"
    assert function_spans("def (:") == {}
    assert span_of("a\nb", 1, module_body=True) == (1, 2)
