"""Nothing is left undocumented: each command and option, each clause of a reading, each column; and the guide's links lead somewhere."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import click
import pytest

from ricerca.cli import main
from ricerca.engine.levels import LEVELS
from ricerca.engine.reading import CLOCKS, parse

ROOT = Path(__file__).parents[1]
GUIDE = ROOT / "docs" / "guide"
REFERENCE = (GUIDE / "reference.md").read_text()
PAGES = sorted(GUIDE.glob("*.md"))


@pytest.mark.parametrize("name", sorted(main.commands))
def test_each_command_and_each_of_its_options_is_in_the_reference(name):
    section = REFERENCE.split(f"### ricerca {name}\n", 1)[1].split("\n##", 1)[0]
    for param in main.commands[name].params:
        for option in param.opts if isinstance(param, click.Option) else [param.name.upper()]:
            assert option in section, f"{name} {option}"
    documented = set(re.findall(r"--[a-z][a-z-]*", section))
    known = {option for param in main.commands[name].params for option in param.opts}
    assert documented <= known, "what is documented exists"


def test_each_clause_of_a_reading_is_in_the_reference_and_is_understood():
    table = REFERENCE.split("## The reading", 1)[1].split("\n## ", 1)[0]
    clauses = [clause for row in re.findall(r"^\| (`.+?) \|", table, re.MULTILINE) for clause in re.findall(r"`([^`]+)`", row)]
    for clause in clauses:
        parse(clause.replace("NAME", "fit").replace("NUMBER", "2"))
    for wanted in (*(f"{clock} time" for clock in CLOCKS), *(f"by {level}" for level in LEVELS)):
        assert wanted in clauses
    for word in (
        "round",
        "against",
        "raw",
        "thread",
        "process",
        "inside",
        "without",
        "slices",
        "charged",
        "charging",
        "imports",
        "everything",
    ):
        assert any(clause.startswith(word) for clause in clauses), word


def test_each_column_is_in_the_reference():
    table = REFERENCE.split("## Columns", 1)[1]
    documented = set(re.findall(r"^\| (\S[^|]*?) \|", table, re.MULTILINE)) - {"column", "---"}
    titles = set()
    for page in ("functions", "lines"):
        tree = ast.parse((ROOT / "src" / "ricerca" / "desk" / "pages" / f"{page}.py").read_text())
        calls = [node for node in ast.walk(tree) if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Column"]
        titles |= {call.args[1].value for call in calls if call.args[1].value}
    assert titles and titles <= documented


@pytest.mark.parametrize("page", [*PAGES, ROOT / "README.md"], ids=lambda page: page.name)
def test_links_and_pictures_lead_somewhere(page):
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        if not target.startswith("http"):
            assert (page.parent / target).exists(), target


def test_the_guide_leads_through_all_its_pages_in_order():
    index = (GUIDE / "README.md").read_text()
    places = [index.index(f"({page.name})") for page in PAGES if page.name[0].isdigit()]
    assert len(places) == 7 and places == sorted(places)
