"""Tables in the terminal: what they say, that they fit, and that names in them do nothing."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from engine.trees import tables_of

from ricerca.engine.profile import build_profile
from ricerca.engine.reading import parse
from ricerca.loading import Loaded, Pair, paired
from ricerca.model.completeness import PAUSED, Gap
from ricerca.model.rounds import PLAIN, RECORDED, Round, Run, Subject
from ricerca.model.run_tables import RunFacts
from ricerca.report import tables
from ricerca.runner.recordings import About, Waiting
from ricerca.runner.selfcheck import Check

SUBJECT = Subject("script", ("p.py",), "/p", "/usr/bin/python3")


def loaded(*gaps: Gap, times=(0, 10_000, 3_000_000), facts: RunFacts | None = None, subject=SUBJECT, number=1, names=None) -> Loaded:
    tables = tables_of([-1, 0, 1], [0, 1, 2], list(times), names=names or ["start", "main", "a_function"], facts=facts)
    profile = build_profile(replace(tables, brief_ns=np.zeros(3, np.int64)))
    run = Run(1, RECORDED, 0, sum(times), 0, 0, "exit status 0", gaps)
    plain = tuple(Run(2 + n, PLAIN, 0, 3_000_000 + n, 0, 0, "exit status 0") for n in range(3))
    return Loaded(profile, None, profile, round=Round(number, number, f"r{number}", "", subject, 0, "", (run, *plain)), run=run, sources={})


def test_a_ranking_says_round_times_calls_and_shares(capsys):
    tables.show_functions(loaded(), "self", 20)
    text = capsys.readouterr().out
    assert "Round 1 “r1” · 3.01" in text
    assert "plain (3 runs)" in text
    assert "a_function" in text
    assert "100" in text
    assert max(map(len, text.splitlines())) <= tables.LEAST_COLUMNS


def test_what_is_missing_is_in_the_headline(capsys):
    tables.show_functions(loaded(Gap(PAUSED)), "self", 20)
    assert "incomplete: part of the run was left out by a pause" in " ".join(capsys.readouterr().out.split())


def test_what_the_interpreter_does_not_tell_of_is_said(capsys):
    tables.show_functions(loaded(facts=RunFacts(python="3.11.7")), "self", 20)
    assert "Python 3.11.7 does not report calls of classes" in " ".join(capsys.readouterr().out.split())
    tables.show_functions(loaded(facts=RunFacts(python="3.13.0")), "self", 20)
    assert "does not tell" not in capsys.readouterr().out
    tables.show_functions(loaded(facts=RunFacts(python="3.15.0", flags=1 << 14)), "self", 20)
    assert "newer than the tested versions" in capsys.readouterr().out


def test_a_long_name_is_cut_at_its_end_and_a_strange_one_is_written_out(capsys):
    tables.show_functions(loaded(names=["start", "main", "x" * 80 + "end"]), "self", 20)
    assert "…" in (text := capsys.readouterr().out)
    assert "xend" not in text and "xxxx…" in text
    tables.show_functions(loaded(names=["start", "main", "\x1b[31mred"]), "self", 20)
    assert "\x1b" not in (text := capsys.readouterr().out)
    assert "\\x1b[31mred" in text


def test_a_comparison_tells_direction_amount_and_verdict(capsys):
    pair = paired(loaded(), loaded(times=(0, 10_000, 1_000_000), number=2), parse(""))
    from ricerca.report.facts import comparison_facts

    tables.show_comparison(pair, comparison_facts(pair, "s"), 20)
    text = capsys.readouterr().out
    assert "Round 2 “r2” against round 1 “r1”" in text
    assert "▼ −2.00" in text


def test_rounds_of_other_work_have_no_verdict_and_no_speed_up(capsys):
    other = loaded(subject=replace(SUBJECT, program=("p.py", "9")), number=2)
    pair = Pair(other, loaded())
    from ricerca.report.facts import comparison_facts

    facts = comparison_facts(pair, "s")
    assert facts["speedup"] is None
    tables.show_comparison(pair, facts, 20)
    assert "No verdict: the rounds are of different work (arguments: none, then 9)." in capsys.readouterr().out


def test_leads_are_numbered_with_their_evidence(capsys):
    tables.show_leads(Pair(loaded()))
    text = capsys.readouterr().out
    assert text.startswith("1. ")
    assert "a_function" in text


@pytest.mark.parametrize(("about", "said"), [(About("", 0, 0, "", Subject("", (), "", ""), 0, why="torn"), "unknown program"),
                                             (About("/s.ricerca", 3, 3, "r", SUBJECT, 0, why="the disk is full"), "for round 3 of /s.ricerca")])  # fmt: skip
def test_waiting_recordings_say_of_what_where_and_why(capsys, tmp_path, about, said):
    tables.show_recordings([Waiting(tmp_path / "a.recording", about, 2048)])
    text = capsys.readouterr().out.replace("\n", "")
    assert said in text
    assert about.why in text
    assert "2 KB" in text


def test_nothing_waiting_is_said(capsys):
    tables.show_recordings([])
    assert "All recordings are in their studies." in capsys.readouterr().out


def test_checks_are_marked_and_advised(capsys):
    tables.show_checks([Check("disk", True, "free"), Check("clock", False, "none", "Get one.")])
    text = capsys.readouterr().out
    assert "✓" in text
    assert "✗" in text
    assert "→ Get one." in text
