"""What a case costs in a week, what was saved, and when it is time to stop."""

from __future__ import annotations

import pytest

from ricerca.measure.worth import Worth, worth_of
from ricerca.model.cases import Case
from ricerca.model.rounds import PLAIN, RECORDED, UNDONE, Round, Run, Subject

S = 10**9
SUBJECT = Subject("script", ("p.py",), "/w", "python3")


def round_(number, *wall_ns, kind=PLAIN, fate=""):
    runs = tuple(Run(n, kind, 0, wall, 0, 0, "exit status 0") for n, wall in enumerate(wall_ns))
    return Round(number, number, "r", "", SUBJECT, 0, "", runs, fate=fate)


def test_a_week_is_seven_days_of_runs():
    found = worth_of(Case("a", SUBJECT, 10), [round_(1, 4 * S), round_(2, 3 * S)])
    assert (found.run_ns, found.baseline_ns) == (3 * S, 4 * S)
    assert found.week_ns == 210 * S
    assert found.saved_week_ns == 70 * S


def test_what_was_undone_does_not_count_and_recorded_times_stand_in():
    found = worth_of(Case("a", SUBJECT, 1), [round_(1, 4 * S, kind=RECORDED), round_(2, S, fate=UNDONE)])
    assert (found.run_ns, found.baseline_ns) == (4 * S, 4 * S)
    assert worth_of(Case("a", SUBJECT, 1), []).week_ns is None
    assert worth_of(Case("a", SUBJECT), [round_(1, S)]).week_ns is None


@pytest.mark.parametrize(
    ("share", "per_day", "enough"),
    [(0.5, 100, False), (0.019, 10**6, True), (0.5, 1, True), (0.5, None, False), (None, 100, False), (0.01, None, True)],
)
def test_it_is_time_to_stop_under_two_percent_or_a_minute_a_week(share, per_day, enough):
    assert Worth(per_day, 10 * S, 20 * S, share).enough is enough
