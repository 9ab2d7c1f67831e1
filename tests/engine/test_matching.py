"""Functions of two states of the code, found again though they were moved, renamed or edited."""

from __future__ import annotations

import numpy as np

from ricerca.engine.comparison import compare
from ricerca.engine.matching import GONE, MOVED, NEW, RENAMED, SAME
from ricerca.engine.profile import build_profile

from .trees import tables_of


def profile(names, modules, lines):
    """Each function called once from the start."""
    count = len(names)
    tables = tables_of([-1] + [0] * count, range(count + 1), names=["start", *names])
    tables.function_line[1:] = lines
    object.__setattr__(tables, "function_module", ("", *modules))
    object.__setattr__(tables, "function_file", ("", *(f"/p/{module}.py" for module in modules)))
    return build_profile(tables)


def kinds(base, new, base_text, new_text):
    """Name in the new state (or the old one) to how it is matched, and whether it was edited."""
    found = compare(base, new, base_text, new_text)
    return {
        (found.new.functions.name[m.new] if m.new >= 0 else found.base.functions.name[m.base]): (m.kind, bool(edited))
        for m, edited in zip(found.matches, found.edited, strict=True)
    }


BODY = "def work(rows):\n    total = 0\n    for row in rows:\n        total += row\n    return total"


def test_a_function_that_moved_to_another_module_is_found_by_its_text():
    base = profile(["work", "rest"], ["main", "main"], [1, 9])
    new = profile(["work", "rest"], ["helpers", "main"], [30, 1])
    found = kinds(base, new, {1: BODY, 2: "def rest(): pass"}, {1: BODY, 2: "def rest(): pass"})
    assert found == {"work": (MOVED, False), "rest": (MOVED, False)}


def test_a_function_with_another_name_in_another_module_is_found_by_its_body():
    base, new = profile(["work"], ["main"], [1]), profile(["summed"], ["helpers"], [5])
    assert kinds(base, new, {1: BODY}, {1: BODY.replace("work", "summed")}) == {"summed": (RENAMED, False)}
    other = BODY.replace("+=", "-=")
    assert {kind for kind, _edited in kinds(base, new, {1: BODY}, {1: other}).values()} == {GONE, NEW}


def test_lambdas_of_one_name_are_told_apart_by_text_before_order():
    name = "<lambda>"
    base = profile([name, name], ["m", "m"], [3, 4])
    new = profile([name, name], ["m", "m"], [5, 6])
    first, second = "key=lambda a: a.x", "key=lambda a: a.y"
    found = compare(base, new, {1: first, 2: second}, {1: second, 2: first})
    assert {(m.base, m.new) for m in found.matches} == {(1, 2), (2, 1)}
    assert not found.edited.any()


def test_edited_means_that_the_text_reads_otherwise():
    base, new = profile(["a", "b", "c"], ["m"] * 3, [1, 5, 9]), profile(["a", "b", "c"], ["m"] * 3, [1, 5, 9])
    found = kinds(
        base, new,
        {1: "def a():\n    return 1", 2: "def b():  \n    return 1\n", 3: "def c(): pass"},
        {1: "def a():\n    return 2", 2: "def b():\n    return 1"},
    )  # fmt: skip
    assert found == {"a": (SAME, True), "b": (SAME, False), "c": (SAME, False)}  # of c nothing was kept now


def test_a_comparison_the_other_way_round_matches_the_same_functions():
    base = profile(["work", "old", "kept"], ["main", "main", "x"], [1, 9, 3])
    new = profile(["work", "fresh", "kept"], ["helpers", "main", "x"], [30, 1, 4])
    there = compare(base, new, {1: BODY}, {1: BODY})
    back = compare(new, base, {1: BODY}, {1: BODY})
    assert {(m.base, m.new) for m in there.matches} == {(m.new, m.base) for m in back.matches}
    assert np.array_equal(np.sort(there.gain_ns), np.sort(-back.gain_ns))
