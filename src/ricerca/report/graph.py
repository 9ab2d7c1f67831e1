"""The call graph of a pair of rounds, the same in the window, in pictures and as text."""

from __future__ import annotations

from ricerca.engine.graph import DEFAULT_NODES, Graph, call_graph
from ricerca.engine.graph_groups import Key
from ricerca.engine.graph_text import to_dot, to_graphml
from ricerca.loading import Pair

GRAPHS = {".dot": to_dot, ".graphml": to_graphml}
"""How a graph is written as text, by suffix."""
PICTURES = (".svg", ".pdf", ".png")


def graph_of(pair: Pair, nodes: int | None = None, opened: frozenset[Key] = frozenset(), folded: frozenset[Key] = frozenset()) -> Graph:
    """The call graph of the new round, with the times of the base where there is one.

    Parameters
    ----------
    nodes : int, optional
        About how many; the usual number where left out.
    """
    comparison = pair.comparison
    base = pair.base.profile if pair.base is not None and comparison is not None else None
    new = {match.base: match.new for match in comparison.matches if match.base >= 0} if comparison is not None else {}
    return call_graph(pair.new.profile, nodes or DEFAULT_NODES, opened, folded, pair.new.reading.level, base,
                      lambda function: new.get(function, -1), pair.new.figures)  # fmt: skip
