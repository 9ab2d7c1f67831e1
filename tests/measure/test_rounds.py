"""Whether one round is faster than another: which evidence counts, and what else differs."""

from __future__ import annotations

import numpy as np
import pytest

from ricerca.engine.agreement import plain_name
from ricerca.engine.profile import build_profile
from ricerca.measure.estimates import BY_PAIRS, BY_RUNS, FASTER, LOOKS, NO_DIFFERENCE, UNDECIDED
from ricerca.measure.rounds import drift_between, speedup_of, times_in_turn, what_differs
from ricerca.measure.timing import LEAST_NS, functions_to_time, timing_keys
from ricerca.model.completeness import FAILED, Gap
from ricerca.model.machine import Machine
from ricerca.model.rounds import PLAIN, RECORDED, Round, Run, Subject, pairs_of, were_looked_at
from ricerca.report.verdicts import judged
from ricerca.report.wording import evidence_text, verdict_text

MS = 1_000_000
SUBJECT = Subject("script", ("p.py",), "/w", "python3")


def run(wall_ms, pair=None, again=False, gaps=(), kind=PLAIN, machine=None):
    return Run(0, kind, 0, round(wall_ms * MS), 0, 0, "exit status 0", gaps, machine=machine or Machine(), pair=pair, again=again)


def a_round(number, *runs, subject=SUBJECT):
    return Round(number, number, f"r{number}", "", subject, 0, "", runs)


def test_pairs_come_before_runs_made_apart():
    base = a_round(1, *(run(300) for _ in range(5)), *(run(100 + k, pair=k, again=True) for k in range(1, 5)))
    new = a_round(2, *(run(50 + k / 2, pair=k) for k in range(1, 5)))
    found = speedup_of(base, new)
    assert (found.evidence, found.verdict, found.pairs) == (BY_PAIRS, FASTER, 4)
    assert found.ratio == pytest.approx(2.0, rel=0.01)  # not six times: the base took three times as long on another day


def test_times_beside_a_verdict_are_those_of_the_runs_it_rests_on():
    base = a_round(1, *(run(300) for _ in range(5)), *(run(100 + k, pair=k, again=True) for k in range(1, 4)))
    new = a_round(2, *(run(50 + k, pair=k) for k in range(1, 4)), run(80))
    assert times_in_turn(base, new) == (102 * MS, 52 * MS)
    found = judged(base, new)
    assert (found.base_ns, found.new_ns) == (102 * MS, 52 * MS)
    apart = judged(base, a_round(3, *(run(60) for _ in range(4))))
    assert times_in_turn(base, apart.new) is None
    assert (apart.base_ns, apart.new_ns) == (300 * MS, 60 * MS)


def test_too_few_pairs_leave_the_runs_made_apart():
    base = a_round(1, *(run(100 + k) for k in range(4)), run(100, pair=1, again=True))
    new = a_round(2, *(run(50 + k) for k in range(4)), run(50, pair=1))
    found = speedup_of(base, new)
    assert (found.evidence, found.pairs) == (BY_RUNS, 1)
    assert "Weaker evidence" in evidence_text(found)


def test_a_pair_counts_only_when_both_runs_ended_well():
    failed = (Gap(FAILED, what="it ended with exit status 1"),)
    base = a_round(1, run(100, 1, True), run(101, 2, True, failed), run(102, 3, True))
    new = a_round(2, run(50, 1), run(51, 2), run(52, 3, gaps=failed), run(53, 4))
    assert pairs_of(base, new) == ((100 * MS, 50 * MS),)


def test_pairs_made_until_it_was_settled_have_a_wider_interval():
    runs = [(100 + k % 3, 97 + k % 2) for k in range(LOOKS[0])]
    base = a_round(1, *(run(b, k, True) for k, (b, _n) in enumerate(runs, 1)))
    fixed = a_round(2, *(run(n, k) for k, (_b, n) in enumerate(runs, 1)))
    looked = a_round(2, *(run(n, k, True) for k, (_b, n) in enumerate(runs, 1)))
    assert (were_looked_at(base, fixed), were_looked_at(base, looked)) == (False, True)
    narrow, wide = speedup_of(base, fixed).interval, speedup_of(base, looked).interval
    assert wide[0] < narrow[0] < narrow[1] < wide[1]


