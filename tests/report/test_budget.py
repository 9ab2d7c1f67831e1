"""Budgets: what is understood, what is refused with what to do, and what is kept, broken or undecided."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from dataclasses import replace

import pytest

from ricerca.examples.shipped import SHIPPED
from ricerca.loading import load, load_pair
from ricerca.measure.estimates import Speedup
from ricerca.model.errors import InputError
from ricerca.report.budget import (
    BROKEN,
    KEPT,
    UNDECIDED,
    Finding,
    Limit,
    budget_facts,
    budget_from,
    check_count,
    check_function,
    check_total,
    count_of,
    first_budget,
    is_past,
    junit_text,
    markdown_text,
)
from ricerca.study.store import Study

NAN = float("nan")


@pytest.fixture(scope="module")
def loaded():
    with Study.open(SHIPPED) as study:
        return load(study)


@pytest.fixture(scope="module")
def pair():
    with Study.open(SHIPPED) as study:
        return load_pair(study, 1, None)


def test_a_budget_is_read_with_all_its_keys():
    text = """
    [[limit]]
    name = "rows are parsed once"
    count = "calls"
    of = "parse_row"
    from = "mine"
    at_most = 35040
    [[limit]]
    ratio = "total"
    base_study = "other.ricerca"
    base = 2
    at_most = 1.05
    """
    first, second = budget_from(text)
    assert first == Limit("rows are parsed once", 35040, "calls", of="parse_row", caller="mine")
    assert second == Limit("limit 2", 1.05, ratio="total", base=2, base_study="other.ricerca")
    assert first.text == "calls of parse_row from mine at most 35040"
    assert second.text == "total time at most 1.05 of the base"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[[limit", "not readable as TOML"),
        ("", "has no limits"),
        ("limit = 3", "has no limits"),
        ('[[limit]]\ncount = "calls"', "how much it allows"),
        ('[[limit]]\ncount = "calls"\nat_most = "9"', "how much it allows"),
        ('[[limit]]\ncount = "calls"\nat_most = -1', "how much it allows"),
        ("[[limit]]\nat_most = 3", "neither a count nor a ratio"),
        ('[[limit]]\ncount = "calls"\nratio = "total"\nat_most = 3', "neither a count nor a ratio, or both"),
        ('[[limit]]\ncount = "cows"\nat_most = 3', "'cows', which is not known"),
        ('[[limit]]\nratio = "self"\nat_most = 3', "of which function"),
        ('[[limit]]\ncount = "calls"\nfrom = "theirs"\nat_most = 3', "from 'theirs'"),
        ('[[limit]]\ncount = "calls"\nbase = "1"\nat_most = 3', "no number of a round"),
        ('[[limit]]\ncuont = "calls"\nat_most = 3', "'cuont' that is not understood"),
    ],
)
def test_what_is_not_understood_is_refused_with_the_limit_it_is_about(text, says):
    with pytest.raises(InputError, match=says):
        budget_from(text)


def test_counts_are_exact_and_patterns_find_functions_with_or_without_their_module(loaded):
    calls = {row: count_of(loaded, Limit("", 0, "calls", of=row)) for row in ("nearest_reading", "waters.nearest_reading", "nearest_*")}
    assert calls["nearest_reading"] == 705
    assert len(set(calls.values())) == 1
    assert count_of(loaded, Limit("", 0, "calls")) == loaded.profile.total_calls
    assert count_of(loaded, Limit("", 0, "contexts")) == int((loaded.profile.parent >= 0).sum())
    assert count_of(loaded, Limit("", 0, "programs")) == 0
    assert count_of(loaded, Limit("", 0, "imports")) > 0
    assert 0 < count_of(loaded, Limit("", 0, "calls", caller="mine")) < loaded.profile.total_calls
    assert count_of(loaded, Limit("", 0, "calls", of="nobody")) == 0


def test_a_count_is_kept_at_its_limit_and_broken_one_past_it(loaded):
    assert check_count(loaded, Limit("a", 705, "calls", of="nearest_reading")).verdict == KEPT
    past = check_count(loaded, Limit("a", 704, "calls", of="nearest_reading"))
    assert (past.verdict, past.value, past.why) == (BROKEN, 705, "705, 1 too many")
    assert "no function nobody was called" in check_count(loaded, Limit("a", 0, "calls", of="nobody")).why


def test_a_count_of_a_program_that_failed_says_how_it_ended(loaded):
    failed = replace(loaded, run=replace(loaded.run, exit_status=1, ended="exit status 1"))
    assert check_count(failed, Limit("a", 705, "calls", of="nearest_reading")).why == "705, exact; the program ended with exit status 1"


@pytest.mark.parametrize(
    ("found", "verdict"),
    [
        (Speedup(1.0, (0.98, 1.02), "no difference"), KEPT),
        (Speedup(0.9, (0.8, 1.0), "undecided"), UNDECIDED),
        (Speedup(0.5, (0.4, 0.6), "slower"), BROKEN),
        (Speedup(1.0, None, "undecided", "too few"), UNDECIDED),
        (Speedup(NAN, None, "undecided"), UNDECIDED),
    ],
)
def test_a_time_is_judged_by_its_whole_interval(found, verdict):
    finding = check_total(Limit("t", 1.05, ratio="total"), found)
    assert finding.verdict == verdict
    assert finding.why


def test_a_time_against_other_work_is_not_decided():
    assert check_total(Limit("t", 9, ratio="total"), Speedup(2.0, (1.9, 2.1), "faster"), "arguments: 1, then 2").verdict == UNDECIDED


def test_a_function_is_judged_against_the_base_round(pair):
    gone = check_function(Limit("s", 0.5, ratio="self", of="metres_of"), pair)
    assert (gone.verdict, gone.value) == (KEPT, 0)
    faster = check_function(Limit("s", 5.0, ratio="inclusive", of="fit_station"), pair)
    assert faster.verdict in (KEPT, UNDECIDED)
    assert faster.value is not None and faster.value < 1
    assert check_function(Limit("s", 1, ratio="self", of="nobody"), pair).verdict == UNDECIDED


def test_the_first_budget_of_a_round_is_kept_by_that_round_and_broken_by_one_call_more(loaded):
    limits = [limit for limit in budget_from(first_budget(loaded, 1)) if limit.count]
    assert len(limits) >= 4
    assert {check_count(loaded, limit).verdict for limit in limits} == {KEPT}
    ratio = budget_from(first_budget(loaded, 1))[-1]
    assert (ratio.ratio, ratio.base, ratio.at_most) == ("total", 1, 1.05)
    assert all(limit.count for limit in budget_from(first_budget(loaded, None)))


FINDINGS = [
    Finding(Limit("a|b", 1, "calls"), 1, KEPT, "1, exact"),
    Finding(Limit("c<d>", 1, "calls"), 3, BROKEN, "3, 2 too many"),
    Finding(Limit("e", 1.5, ratio="total"), None, UNDECIDED, "too few runs"),
]


def test_findings_as_junit_json_and_markdown():
    suite = ET.fromstring(junit_text(FINDINGS, strict=False))
    assert suite.attrib == {"name": "ricerca", "tests": "3", "failures": "1", "skipped": "1", "errors": "0"}
    assert [case.get("name") for case in suite.iter("testcase")] == ["a|b", "c<d>", "e"]
    assert suite.find("testcase/failure").get("message") == "3, 2 too many"
    strict = ET.fromstring(junit_text(FINDINGS, strict=True))
    assert (strict.get("failures"), strict.get("skipped")) == ("2", "0")
    facts = json.loads(json.dumps(budget_facts(FINDINGS)))["limits"]
    assert [(row["name"], row["verdict"], row["value"], row["at_most"]) for row in facts] == [
        ("a|b", "kept", 1, 1), ("c<d>", "broken", 3, 1), ("e", "undecided", None, 1.5),
    ]  # fmt: skip
    text = markdown_text(FINDINGS)
    assert "a\\|b" in text
    assert "**broken**" in text


def test_undecided_counts_as_kept_unless_strict():
    assert not is_past([FINDINGS[0], FINDINGS[2]], strict=False)
    assert is_past([FINDINGS[0], FINDINGS[2]], strict=True)
    assert is_past(FINDINGS, strict=False)
