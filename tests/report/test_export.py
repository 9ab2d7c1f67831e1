"""What is saved can be read by others: tables, JSON, text, the call graph, also on standard output."""

from __future__ import annotations

import csv
import io
import json
import re
import xml.etree.ElementTree as ET

import pytest

from ricerca.examples.shipped import SHIPPED
from ricerca.loading import load_with_first
from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.report.export import FORMATS, export_bytes, export_text, write_text
from ricerca.report.facts import function_rows
from ricerca.report.graph import GRAPHS, graph_of
from ricerca.report.wording import brief_count
from ricerca.study.store import Study


@pytest.fixture(scope="module")
def pair():
    with Study.open(SHIPPED) as study:
        return load_with_first(study, None)


@pytest.mark.parametrize(("what", "column"), [("functions", "self_ns"), ("lines", "call_ns"), ("edges", "inclusive_ns")])
def test_tables_have_a_head_and_numbers(pair, what, column):
    rows = list(csv.DictReader(io.StringIO(export_text(pair, ".csv", "s", what, 7))))
    assert 0 < len(rows) <= 7
    assert all(int(row[column]) >= 0 for row in rows)


def test_the_figures_in_every_format_are_the_same(pair):
    facts = json.loads(export_text(pair, ".json", "s"))
    table = list(csv.DictReader(io.StringIO(export_text(pair, ".csv", "s"))))
    assert [(row["function"], int(row["calls"]), int(row["self_ns"])) for row in table] == [
        (row["function"], row["calls"], row["self_ns"]) for row in facts["functions"]
    ]
    assert facts["functions"] == json.loads(json.dumps(function_rows(pair.new)))


def test_text_has_the_verdict_and_the_largest_changes(pair):
    text = export_text(pair, ".md", "s", top=5)
    assert "faster" in text and "95 % interval" in text
    assert text.count("\n| `") == 5 and len(re.findall(r"\n\| \d \| `", text)) == 5, "five changes and five functions"


def test_the_graph_has_about_as_many_nodes_as_are_asked_for(pair):
    for nodes in (6, 15, 30):
        assert len(graph_of(pair, nodes).nodes) <= nodes + 2
    root = ET.fromstring(GRAPHS[".graphml"](graph_of(pair, 15)))
    assert len(root.findall(".//{*}node")) == len(graph_of(pair, 15).nodes)


def test_the_round_compared_with_has_its_times_in_the_graph(pair):
    known = [node for node in graph_of(pair).nodes if node.base_ns]
    assert {"nearest_reading", "main"} <= {node.name for node in known}


def test_a_format_that_is_not_there_is_said_with_those_that_are(pair):
    with pytest.raises(InputError, match=r"There is no export to \.doc") as problem:
        export_text(pair, ".doc", "s")
    for suffix in FORMATS:
        assert suffix in str(problem.value)
    with pytest.raises(InputError, match="a file without a suffix"):
        export_text(pair, "", "s")


def test_a_file_is_written_whole_or_not_at_all(tmp_path):
    write_text(tmp_path / "a.md", "café \udcff")
    assert (tmp_path / "a.md").read_bytes() == "café ".encode() + b"\xff"
    with pytest.raises(EnvironmentProblem, match="cannot be written"):
        export_bytes(tmp_path / "none" / "a.md", b"x")
    (tmp_path / "folder.md").mkdir()
    with pytest.raises(EnvironmentProblem):
        export_bytes(tmp_path / "folder.md", b"x")
    assert sorted(file.name for file in tmp_path.iterdir()) == ["a.md", "folder.md"], "no part of it stays"


@pytest.mark.parametrize(("count", "brief"), [(0, "0"), (9, "9"), (999, "999"), (1000, "1.0 k"), (9949, "9.9 k"), (9950, "10 k"),
                                              (999_400, "999 k"), (999_600, "1.0 M"), (12_345_678, "12 M"), (3 * 10**9, "3.0 G")])  # fmt: skip
def test_brief_counts_have_two_or_three_digits(count, brief):
    assert brief_count(count).replace("\u202f", " ") == brief
