"""The commit that made a program slow is found with few rounds, by counts where they tell, by times otherwise."""

from __future__ import annotations

import pytest

from ricerca.measure.bisection import Counted, find_culprit, first_unlike, largest_change, places_of

BEFORE = Counted({("m", "work"): 100, ("m", "main"): 1}, {("m", "work"): 10.0, ("m", "main"): 50.0})
AFTER = Counted(
    {("m", "work"): 100, ("m", "main"): 1, ("m", "check"): 2000}, {("m", "work"): 10.0, ("m", "main"): 50.0, ("m", "check"): 5.0}
)


class History:
    """Commits of which one changed the counts; counts what is asked for."""

    def __init__(self, count, culprit, failing=(), by_time=False):
        self.count, self.culprit, self.failing, self.by_time = count, culprit, failing, by_time
        self.asked: set[int] = set()

    def counted(self, place):
        self.asked.add(place)
        if place in self.failing:
            return None
        return AFTER if place >= self.culprit and not self.by_time else BEFORE

    def differ(self, first, second):
        if first in self.failing or second in self.failing:
            return None
        self.asked |= {first, second}
        return (first >= self.culprit) != (second >= self.culprit)

    def search(self):
        return find_culprit(self.count, self.counted, self.differ)


@pytest.mark.parametrize("culprit", range(1, 12))
def test_among_twelve_commits_five_rounds_find_it(culprit):
    history = History(12, culprit)
    found = history.search()
    assert (found.culprit, found.before, found.by_counts) == (culprit, culprit - 1, True)
    assert "calls of check: 0, then 2000" in found.why
    assert len(history.asked) <= 5


@pytest.mark.parametrize("count", [2, 3, 4, 7, 30, 100])
def test_any_number_of_commits_is_searched_with_as_many_rounds_as_it_takes(count):
    for culprit in range(1, count):
        history = History(count, culprit)
        assert history.search().culprit == culprit
        assert len(history.asked) <= (count - 1).bit_length() + 2


@pytest.mark.parametrize("culprit", [1, 4, 8])
def test_where_counts_do_not_tell_times_do(culprit):
    found = History(9, culprit, by_time=True).search()
    assert (found.culprit, found.before, found.by_counts) == (culprit, culprit - 1, False)


def test_without_a_difference_nobody_is_accused():
    found = History(9, 99).search()
    assert (found.culprit, found.before) == (None, None)
    assert "do not differ" in found.why


def test_commits_that_cannot_be_measured_are_left_out():
    found = History(12, 7, failing=(3, 5, 6)).search()
    assert found.culprit == 7
    assert found.before == 4
    assert History(5, 2, failing=(4,)).search().why == "the last commit cannot be measured"
    assert History(1, 0).search().culprit is None


def test_a_change_that_is_small_is_judged_by_the_oldest_commit():
    small = Counted({**BEFORE.calls, ("m", "main"): 2}, BEFORE.call_ns)  # 5 % more
    found = find_culprit(4, lambda place: small if place >= 2 else BEFORE, lambda first, second: False)
    assert (found.culprit, found.before) == (2, 1)


def test_helpers_of_the_search():
    assert first_unlike(2, lambda place: True) == (1, 0)
    assert largest_change(BEFORE, BEFORE) is None
    assert largest_change(BEFORE, AFTER) == (("m", "check"), 0, 2000)
    assert places_of(["a", "b", "c"], History(3, 2).search()) == ("c", "b")
