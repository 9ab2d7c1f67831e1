"""How the graph takes the room of its page: cells, gaps, names, and what a node is called."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ricerca.desk.pages.graph_items import CELL_PX, GAP_PX, ROW_PX, Drawn, drawn_of, label_of, short_label
from ricerca.engine.graph import Graph, Node, Ribbon, lay_out

KEY = ("function", "mine", "f", "1")


def node(name, level="function", layer="mine", key=KEY, inclusive_ns=100, **more):
    return Node(name, level, "app", layer, (1,), 1, 10, inclusive_ns, -1, key, **more)


@st.composite
def graphs(draw):
    count = draw(st.integers(1, 40))
    nodes = tuple(
        node(f"f{n}", layer=draw(st.sampled_from(["mine", "packages", "builtins"])), inclusive_ns=draw(st.integers(1, 1000)))
        for n in range(count)
    )
    ribbons = [Ribbon(draw(st.integers(0, n - 1)), n, 1, nodes[n].inclusive_ns) for n in range(1, count)]
    return Graph(nodes, tuple(sorted(ribbons, key=lambda ribbon: -ribbon.inclusive_ns)), (), 1000)


@given(graphs(), st.integers(300, 2600), st.integers(200, 1500))
def test_cells_stay_within_their_limits_and_no_two_overlap(graph, width, height):
    drawn = drawn_of(None, graph, (float(width), float(height)))
    assert CELL_PX[0] <= drawn.cell <= CELL_PX[1]
    assert GAP_PX[0] <= drawn.gap <= GAP_PX[1]
    assert ROW_PX[0] <= drawn.row <= ROW_PX[1]
    places = [drawn.place(at) for at in range(len(graph.nodes))]
    bounds = drawn.bounds()
    for at, place in enumerate(places):
        assert bounds.contains(place)
        assert place.contains(drawn.pill(at)), "a pill lies in its cell"
        assert not any(place.intersects(other) for other in places[at + 1 :])


@given(graphs(), st.integers(300, 2600), st.integers(200, 1500))
def test_names_never_reach_into_the_next_cell(graph, width, height):
    drawn = drawn_of(None, graph, (float(width), float(height)))
    places = {(drawn.layout.column[at], drawn.layout.row[at]): drawn.place(at) for at in range(len(graph.nodes))}
    for at in range(len(graph.nodes)):
        right = places.get((drawn.layout.column[at] + 1, drawn.layout.row[at]))
        end = drawn.place(at).left() + drawn.name_room(at)
        assert right is None or end <= right.left()
        assert drawn.name_room(at) >= drawn.cell


@given(graphs())
def test_what_fits_fits_in_a_larger_page_too(graph):
    if drawn_of(None, graph, (730.0, 600.0)).fits:
        assert drawn_of(None, graph, (1500.0, 1200.0)).fits


@given(graphs())
def test_lanes_hold_their_nodes(graph):
    drawn = drawn_of(None, graph, (730.0, 600.0))
    bands = dict(drawn.bands())
    for at, one in enumerate(graph.nodes):
        assert bands[one.layer if one.layer in bands else "others"].contains(drawn.place(at))


@pytest.mark.parametrize(
    ("one", "expected"),
    [
        (node("fit"), "fit"),
        (node("read.<locals>.<listcomp>"), "read.<listcomp>"),
        (node("<module>"), "app module body"),
        (node("xml.dom.minidom", "module", key=("module", "mine", "xml.dom.minidom")), "minidom"),
        (node("xml.dom.minidom", "module", key=("module", "mine", "xml.dom.minidom"), rest=True), "rest of minidom"),
        (node("app.core.Box", "class", key=("class", "mine", "app.core.Box")), "Box"),
        (node("xml", "package", key=("package", "mine", "xml"), rest=True), "rest of xml"),
        (node("standard library", "layer", key=("layer", "standard library"), rest=True), "rest of standard library"),
        (node("app.core", "module"), "app.core"),
    ],
)
def test_a_node_is_called_by_what_tells_it_apart(one, expected):
    assert label_of(one) == expected
    assert short_label(replace(one, rest=False)) in expected or one.name == "<module>"


def test_an_empty_graph_can_be_drawn():
    graph = Graph((), (), (), 0)
    drawn = Drawn(None, graph, lay_out(graph), room=(730.0, 600.0))
    assert drawn.fits and drawn.bands() == []
