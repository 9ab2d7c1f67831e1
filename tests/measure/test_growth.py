"""Growth is told right where the sizes support it, and not told where they do not."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ricerca.measure.growth import Law, growth_between, growth_row, law_of_counts, time_exponent


def merges(n):
    """Steps of a merge sort."""
    return 0 if n <= 1 else merges(n // 2) + merges(n - n // 2) + n - 1


PROGRAMS = {
    "1": [lambda n: 1, lambda n: 37],
    "n": [lambda n: n, lambda n: 3 * n + 7, lambda n: n - 1, lambda n: 2 * n + 50],
    "n log n": [merges, lambda n: int(n * math.log2(n))],
    "n^2": [lambda n: n * n, lambda n: n * (n - 1) // 2, lambda n: n * n + 3 * n + 5],
    "n^3": [lambda n: n**3, lambda n: n * (n - 1) * (n - 2) // 6, lambda n: n**3 + n * n],
}


@pytest.mark.parametrize("law", PROGRAMS)
def test_five_sizes_tell_the_law_in_nineteen_of_twenty_studies_and_never_another(law):
    told = [
        law_of_counts(sizes, [count(n) for n in sizes]).law
        for count in PROGRAMS[law]
        for first in (20, 50, 100, 250, 400)
        for factor in (2, 3)
        for sizes in [[round(first * factor**step) for step in range(5)]]
    ]
    assert set(told) <= {law, None}
    assert told.count(law) >= 0.95 * len(told)


@pytest.mark.parametrize("sizes", [[], [10], [10, 20], [10, 20, 30], [1, 2, 4, 8], [100, 110, 120, 130]])
def test_too_few_sizes_or_too_close_ones_tell_no_law(sizes):
    assert law_of_counts(sizes, [n * n for n in sizes]).law is None


def test_counts_that_vary_by_chance_tell_no_law_or_the_right_one():
    chance = np.random.default_rng(7)
    sizes = [500 * 2**step for step in range(5)]
    for exponent in (1.0, 2.0):
        told = {law_of_counts(sizes, [int(n**exponent * (1 + 0.1 * chance.standard_normal())) for n in sizes]).law for _ in range(200)} - {
            None
        }
        assert len(told) <= 3
    told = [law_of_counts(sizes, [int(n**1.5) for n in sizes]).law]
    assert told == [None]


def test_a_function_that_is_not_called_at_all_sizes_has_no_law_and_no_exponent():
    assert law_of_counts([100, 200, 400, 800], [0, 1, 2, 4]) == Law(None, None)
    assert law_of_counts([100, 200, 400, 800], [0, 0, 0, 0]) == Law(None, None)


def test_the_interval_of_a_time_holds_the_true_exponent():
    chance, sizes, held = np.random.default_rng(3), np.asarray([1e3, 2e3, 4e3, 8e3, 16e3]), 0
    for _ in range(400):
        times = (sizes**2 * np.exp(0.05 * chance.standard_normal(5))).astype(int).tolist()
        exponent, interval = time_exponent(sizes.tolist(), times)
        assert exponent is not None and interval is not None
        held += interval[0] <= 2 <= interval[1]
    assert held >= 0.93 * 400


def test_what_a_function_would_take_at_more_follows_its_law():
    quadratic = growth_row(("f", "m", "m.py", 1), (100, 200, 400, 800), (4950, 19900, 79800, 319600), (10, 40, 160, 640))
    assert quadratic.self_ns_at(10) == pytest.approx(64_000, rel=0.02)
    constant = growth_row(("g", "m", "m.py", 9), (100, 200, 400, 800), (1, 1, 1, 1), (50, 50, 50, 50))
    assert constant.self_ns_at(10) == pytest.approx(50)
    scan = growth_row(("h", "m", "m.py", 9), (100, 200, 400, 800), (100, 200, 400, 800), (10**4, 4 * 10**4, 16 * 10**4, 64 * 10**4))
    assert scan.calls_law.law == "n"
    assert scan.self_ns_at(10) == pytest.approx(64 * 10**6, rel=0.01)


@pytest.mark.parametrize(
    ("law", "factor"), [("1", 1), ("n", 10), ("n^2", 100), ("n^3", 1000), ("n log n", 10 * math.log(1000) / math.log(100))]
)
def test_growth_between_two_sizes(law, factor):
    assert growth_between(Law(law, 5.0), 100, 1000) == pytest.approx(factor)
    assert growth_between(Law(None, None), 100, 1000) == 1
    assert growth_between(Law(None, 1.5), 100, 1000) == pytest.approx(10**1.5)


def test_time_that_others_on_the_machine_took_does_not_count_in_how_a_time_grows():
    calls, working = (100, 200, 400, 800), (10**5, 2 * 10**5, 4 * 10**5, 8 * 10**5)
    disturbed = growth_row(("f", "m", "m.py", 1), calls, calls, (10**5, 2 * 10**5, 4 * 10**5, 9 * 10**7), working)
    assert disturbed.time_exponent == pytest.approx(1)
    assert disturbed.self_ns_at(10) == pytest.approx(8 * 10**6)
    assert disturbed.self_ns[-1] == 9 * 10**7
