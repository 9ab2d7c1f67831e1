"""Whether a run is whole is decided in one place."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ricerca.model import marks
from ricerca.model.completeness import (
    CUT,
    ENDED_EARLY,
    FAILED,
    INSIDE,
    INTERPRETERS,
    KILLED,
    OWN_HOOK,
    PAUSED,
    PROCESSES,
    THREADS,
    Gap,
    gaps_of_exit,
    gaps_of_recording,
    usual_exit_status,
)
from ricerca.model.rounds import PLAIN, RECORDED, Round, Run, Subject, with_exits_judged
from ricerca.model.run_tables import RunFacts


def kinds(facts: RunFacts, *more: object) -> list[str]:
    return [gap.kind for gap in gaps_of_recording(facts, *more)]


def test_a_run_without_any_mark_is_whole():
    assert gaps_of_recording(RunFacts()) == ()


@pytest.mark.parametrize(
    ("facts", "kind", "words"),
    [
        (RunFacts(flags=marks.FLAG_PAUSED), PAUSED, "pause"),
        (RunFacts(flags=marks.FLAG_FINISHED), ENDED_EARLY, "ended while the program ran on"),
        (RunFacts(flags=marks.FLAG_CONTEXTS_FULL | marks.FLAG_LIMIT_REACHED), CUT, "size limit of the recording"),
        (
            RunFacts(flags=marks.FLAG_CONTEXTS_FULL | marks.FLAG_DISK_FULL),
            CUT,
            "the disk was full: there was no room for more chains of calls",
        ),
        (RunFacts(flags=marks.FLAG_LINES_FULL | marks.FLAG_MEMORY_FULL), CUT, "the system gave no more memory"),
        (RunFacts(inside="fit"), INSIDE, "only what happened inside fit"),
        (RunFacts(taken_hooks=2), OWN_HOOK, "2 times"),
        (RunFacts(flags=marks.FLAG_HOOK_TAKEN), OWN_HOOK, "1 time;"),
        (RunFacts(unseen_threads=1), THREADS, "1 thread could"),
        (RunFacts(unseen_interpreters=3), INTERPRETERS, "3 subinterpreters"),
    ],
)
def test_each_mark_is_a_reason_in_words(facts, kind, words):
    (gap,) = gaps_of_recording(facts)
    assert gap.kind == kind
    assert words in gap.text


def test_what_is_known_from_outside_counts_as_well():
    assert kinds(RunFacts(), "SIGKILL") == [KILLED]
    assert kinds(RunFacts(), None, 2) == [PROCESSES]
    assert gaps_of_recording(RunFacts(), None, 2)[0].text == "the recordings of 2 child processes could not be read"


@given(st.integers(0, (1 << 15) - 1), st.booleans())
def test_every_flag_that_says_something_is_missing_makes_a_run_incomplete(flags, inside):
    missing = marks.CUT_FLAGS | marks.FLAG_PAUSED | marks.FLAG_FINISHED | marks.FLAG_HOOK_TAKEN
    assert bool(gaps_of_recording(RunFacts(flags=flags, inside="f" * inside))) == bool(flags & missing or inside)


def test_the_usual_exit_status_is_that_of_most_runs_of_the_first_round_with_any():
    assert usual_exit_status([[], [0, 0, 7], [7, 7, 7, 7]]) == 0
    assert usual_exit_status([[1, 1], [0]]) == 1
    assert usual_exit_status([[-9, None], [2]]) == 2
    assert usual_exit_status([[0, 1]]) == 0
    assert usual_exit_status([[-9]]) is None


def test_a_signal_is_no_unusual_status_and_nothing_is_said_where_nothing_is_usual():
    assert gaps_of_exit(-9, 0) == ()
    assert gaps_of_exit(1, None) == ()
    assert gaps_of_exit(1, 0)[0].kind == FAILED


def round_of(number: int, subject: Subject, *statuses: int) -> Round:
    runs = tuple(Run(n, PLAIN if n else RECORDED, 0, 100 + n, 0, status, "") for n, status in enumerate(statuses))
    return Round(number, number, f"r{number}", "", subject, 0, "", runs)


def test_a_run_that_fails_gives_no_time():
    one, other = Subject("script", ("p.py",), "/a", "py"), Subject("script", ("p.py", "-x"), "/a", "py")
    first, second, third = with_exits_judged((round_of(1, one, 0, 0, 0), round_of(2, one, 3, 3, 0), round_of(3, other, 3, 3)))
    assert first.plain_ns == (101, 102)
    assert second.plain_ns == (102,)  # what failed is no time
    assert second.runs[0].because == ("it ended with exit status 3, which is usually 0",)
    assert third.plain_ns == (101,)  # other arguments: this program usually ends so


def test_work_is_the_same_wherever_its_code_lies_but_not_with_other_arguments():
    base = Subject("script", ("src/p.py", "1"), "/a", "/usr/bin/python3")
    assert base.other_work(Subject("script", ("/b/p.py", "1"), "/b", "/opt/python3")) == ""
    assert base.other_work(Subject("script", ("p.py", "2"), "/a", "/usr/bin/python3")) == "arguments: 1, then 2"
    assert base.other_work(Subject("module", ("-m", "p"), "/a", "/usr/bin/python3")).startswith("program:")
    said = base.not_alike(Subject("script", ("src/p.py", "1"), "/b", "/opt/python3", (("K", "V"),)))
    assert said == "working folder: /a, then /b; interpreter: /usr/bin/python3, then /opt/python3; environment: none, then K=V"


def test_a_reason_of_an_older_study_is_unknown():
    assert Gap("unknown").text == "it is not known why"
