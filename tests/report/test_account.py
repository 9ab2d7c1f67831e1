"""The account: valid against its schema, the same figures in every report, pages that need nothing from outside."""

from __future__ import annotations

import json
import re
from importlib.resources import files

import jsonschema
import pytest
from conftest import ricerca

from ricerca.examples.shipped import SHIPPED
from ricerca.loading import load, load_with_first, paired
from ricerca.report.account import account_facts, account_of
from ricerca.report.page import Colours, merge_request, page
from ricerca.report.verdicts import between_all, judged_facts
from ricerca.report.wording import count_text, time_text
from ricerca.study.store import Study

SCHEMA = json.loads(files("ricerca.report").joinpath("account.schema.json").read_text("utf-8"))
COLOURS = Colours(
    dict.fromkeys(("ink", "soft", "paper", "panel", "rule", "faster", "slower"), "#123456"), lambda _: "#000", lambda _: "#fff"
)


@pytest.fixture(scope="module")
def account():
    with Study.open(SHIPPED) as study:
        return account_of(study, load_with_first(study, None))


@pytest.fixture(scope="module")
def alone():
    with Study.open(SHIPPED) as study:
        return account_of(study, paired(None, load(study, 1), None), top=3)


def test_an_account_of_a_round_and_of_two_keep_to_the_published_schema(account, alone):
    jsonschema.Draft202012Validator.check_schema(SCHEMA)
    for one in (account, alone):
        facts = json.loads(json.dumps(account_facts(one)))
        jsonschema.validate(facts, SCHEMA)
    assert account_facts(alone)["comparison"] is None
    assert len(account_facts(alone)["functions"]) == 3


def test_the_schema_refuses_what_is_no_account(account):
    facts = json.loads(json.dumps(account_facts(account)))
    for change in ({"account": 2}, {"round": None}, {"more": 1}, {"history": [{"round": 1}]}):
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate({**facts, **change}, SCHEMA)


@pytest.mark.parametrize("template", ["page.html", "print.html"])
def test_the_page_tells_the_figures_of_the_account(account, template):
    text = page(account, COLOURS, [("Call graph", "<svg></svg>")], template)
    facts = account_facts(account)
    for row in facts["functions"]:
        assert count_text(row["calls"]) in text
        assert time_text(row["self_ns"]) in text
    assert time_text(facts["comparison"]["new_ns"]) in text
    for row in facts["history"]:
        assert row["name"] in text
    assert "<svg></svg>" in text


def test_the_page_needs_no_network_and_names_are_escaped(account, alone):
    for one in (account, alone):
        text = page(one, COLOURS)
        assert not re.search(r"""(?:src|href)\s*=\s*["']?(?:https?:)?//""", text)
        assert "&lt;locals&gt;" in text or "<locals>" not in text
        assert "<genexpr>" not in text


def test_the_slowest_lines_have_the_text_that_was_recorded(account):
    rows = account_facts(account)["lines"]
    assert any("nearest_reading" in row["text"] for row in rows)
    assert all("\n" not in row["text"] for row in rows)


def test_every_two_of_several_rounds_are_judged_in_their_order():
    with Study.open(SHIPPED) as study:
        found = [judged_facts(one) for one in between_all(study, [1, 2, 4])]
    assert [(one["base"], one["new"]) for one in found] == [(1, 2), (1, 4), (2, 4)]
    assert found[1]["verdict"] == "faster"
    assert found[1]["same_output"] is True


def test_reports_as_files(account):
    from ricerca.desk.report_pages import html_report, pdf_report

    text = html_report(account).decode()
    assert text.count("<svg") == 2
    assert "Timeline" in text
    assert not re.search(r"""(?:src|href)\s*=\s*["']?(?:https?:)?//""", text)
    from PyQt6.QtCore import QBuffer
    from PyQt6.QtPdf import QPdfDocument

    held = QBuffer()
    held.setData(pdf_report(account))
    held.open(QBuffer.OpenModeFlag.ReadOnly)
    document = QPdfDocument(None)
    document.load(held)
    words = "".join(document.getAllText(number).text() for number in range(document.pageCount()))
    assert document.pageCount() >= 3
    assert "nearest_reading" in words
    document.close()


def test_the_long_text_for_a_merge_request_has_the_figures_of_the_account_in_tables_that_fold_away(account):
    text, facts = merge_request(account), account_facts(account)
    assert text.startswith(f"## {facts['title']}\n\n{time_text(facts['comparison']['base_ns'])} → ")
    head, folded = text.split("<details>")
    for heading in ("### History", "### What deserves a look", "### What changed, by function"):
        assert heading in head
    rows = re.findall(r"^\| \d+ \| `(.+?)` \| .+? \| (.+?) \|", folded, re.MULTILINE)
    names = [(row["function"], ("≈ " if row["uncertain"] else "") + time_text(row["self_ns"])) for row in facts["functions"]]
    assert rows == names
    for table in re.findall(r"(?:^\|.*\n)+", text, re.MULTILINE):
        widths = {len(re.findall(r"(?<!\\)\|", line)) for line in table.splitlines()}
        assert len(widths) == 1, "every row of a table has as many cells as its head"


def test_the_long_text_is_exported_and_printed(tmp_path):
    done = ricerca("export", str(SHIPPED), "--to", "long.md", "--what", "report", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "<details>" in (tmp_path / "long.md").read_text()
    short = ricerca("export", str(SHIPPED), "--to", "short.md", cwd=tmp_path)
    assert short.returncode == 0 and "<details>" not in (tmp_path / "short.md").read_text()
