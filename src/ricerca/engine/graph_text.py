"""A call graph as text that other programs read: DOT and GraphML."""

from __future__ import annotations

from xml.sax.saxutils import escape, quoteattr

from ricerca.engine.graph import Graph


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def to_dot(graph: Graph) -> str:
    """The graph in the DOT language, left to right, times in ns as attributes."""
    lines = ["digraph calls {", "  rankdir=LR;", "  node [shape=box, style=rounded];"]
    for at, node in enumerate(graph.nodes):
        lines.append(
            f"  n{at} [label={_quoted(node.name)}, level={_quoted(node.level)}, module={_quoted(node.module)}, layer={_quoted(node.layer)},"
            f" calls={node.calls}, self_ns={node.self_ns}, inclusive_ns={node.inclusive_ns}];"
        )
    lines += [
        f'  n{ribbon.caller} -> n{ribbon.callee} [label="{ribbon.calls}", calls={ribbon.calls}, inclusive_ns={ribbon.inclusive_ns}];'
        for ribbon in graph.ribbons
    ]
    return "\n".join([*lines, "}", ""])


def to_graphml(graph: Graph) -> str:
    """The graph as GraphML, the same attributes."""
    keys = [("name", "node", "string"), ("level", "node", "string"), ("module", "node", "string"), ("layer", "node", "string"),
            ("calls", "all", "long"), ("self_ns", "node", "long"), ("inclusive_ns", "all", "long")]  # fmt: skip
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', '<graphml xmlns="http://graphml.graphdrawing.org/xmlns">']
    lines += [f'  <key id="{name}" for="{owner}" attr.name="{name}" attr.type="{kind}"/>' for name, owner, kind in keys]
    lines.append('  <graph edgedefault="directed">')
    for at, node in enumerate(graph.nodes):
        lines.append(f'    <node id="n{at}">')
        lines += [f"      <data key={quoteattr(name)}>{escape(str(getattr(node, name)))}</data>" for name, owner, _kind in keys]
        lines.append("    </node>")
    for number, ribbon in enumerate(graph.ribbons):
        lines.append(f'    <edge id="e{number}" source="n{ribbon.caller}" target="n{ribbon.callee}">')
        lines += [f'      <data key="{name}">{getattr(ribbon, name)}</data>' for name in ("calls", "inclusive_ns")]
        lines.append("    </edge>")
    return "\n".join([*lines, "  </graph>", "</graphml>", ""])
