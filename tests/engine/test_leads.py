"""Leads: what deserves a look, told from small programs by hand, and laws on random ones."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from hypothesis import given, settings

from ricerca.engine import leads
from ricerca.engine.comparison import compare
from ricerca.engine.cycles import function_cycles
from ricerca.engine.leads import Scene, charges, find_leads
from ricerca.engine.lines import line_figures
from ricerca.engine.neighbours import edges
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import EVERYTHING, Reading, charged_functions, read
from ricerca.engine.slices import growing
from ricerca.model.marks import KIND_CHILD, KIND_COLLECTION, KIND_IMPORT
from ricerca.report.leads import lead_evidence, lead_sentence

from .test_reading import profiles, readings
from .trees import tables_of

law = settings(max_examples=120, deadline=None)
SECOND = 10**9


def scene_of(whole, reading=EVERYTHING, **more):
    shown = read(whole, reading)
    figures, found = function_figures(shown), edges(shown)
    uncharged = read(whole, replace(reading, charged=(), level="function")) if reading.charged or reading.level != "function" else shown
    return Scene(shown, figures, found, function_cycles(shown, found), uncharged, whole.total_ns, lines=line_figures(uncharged),
                 growing=growing(shown, figures.self_ns), charged=reading.charged, **more)  # fmt: skip


def told(*arguments, layers=None, kinds=None, waiting=None, reading=EVERYTHING, **more):
    """The leads of a program given as a tree."""
    tables = tables_of(*arguments)
    if kinds:
        kind = tables.function_kind.copy()
        for number, value in kinds.items():
            kind[number] = value
        tables = replace(tables, function_kind=kind)
    if waiting:
        tables = replace(tables, waiting_ns=np.asarray(waiting, np.int64))
    return find_leads(scene_of(build_profile(tables, layers), reading, **more))


@law
@given(profiles(), readings())
def test_leads_are_few_in_order_and_never_promise_more_than_there_is(profile, reading):
    scene = scene_of(profile, reading)
    found = find_leads(scene)
    assert len(found) <= leads.MOST + 1
    ranked = [one for one in found if one.kind != leads.LITTLE]
    assert [one.own_ns for one in ranked] == sorted((one.own_ns for one in ranked), reverse=True)
    for one in found:
        assert 0 <= one.own_ns <= scene.profile.total_ns
        assert one.ceiling >= 1
        assert one.own_ns <= one.inclusive_ns
        assert -1 <= one.function < len(scene.profile.functions)
        assert lead_sentence(one).endswith(".") and all(lead_evidence(one))
        assert one.evidence or one.kind in (leads.BODY, leads.SELDOM)
    about = [one.function for one in found if one.kind in (leads.BODY, leads.OFTEN, leads.SELDOM, leads.GROWS)]
    assert len(about) == len(set(about))


@law
@given(profiles())
def test_charges_by_line_are_what_the_charged_reading_adds(profile):
    away = charged_functions(profile, ("*",))
    found = charges(profile, away)
    own, charged = function_figures(profile), function_figures(read(profile, Reading(charged=("*",))))
    added = np.bincount(found.caller, found.self_ns, len(own.self_ns))
    mine = ~away
    assert (charged.self_ns - own.self_ns)[mine].tolist() == added[mine].tolist()


def test_a_fast_function_called_often_and_a_slow_one_called_twice_both_stand_out():
    found = told([-1, 0, 1, 1], [0, 1, 2, 3], [0, SECOND // 10, 4 * SECOND, 5 * SECOND], [0, 1, 500_000, 2],
                 [0, 5, 7, 8], ["start", "main", "tiny", "heavy"])  # fmt: skip
    assert [one.kind for one in found] == [leads.SELDOM, leads.OFTEN]
    assert lead_sentence(found[0]) == "2 calls of heavy take 55\u202f% of the run."
    assert lead_sentence(found[1]) == "tiny is called 500\u202f000 times, which adds up to 44\u202f% of the run."
    assert lead_evidence(found[1]) == ["8.00\u202fµs per call", "all calls come from main, line 7"]
    assert math.isclose(found[0].ceiling, 9.1 / 4.1)


def test_charged_time_is_told_with_the_line_it_was_asked_for_on():
    found = told([-1, 0, 1, 2, 1], [0, 1, 2, 3, 3], [0, SECOND, SECOND, 6 * SECOND, SECOND], [0, 40, 300, 900, 5], [0, 5, 7, 3, 9],
                 ["start", "fit", "solve", "dot", ""][:4], layers=("mine", "mine", "packages", "packages"),
                 reading=Reading(charged=("*",)))  # fmt: skip
    assert found[0].function == 1 and found[0].line == 7
    assert "line 7: 300 calls of solve, 7.00\u202fs" in lead_evidence(found[0])
    assert "and the library code it calls" in lead_sentence(found[0])


def test_waiting_is_told_with_its_class_and_only_where_waiting_counts():
    tree = ([-1, 0, 1, 2], [0, 1, 2, 3], [0, SECOND, 0, 3 * SECOND], [0, 1, 6, 6], [0, 5, 7, 9], ["start", "main", "nap", "sleep"])
    tables = replace(tables_of(*tree, builtins=frozenset({3})), waiting_ns=np.asarray([0, 0, 0, 3 * SECOND]))
    tables = replace(tables, function_module=("", "app", "app", "time"))
    whole, charged = build_profile(tables, ("mine", "mine", "mine", "builtins")), Reading(charged=("*",))
    (found, other) = find_leads(scene_of(whole, charged))
    assert found.kind == leads.WAITING and found.function == 2
    assert lead_sentence(found) == "The program waits for 75\u202f% of the run. It mostly waits for: sleep."
    assert other.function == 1, "a function that only waits is not told twice"
    assert find_leads(scene_of(whole))[0].function == 3
    assert leads.WAITING not in [one.kind for one in find_leads(scene_of(whole, charged, wall=False))]


def test_time_that_others_on_the_machine_took_is_no_waiting():
    tree = ([-1, 0, 1], [0, 1, 2], [0, SECOND, 3 * SECOND], [0, 1, 6], [0, 5, 7], ["start", "main", "cos"])
    for module, kinds in (("math", [leads.SELDOM, leads.SELDOM]), ("driver._speedups", [leads.WAITING, leads.SELDOM])):
        tables = replace(tables_of(*tree, builtins=frozenset({2})), waiting_ns=np.asarray([0, SECOND // 2, 3 * SECOND]))
        tables = replace(tables, function_module=("", "app", module))
        assert [one.kind for one in find_leads(scene_of(build_profile(tables)))] == kinds


def test_collections_imports_and_programs_are_told_from_where_they_ran():
    tree = ([-1, 0, 1, 1, 1, 3], [0, 1, 2, 3, 4, 3], [0, SECOND, SECOND, SECOND, SECOND, SECOND], [0, 1, 40, 2, 3, 1], [0, 5, 6, 7, 8, 2],
            ["start", "main", "garbage collection", "import numpy", "sort"])  # fmt: skip
    kinds = {2: KIND_COLLECTION, 3: KIND_IMPORT, 4: KIND_CHILD}
    layers = ("mine", "mine", "garbage collection", "imports", "programs")
    for reading in (Reading(), Reading(charged=("*",))):
        found = {one.kind: one for one in told(*tree, kinds=kinds, layers=layers, reading=reading)}
        assert lead_sentence(found[leads.COLLECTION]) == "Garbage is collected 40 times, which takes 20\u202f% of the run."
        assert lead_evidence(found[leads.COLLECTION]) == ["most of it under main, 1.00\u202fs"]
        assert lead_sentence(found[leads.IMPORTS]) == "Imports take 40\u202f% of the run."
        assert lead_evidence(found[leads.IMPORTS]) == ["3 modules; the slowest: import numpy 2.00\u202fs"]
        assert lead_sentence(found[leads.PROGRAMS]) == "3 other programs are started. Waiting for them takes 20\u202f% of the run."


def test_what_became_slower_is_told_with_the_function_it_is():
    tree = ([-1, 0, 1, 1], [0, 1, 2, 3])
    old, new = (
        build_profile(tables_of(*tree, [0, SECOND, fit, 20 * SECOND], names=["start", "main", "fit", "save"]))
        for fit in (SECOND, 2 * SECOND)
    )
    found = find_leads(scene_of(new, comparison=compare(old, new), base_number=1))
    fit = next(one for one in found if one.function == 2)
    assert fit.kind == leads.SELDOM
    assert "1.00\u202fs more than in round 1" in lead_evidence(fit)
    none = find_leads(scene_of(old, comparison=compare(new, old), base_number=1))
    assert not any("more than" in text for one in none for text in lead_evidence(one))


def test_a_flat_run_says_that_little_can_be_gained():
    count = 60
    found = told([-1] + [0] * count, list(range(count + 1)), [0] + [SECOND] * count)
    assert [one.kind for one in found] == [leads.LITTLE]
    assert lead_sentence(found[0]) == "No single place is worth much: the slowest function takes 1.7\u202f% of the run."


def test_nothing_runs_and_nothing_is_told():
    assert told([-1], [0], [0]) == ()


def test_a_function_that_only_imports_is_not_told_beside_the_imports():
    tree = ([-1, 0, 1, 1], [0, 1, 2, 3], [0, SECOND // 10, 3 * SECOND, SECOND], [0, 1, 1, 1], [0, 5, 6, 7],
            ["start", "main", "import numpy", "fit"])  # fmt: skip
    layers, charged = ("mine", "mine", "imports", "mine"), Reading(charged=("*",))
    found = told(*tree, kinds={2: KIND_IMPORT}, layers=layers, reading=charged)
    assert [one.kind for one in found] == [leads.IMPORTS, leads.SELDOM]
    assert found[1].function == 3
