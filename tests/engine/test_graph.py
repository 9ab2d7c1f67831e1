"""The call graph: all time is in it, every node is reached, and what it is made of opens where the time is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.graph import DEFAULT_NODES, call_graph, lay_out, main_callers, seen_ribbons
from ricerca.engine.graph_groups import LAYER, path_of
from ricerca.engine.graph_text import to_dot, to_graphml
from ricerca.engine.profile import build_profile
from ricerca.engine.reading import EVERYTHING, Reading, read

from .test_reading import profiles, readings
from .trees import tables_of

law = settings(max_examples=120, deadline=None)


def boxes(self_ns=(0, 5, 10, 20, 30, 40)):
    """main calls two methods of a class, a helper of the same module, and something far away."""
    tables = tables_of(
        [-1, 0, 1, 2, 2, 1], [0, 1, 2, 3, 4, 5], list(self_ns), names=["start", "main", "Box.put", "Box.shut", "help", "far"]
    )
    tables = replace(tables, function_module=("", "a", "a.b", "a.b", "a.b", "a.c"))
    return build_profile(tables, ("mine", "mine", "packages", "packages", "packages", "standard library"))


def names(graph):
    return {(f"rest of {node.name}" if node.rest else node.name): node.self_ns for node in graph.nodes}


@law
@given(profiles(), readings(), st.integers(1, 12), st.data())
def test_all_time_is_in_the_picture_and_every_node_is_reached(profile, reading, most, data):
    shown = read(profile, reading)
    paths = [path_of(row, shown.functions, reading.level)[:-1] for row in range(len(shown.functions))]
    keys = sorted({key for path in paths for key in path})
    opened, folded = (data.draw(st.sets(st.sampled_from(keys))) if keys else set() for _ in range(2))
    graph = call_graph(shown, most, opened, folded, reading.level)
    assert sum(node.self_ns for node in graph.nodes) == shown.total_ns
    functions = [function for node in graph.nodes for function in node.functions]
    assert len(functions) == len(set(functions))
    assert all(0 <= node.self_ns <= node.inclusive_ns <= shown.total_ns for node in graph.nodes)
    ribbons = [graph.ribbons[at] for at in seen_ribbons(graph)]
    reached = {at for at, by in enumerate(main_callers(graph)) if by < 0}
    for _ in graph.nodes:
        reached |= {ribbon.callee for ribbon in ribbons if ribbon.caller in reached}
    assert reached == set(range(len(graph.nodes)))
    layout = lay_out(graph)
    assert len(set(zip(layout.column, layout.row, strict=True))) == len(graph.nodes), "no two lie in one place"


@law
@given(profiles(), readings())
def test_with_room_for_all_each_function_with_time_stands_for_itself(profile, reading):
    shown = read(profile, replace(reading, level="function"))
    graph = call_graph(shown, 10_000)
    timed = set(np.flatnonzero(np.bincount(shown.function, shown.self_ns, len(shown.functions)) > 0).tolist())
    alone = {node.functions[0] for node in graph.nodes if not node.folded}
    assert {row for row in timed if shown.functions.kind[row] in (1, 2)} <= alone


def test_the_largest_part_opens_first_and_the_rest_stays_one_node_each():
    profile = boxes()
    assert names(call_graph(profile, 1)) == {"main": 5, "a.b": 60, "far": 40}
    assert names(call_graph(profile, 4)) == {"main": 5, "help": 30, "a.b.Box": 30, "far": 40}
    assert names(call_graph(profile, 9)) == {"main": 5, "Box.put": 10, "Box.shut": 20, "help": 30, "far": 40}


def test_a_person_opens_and_folds_any_group():
    profile = boxes()
    module, layer = ("module", "packages", "a.b"), (LAYER, "packages")
    assert names(call_graph(profile, 9, folded=[module])) == {"main": 5, "a.b": 60, "far": 40}
    assert names(call_graph(profile, 9, folded=[layer])) == {"main": 5, "packages": 60, "far": 40}
    opened = call_graph(profile, 1, opened=[module])
    assert names(opened) == {"main": 5, "help": 30, "a.b.Box": 30, "far": 40}
    (box,) = [node for node in opened.nodes if node.name == "a.b.Box"]
    assert (box.level, box.module, box.layer, box.folded, len(box.functions)) == ("class", "a.b", "packages", True, 2)
    assert box.calls == 1, "calls within a group are not calls of the group"


def test_what_is_left_of_a_group_and_is_one_function_stands_for_itself():
    profile = boxes((0, 10_000, 10_000, 20_000, 3, 10_000))
    graph = call_graph(profile)
    assert names(graph) == {"main": 10_000, "Box.put": 10_000, "Box.shut": 20_000, "help": 3, "far": 10_000}
    assert sum(node.self_ns for node in graph.nodes) == profile.total_ns


def test_one_s_own_code_is_seen_by_function_even_where_it_only_calls():
    count = 80
    library = [f"lib{n}" for n in range(count)]
    tables = tables_of(
        [-1, 0, 1, 2, *[3] * count], list(range(4 + count)), [0, 0, 0, 0, *[10] * count], names=["start", "main", "run", "load", *library]
    )
    tables = replace(tables, function_module=("", "app", "app", "app", *[f"lib.m{n % 40}" for n in range(count)]))
    graph = call_graph(build_profile(tables, ("mine",) * 4 + ("packages",) * count))
    assert {"main", "run", "load"} <= set(names(graph))
    assert len(graph.nodes) <= DEFAULT_NODES + 2


def test_what_leads_to_the_first_branch_stands_in_one_column():
    tables = tables_of([-1, 0, 1, 2, 3, 3], [0, 1, 2, 3, 4, 5], [0, 1, 1, 1, 50, 50], names=["start", "main", "run", "work", "a", "b"])
    graph = call_graph(build_profile(tables))
    column = dict(zip([node.name for node in graph.nodes], lay_out(graph).column, strict=True))
    assert column == {"main": 0, "run": 0, "work": 0, "a": 1, "b": 1}


def test_small_layers_share_a_lane():
    layers = ("mine", "mine", "packages", "standard library", "builtins")
    tables = tables_of([-1, 0, 1, 1, 1], [0, 1, 2, 3, 4], [0, 10_000, 1, 2, 3000], names=["start", "main", "p", "s", "b"])
    lanes = [name for name, _first, _rows in lay_out(call_graph(build_profile(tables, layers))).lanes]
    assert lanes == ["mine", "builtins", "others"]


def test_the_round_compared_with_has_its_time_at_each_node_also_of_groups():
    profile, base = boxes(), boxes((0, 5, 10, 20, 30, 400))
    graph = call_graph(profile, 9, folded=[("module", "packages", "a.b")], base=base, match=lambda function: function)
    assert {node.name: node.base_ns for node in graph.nodes} == {"main": 465, "a.b": 60, "far": 400}
    gone = call_graph(profile, 9, base=base, match=lambda function: -1)
    assert {node.base_ns for node in gone.nodes} == {0}
    assert {node.base_ns for node in call_graph(profile, 9).nodes} == {None}


@pytest.mark.parametrize("profile", [build_profile(tables_of([-1], [0], [0])), build_profile(tables_of([-1, 0], [0, 1], [0, 0]))])
def test_a_run_without_time_has_a_graph_that_can_be_drawn(profile):
    graph = call_graph(profile)
    layout = lay_out(graph)
    assert len(layout.column) == len(layout.row) == len(graph.nodes)


def test_a_reading_by_module_opens_packages_only():
    profile = read(boxes(), Reading(level="module"))
    graph = call_graph(profile, 9, level="module")
    assert names(graph) == {"a": 5, "a.b": 60, "a.c": 40}
    assert {node.level for node in graph.nodes} == {"module"}
    assert graph.cycles == ()


def test_text_exports_hold_the_nodes_with_their_times():
    graph = call_graph(read(boxes(), EVERYTHING), folded=[(LAYER, "packages")])
    assert to_dot(graph).count("->") == len(graph.ribbons)
    text = to_graphml(graph)
    assert text.count("<edge ") == len(graph.ribbons)
    assert '<data key="level">layer</data>' in text and '<data key="self_ns">60</data>' in text


def test_twenty_thousand_functions_are_laid_out():
    count = 20_000
    rng = np.random.default_rng(1)
    parents = [-1, *(int(rng.integers(max(0, n - 300), n)) for n in range(1, count))]
    tables = tables_of(parents, list(range(count)), rng.integers(0, 1000, count).tolist(), names=[f"f{n}" for n in range(count)])
    tables = replace(tables, function_module=tuple(f"p{n % 60}.m{n % 900}" for n in range(count)))
    graph = call_graph(build_profile(tables, ("mine",) * 100 + ("packages",) * (count - 100)))
    assert len(graph.nodes) <= DEFAULT_NODES + 5
    assert len(lay_out(graph).column) == len(graph.nodes)


def test_little_parts_join_the_rest_around_them():
    count = 30
    tables = tables_of([-1, 0, *[1] * count], list(range(2 + count)), [0, 10_000, *[2] * count],
                       names=["start", "main", *(f"f{n}" for n in range(count))])  # fmt: skip
    tables = replace(tables, function_module=("", "a", *(f"p{n % 5}.m{n}" for n in range(count))))
    graph = call_graph(build_profile(tables, ("mine", "mine", *["packages"] * count)))
    assert names(graph) == {"main": 10_000, "packages": 60}