def test_other_work_and_failing_runs_get_no_verdict():
    other = a_round(2, run(1), subject=Subject("script", ("p.py", "9"), "/w", "python3"))
    found = speedup_of(a_round(1, run(1)), other)
    assert (found.verdict, found.evidence, found.interval) == (UNDECIDED, "", None)
    assert "different work" in evidence_text(found)
    assert verdict_text(found) == "no verdict"
    failing = a_round(2, run(1, gaps=(Gap(FAILED, what="it ended with exit status 1"),)))
    assert "no measure" in speedup_of(a_round(1, run(1)), failing).why


def test_a_drift_of_the_machine_is_known_where_the_base_was_run_again():
    base = a_round(1, *(run(100) for _ in range(4)), *(run(50, k, True) for k in range(1, 5)))
    new = a_round(2, *(run(50, k) for k in range(1, 5)))
    factor, doubt = drift_between(base, new)
    assert factor == pytest.approx(0.5)
    assert doubt < 0.01
    assert drift_between(base, a_round(3, run(50)))[0] == 1.0
    assert speedup_of(base, new).verdict == NO_DIFFERENCE


def test_what_else_differs_is_said():
    before = a_round(1, run(1, machine=Machine("a", "cpu", 2, "Linux", 0.0)), run(9, kind=RECORDED, machine=Machine(python="3.11.7")))
    after = a_round(2, run(1, machine=Machine("b", "cpu", 2, "Linux", 3.0)), run(9, kind=RECORDED, machine=Machine(python="3.12.1")))
    assert what_differs(before, after) == ["host: a, then b", "Python: 3.11.7, then 3.12.1", "load: 0.0, then 3.0"]
    assert what_differs(before, before) == []


def test_words_of_verdicts():
    base, new = a_round(1, *(run(100 + k, k, True) for k in range(1, 5))), a_round(2, *(run(50 + k, k) for k in range(1, 5)))
    assert verdict_text(speedup_of(base, new)).endswith(": faster")
    assert evidence_text(speedup_of(base, new)) == "From 4 pairs of runs, made in turn"
    wide = a_round(2, *(run(95 + 7 * k * (-1) ** k, k) for k in range(1, 5)))
    assert "would settle it" in evidence_text(speedup_of(base, wide))
    assert "record with --plain 5" in evidence_text(speedup_of(a_round(1), a_round(2)))


# ---- which functions are worth being timed


def profile_of(calls, self_ns, parents=None, builtins=frozenset()):
    from engine.trees import tables_of

    count = len(calls)
    return build_profile(tables_of(parents or [-1] + [0] * (count - 1), list(range(count)), self_ns, calls, builtins=builtins))


def test_functions_with_long_calls_are_timed_and_short_ones_are_not():
    long, short = round(LEAST_NS * 100), round(LEAST_NS * 0.5)
    profile = profile_of([0, 10, 1000, 5], [0, 10 * long, 1000 * short, 5 * long])
    assert set(functions_to_time(profile).tolist()) == {1, 3}


def test_timing_never_costs_more_than_a_hundredth_of_the_run():
    calls = [0, 1, *[20_000] * 30]
    profile = profile_of(calls, [0, 10**9, *[round(LEAST_NS * 20_000)] * 30])
    chosen = functions_to_time(profile)
    assert 1 in chosen
    assert sum(calls[n] for n in chosen) * LEAST_NS / 20 <= 0.01 * profile.total_ns


def test_builtins_and_what_hardly_takes_time_are_left_out():
    profile = profile_of([0, 1, 1, 1], [0, 10**9, 10**8, 1000], builtins=frozenset({2}))
    assert functions_to_time(profile).tolist() == [1]
    assert functions_to_time(profile_of([0], [0])).tolist() == []


def test_a_recursion_is_timed_only_where_each_of_its_calls_lasts():
    from engine.trees import tables_of

    tables = tables_of([-1, 0, 1, 2], [0, 1, 1, 1], [0, 10**5, 10**5, 10**5], [0, 1, 1, 10**6])
    assert functions_to_time(build_profile(tables)).tolist() == []


def test_keys_are_plain_names_with_line_and_file():
    profile = profile_of([0, 1], [0, 10**9])
    assert timing_keys(profile, np.array([1])) == [(10, "f1", "/p/m.py")]
    assert plain_name("A.m.<locals>.inner") == "inner"
