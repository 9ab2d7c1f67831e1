"""Cases live in the study: kept, found again, dropped without losing what they measured; each round is seen for one of them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ricerca.model.cases import Case, Part, sizes_of
from ricerca.model.errors import InputError
from ricerca.model.rounds import PLAIN, RECORDED, UNDONE, Run, Subject
from ricerca.study.schema import free_name
from ricerca.study.store import Study

YEAR = Subject("script", ("tidebook.py", "year.csv"), "/w", "python3")
START = Subject("script", ("tidebook.py", "--version"), "/w", "python3")
GROWING = Subject("script", ("tidebook.py", "--days", "{days}"), "/w", "python3")


@pytest.fixture
def study(tmp_path):
    with Study.open(tmp_path / "s.ricerca", create=True) as opened:
        yield opened


def run(kind=PLAIN, case="", size="", wall_ns=10):
    return Run(0, kind, 1, wall_ns, 2, 0, "exit status 0", case=case, size=size)


def test_a_case_comes_back_as_it_was_kept(study):
    case = Case("year", YEAR, 4.5, sizes_of(["n=1,2"]), "make {n}")
    assert study.keep_case(case) == case
    assert study.case("year") == case
    study.keep_case(Case("year", START))
    assert [(one.name, one.subject, one.runs_per_day) for one in study.cases()] == [("year", START, None)]
    with pytest.raises(InputError, match="no case 'month'"):
        study.case("month")


@given(st.lists(st.text("ab ", min_size=1), max_size=6))
def test_a_free_name_is_never_taken_yet(names):
    assert free_name("a", set(names)) not in names


def test_a_round_is_seen_for_one_case_and_one_size_of_it(study):
    study.keep_case(Case("year", YEAR))
    study.keep_case(Case("growing", GROWING, sizes=sizes_of(["days=10,200,30"])))
    first = study.add_round(YEAR, "baseline", case="year")
    study.add_run(first.id, run(wall_ns=5, case="year"))
    study.measure_case(1, "growing", GROWING)
    for days in (200, 10, 30):
        study.add_run(first.id, run(wall_ns=days, case="growing", size=f"days={days}"))
    (seen,) = study.rounds()
    assert (seen.case, seen.cases, seen.plain_ns, seen.size) == ("year", ("year", "growing"), (5,), "")
    (seen,) = study.of(Part("growing")).rounds()
    assert (seen.sizes, seen.size, seen.plain_ns) == (("days=10", "days=30", "days=200"), "days=200", (200,))
    assert seen.subject.program == ("tidebook.py", "--days", "200")
    assert study.of(Part("growing", "days=30")).round(1).plain_ns == (30,)
    assert study.of(Part("growing")).template(1) == GROWING


def test_a_case_that_no_round_measured_says_so(study):
    study.add_round(YEAR)
    study.keep_case(Case("start", START))
    with pytest.raises(InputError, match=r"No round of s\.ricerca has measured the case 'start'"):
        study.of(Part("start")).round()
    study.measure_case(1, "start", START)
    with pytest.raises(InputError, match="no round 2 of the case 'start'"):
        study.of(Part("start")).round(2)


def test_dropping_a_case_keeps_what_it_measured(study):
    study.keep_case(Case("start", START))
    study.keep_case(Case("never", GROWING))
    study.add_round(START, case="start")
    study.add_run(1, run(RECORDED))
    for name in ("start", "never"):
        study.drop_case(name)
    assert study.cases() == ()
    assert study.round(1).case == "start"
    assert len(study.round(1).runs) == 1
    study.keep_case(Case("start", START))
    assert [case.name for case in study.cases()] == ["start"]


def test_what_is_run_finds_its_case_and_other_work_gets_one_of_its_own(study):
    assert study.case_for(YEAR).name == "tidebook"
    moved = Subject("script", ("tidebook.py", "year.csv"), "/elsewhere", "python3.12")
    assert study.case_for(moved).name == "tidebook"
    assert study.case("tidebook").subject == moved
    assert study.case_for(START).name == "tidebook 2"


def test_where_a_round_came_from_and_what_became_of_it_is_kept(study):
    study.add_round(YEAR)
    study.add_round(YEAR, made_from=1)
    study.describe_round(2, fate=UNDONE)
    assert (study.round(2).made_from, study.round(2).fate, study.round(1).made_from) == (1, UNDONE, None)


def test_snippets_are_kept_in_order(study):
    assert [study.add_snippets(text) for text in ("{}", "[]")] == [1, 2]
    assert study.snippets() == ["{}", "[]"]


def test_a_view_writes_within_a_transaction_of_the_study(study):
    with study.transaction():
        study.of(Part("x")).keep_case(Case("x", YEAR))
        with pytest.raises(InputError), study.transaction():
            study.keep_case(Case("y", YEAR))
            raise InputError("undone")
    assert [case.name for case in study.cases()] == ["x"]
