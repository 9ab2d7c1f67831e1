"""Each kind of lead and each kind of evidence has its words, with the right singular and plural, and none is left without."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from ricerca.engine import leads
from ricerca.engine.leads import Evidence, Lead
from ricerca.report.leads import NAME, OTHER_NAME, ceiling_words, lead_evidence, lead_sentence

THIN = "\u202f"
LEAD = Lead(leads.BODY, "fit", 12, 0.42, (), 420_000_000, 500_000_000, 1.7, function=3)


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({}, f"fit itself takes 42{THIN}% of the run."),
        ({"with_others": True}, f"fit and the library code it calls take 42{THIN}% of the run."),
        ({"kind": leads.OFTEN, "calls": 213_040}, f"fit is called 213{THIN}040 times, which adds up to 42{THIN}% of the run."),
        ({"kind": leads.SELDOM, "calls": 1}, f"1 call of fit takes 42{THIN}% of the run."),
        ({"kind": leads.SELDOM, "calls": 2}, f"2 calls of fit take 42{THIN}% of the run."),
        ({"kind": leads.GROWS, "factor": 3.14}, "A call of fit takes 3.1× as long at the end of the run as at its start."),
        ({"kind": leads.WAITING, "name": "lock"}, f"The program waits for 42{THIN}% of the run. It mostly waits for: lock."),
        ({"kind": leads.COLLECTION, "calls": 1}, f"Garbage is collected 1 time, which takes 42{THIN}% of the run."),
        ({"kind": leads.IMPORTS}, f"Imports take 42{THIN}% of the run."),
        ({"kind": leads.PROGRAMS, "calls": 1}, f"1 other program is started. Waiting for it takes 42{THIN}% of the run."),
        ({"kind": leads.PROGRAMS, "calls": 3}, f"3 other programs are started. Waiting for them takes 42{THIN}% of the run."),
        ({"kind": leads.CYCLE, "calls": 600, "evidence": (Evidence(leads.MEMBERS, parts=(("even", 1), ("odd", 1))),)},
         f"2 functions are mutually recursive: 600 calls among them, 42{THIN}% of the run."),
        ({"kind": leads.SLOWER, "base_number": 2}, f"fit takes 420{THIN}ms more than in round 2."),
        ({"kind": leads.NEW}, f"fit is new and takes 420{THIN}ms."),
        ({"kind": leads.LITTLE}, f"No single place is worth much: the slowest function takes 42{THIN}% of the run."),
    ],
)  # fmt: skip
def test_each_kind_of_lead_has_its_sentence(change, expected):
    assert lead_sentence(replace(LEAD, **change)) == expected


@pytest.mark.parametrize(
    ("fact", "expected"),
    [
        (Evidence(leads.PER_CALL, time_ns=14_500), f"14.5{THIN}µs per call"),
        (Evidence(leads.EACH, calls=705, time_ns=705_000), f"705 calls of 705{THIN}µs"),
        (Evidence(leads.RESUMED, calls=1), "resumed 1 time"),
        (Evidence(leads.FIRST_LAST, calls=9, time_ns=1000, later_ns=5000, share=0.5),
         f"from 1.00{THIN}µs to 5.00{THIN}µs per call; 9 calls, 50{THIN}% of the run"),
        (Evidence(leads.CALLER, "main", calls=9, share=1.0, line=7), "all calls come from main, line 7"),
        (Evidence(leads.CALLER, "main", calls=9, share=0.998), "nearly all calls come from main"),
        (Evidence(leads.CALLER, "main", calls=9, share=0.79), f"79{THIN}% of the calls come from main"),
        (Evidence(leads.CALLEE, "solve", calls=300, time_ns=7e9, line=7), f"line 7: 300 calls of solve, 7.00{THIN}s"),
        (Evidence(leads.LINE, calls=1, share=0.61, line=50), f"line 50: 61{THIN}% of its self time, 1 hit"),
        (Evidence(leads.MORE, calls=1, time_ns=1e9), f"1.00{THIN}s more than in round 1"),
        (Evidence(leads.WAITS_FOR, parts=(("sleep", 10**9), ("lock", 10**6))), f"sleep 1.00{THIN}s, lock 1.00{THIN}ms"),
        (Evidence(leads.WAITS_IN, "nap", time_ns=1e9), f"most of it in nap, 1.00{THIN}s"),
        (Evidence(leads.UNDER, "main", time_ns=1e9), f"most of it under main, 1.00{THIN}s"),
        (Evidence(leads.SLOWEST, parts=(("sort", 10**9),)), f"sort 1.00{THIN}s"),
        (Evidence(leads.MODULES, calls=3, parts=(("import numpy", 2 * 10**9),)), f"3 modules; the slowest: import numpy 2.00{THIN}s"),
        (Evidence(leads.MEMBERS, parts=(("a", 1), ("b", 1), ("c", 1), ("d", 1))), "cycle of 4: a, b, c …"),
        (Evidence(leads.ENTRIES, calls=30), "entered 30 times from outside"),
        (Evidence(leads.BEFORE_AFTER, time_ns=1e9, later_ns=2e9, parts=(("before", 1), ("now", 4000))),
         f"1.00{THIN}s before, 2.00{THIN}s now; 1 calls before, 4{THIN}000 now"),
        (Evidence(leads.TEN, share=0.2), f"the ten slowest together take 20{THIN}%"),
    ],
)  # fmt: skip
def test_each_kind_of_evidence_has_its_phrase(fact, expected):
    assert lead_evidence(replace(LEAD, evidence=(fact,))) == [expected]


def test_time_per_call_says_when_library_code_is_counted_in_it():
    lead = replace(LEAD, with_others=True, evidence=(Evidence(leads.PER_CALL, time_ns=1000),))
    assert lead_evidence(lead) == [f"1.00{THIN}µs per call in fit and the library code it calls"]


def test_shares_are_of_what_is_read():
    assert lead_sentence(LEAD, "what is read") == f"fit itself takes 42{THIN}% of what is read."
    fact = Evidence(leads.FIRST_LAST, calls=9, time_ns=1000, later_ns=5000, share=0.5)
    assert lead_evidence(replace(LEAD, evidence=(fact,)), "what is read")[0].endswith("of what is read")


def test_long_names_are_cut_at_their_end():
    assert lead_sentence(replace(LEAD, name="x" * 100)).startswith("x" * (NAME - 1) + "… itself")
    fact = Evidence(leads.UNDER, "y" * 100, time_ns=1)
    assert f"{'y' * (OTHER_NAME - 1)}…" in lead_evidence(replace(LEAD, evidence=(fact,)))[0]


def test_what_nobody_knows_is_an_error_and_no_silence():
    with pytest.raises(ValueError, match="unknown kind of lead"):
        lead_sentence(replace(LEAD, kind="strange"))
    with pytest.raises(ValueError, match="unknown kind of evidence"):
        lead_evidence(replace(LEAD, evidence=(Evidence("strange"),)))


def test_the_ceiling_says_how_much_faster_at_most():
    assert ceiling_words(1.85) == ("1.85×", "faster at most", "Without it the run would be 1.85× faster. No change here can gain more.")
    assert ceiling_words(math.inf)[:2] == ("all", "of the run")
