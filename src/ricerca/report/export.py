"""Saves a round in open formats: CSV, JSON, Markdown."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import numpy as np
from jinja2 import Environment, StrictUndefined

from ricerca.engine.timeline import timeline
from ricerca.loading import Loaded, Pair
from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.report.facts import comparison_facts, edge_rows, function_rows, line_rows, round_facts
from ricerca.report.graph import GRAPHS, PICTURES, graph_of
from ricerca.report.notes import comparison_notes
from ricerca.report.wording import count_text, factor_text, share_text, time_text

FORMATS = (".csv", ".json", ".md", ".html", *GRAPHS, *PICTURES)

_MARKDOWN = """\
### {{ facts.round_name }}: {{ facts.program | join(" ") }}
{% if comparison %}
{{ time(base_ns) }} → {{ time(new_ns) }}, **{{ factor(comparison.speedup) }}** against “{{ comparison.base.round_name }}” \
({{ comparison.verdict }}{% if comparison.interval %}, 95 % interval {{ factor(comparison.interval[0]) }} to \
{{ factor(comparison.interval[1]) }}{% endif %}).
{% for note in notes %}
{{ note }}
{% endfor %}

| function | match | self before | self after | calls before | calls after |
|---|---|--:|--:|--:|--:|
{% for row in comparison.functions[:top] -%}
| `{{ row.function }}` | {{ row.match }} | {{ time(row.self_ns[0]) }} | {{ time(row.self_ns[1]) }} | \
{{ count(row.calls[0]) }} | {{ count(row.calls[1]) }} |
{% endfor %}
{%- else %}
{{ time(new_ns) }}, {{ count(facts.calls) }} calls.
{% endif %}
| # | function | layer | self | share | inclusive | calls |
|--:|---|---|--:|--:|--:|--:|
{% for row in functions -%}
| {{ loop.index }} | `{{ row.function }}` | {{ row.layer }} | {{ time(row.self_ns) }} | \
{{ share(row.self_ns / total) }} | {{ time(row.inclusive_ns) }} | {{ count(row.calls) }} |
{% endfor %}
Recorded exactly by Ricerca{{ " on Python " + facts.python if facts.python else "" }}; times without the recording overhead.
"""


def _csv(loaded: Loaded, top: int | None, what: str) -> str:
    rows = {"functions": function_rows(loaded, top=top), "lines": line_rows(loaded, top)}.get(what)
    if rows is None:
        rows = [
            {
                **{f"caller_{name}": value for name, value in row["caller"].items()},
                **{f"callee_{name}": value for name, value in row["callee"].items()},
                **{name: row[name] for name in ("line", "calls", "inclusive_ns")},
            }
            for row in edge_rows(loaded, top)
        ]
    text = io.StringIO()
    writer = csv.DictWriter(text, list(rows[0]) if rows else ["function"], lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


def _markdown(pair: Pair, study: str, top: int) -> str:
    loaded, base = pair.new, pair.base
    comparison = comparison_facts(pair, study) if base else None
    template = Environment(undefined=StrictUndefined, keep_trailing_newline=True, autoescape=False).from_string(_MARKDOWN)
    return template.render(
        facts=round_facts(loaded, study),
        comparison=comparison,
        functions=function_rows(loaded, top=top),
        total=max(loaded.profile.total_ns, 1),
        base_ns=pair.base_ns,
        new_ns=pair.new_ns,
        notes=comparison_notes(pair) if base else [],
        top=top,
        time=time_text,
        count=count_text,
        share=share_text,
        factor=factor_text,
    )


def timeline_csv(loaded: Loaded) -> str:
    """The timeline as a table: one row for each thread, slice and layer with time in it; times in ns, the recorder's cost in them."""
    line = timeline(loaded.profile)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["process", "thread", "begins_ns", "layer", "self_ns", "waiting_ns"])
    for stave in line.staves:
        for row, layer in enumerate(line.layers):
            for at in np.flatnonzero(stave.density[row]).tolist():
                times = round(float(stave.density[row][at])), round(float(stave.waiting_density[row][at]))
                writer.writerow([stave.process, stave.name, round(at * line.slice_ns), layer, *times])
    return text.getvalue()


def export_text(pair: Pair, suffix: str, study: str, what: str = "functions",
                top: int | None = None, nodes: int | None = None) -> str:  # fmt: skip
    """A round as text in the format of the suffix.

    Parameters
    ----------
    what : {"functions", "lines", "edges"}
        The table that a CSV file holds; JSON holds all of them.
    nodes : int, optional
        About how many nodes the call graph has.

    Raises
    ------
    InputError
        The format is unknown.
    """
    loaded = pair.new
    if suffix == ".csv":
        return _csv(loaded, top, what)
    if suffix == ".json":
        facts = round_facts(loaded, study)
        facts |= {"functions": function_rows(loaded, top=top), "lines": line_rows(loaded, top), "edges": edge_rows(loaded, top)}
        return json.dumps(facts, indent=1, ensure_ascii=False) + "\n"
    if suffix == ".md":
        return _markdown(pair, study, top or 10)
    if suffix in GRAPHS:
        return GRAPHS[suffix](graph_of(pair, nodes))
    raise InputError(f"There is no export to {suffix or 'a file without a suffix'}.", f"Use one of {', '.join(FORMATS)}.")


def write_text(path: Path, text: str) -> None:
    """Write a file whole or not at all."""
    export_bytes(path, text.encode("utf-8", "surrogateescape"))


def export_bytes(path: Path, content: bytes) -> None:
    """Write a file whole or not at all.

    Raises
    ------
    EnvironmentProblem
        It cannot be written.
    """
    part = path.with_name(f".{path.name}.part")
    try:
        part.write_bytes(content)
        part.replace(path)
    except OSError as problem:
        part.unlink(missing_ok=True)
        raise EnvironmentProblem(f"{path} cannot be written ({problem.strerror}).") from None
