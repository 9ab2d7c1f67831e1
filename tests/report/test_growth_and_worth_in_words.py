"""Growth, worth and snippets as sentences and tables that say what the figures say."""

from __future__ import annotations

import pytest

from ricerca.measure.growth import growth_row
from ricerca.measure.worth import Worth
from ricerca.report.cases import worth_text
from ricerca.report.growth import growth_facts, growth_sentences, growth_words, law_text, show_growth, steep_rows
from ricerca.report.snippets import answer_text, between, median_interval, pair_sentence, show_snippets, snippet_facts, spread_text
from ricerca.runner.snippets import SnippetRequest, SnippetTimes

S, MS = 10**9, 10**6
SIZES = (100, 200, 400, 800)
SQUARE = growth_row(("same", "m", "/w/m.py", 4), SIZES, [n * (n - 1) // 2 for n in SIZES], [n * n * 10 for n in SIZES])
SCAN = growth_row(("scan", "m", "/w/m.py", 9), SIZES, list(SIZES), [n * n * 30 for n in SIZES])
FLAT = growth_row(("once", "m", "/w/m.py", 1), SIZES, [1, 1, 1, 1], [50, 50, 50, 50])
ODD = growth_row(("odd", "m", "/w/m.py", 1), SIZES, [3, 9, 11, 40], [0, 0, 0, 0])


def test_what_grows_faster_than_its_input_leads_the_slowest_first_and_what_does_not_is_left_out():
    assert [row.function for row in steep_rows([FLAT, SQUARE, SCAN, ODD])] == ["scan", "same"]
    by_time, by_calls = growth_sentences([FLAT, SQUARE, SCAN, ODD])
    assert by_time.startswith("The time of scan grows as n^2.0 (2.0 to 2.0): with ten times the data it would take 1.92")
    assert by_calls.startswith("The calls of same grow as n² (counts exact at 4 sizes)")
    assert growth_sentences([FLAT]) == []


@pytest.mark.parametrize(("row", "law"), [(SQUARE, "n²"), (SCAN, "n"), (FLAT, "constant"), (ODD, "about n^1.15")])
def test_laws_in_a_word(row, law):
    assert law_text(row) == law


def test_growth_in_sentences_tells_what_is_not_known_as_well():
    assert growth_words(FLAT).startswith("Its calls do not depend on the size.")
    assert "Its calls grow as n, exact at 4 sizes" in growth_words(SCAN)
    assert "No law of its calls fits 4 sizes" in growth_words(ODD)


def test_growth_as_json_has_the_keys_of_the_contract():
    (row,) = growth_facts([SQUARE])
    assert list(row) == ["function", "module", "file", "line", "sizes", "calls", "calls_law", "calls_exponent", "self_ns", "time_exponent",
                         "time_exponent_interval"]  # fmt: skip
    assert (row["sizes"], row["calls_law"]) == ([100, 200, 400, 800], "n^2")
    assert growth_facts([ODD])[0]["time_exponent"] is None


def test_the_table_of_growth_names_sizes_and_laws(capsys):
    class One:
        def __init__(self, size):
            self.round = type("R", (), {"size": size, "number": 3})

    show_growth([One(f"n={n}") for n in SIZES], [SQUARE, FLAT], 5)
    out = capsys.readouterr().out
    assert "Round 3 at 4 sizes: n=100, n=200, n=400, n=800" in out
    assert "n²" in out and "constant" in out


@pytest.mark.parametrize(
    ("worth", "says", "not_says"),
    [
        (
            Worth(10, 2 * S, 4 * S, 0.5),
            ["Run 10 times a day, it takes 140 s a week", "140 s a week less than", "at most 50", "70.0 s"],
            ["stop"],
        ),
        (Worth(10, 4 * S, 2 * S), ["140 s a week more than at the baseline"], ["best lead", "stop"]),
        (Worth(100, 2 * S, 2 * S, 0.01), ["this is the place to stop"], ["less than", "more than"]),
        (Worth(0.5, MS, MS, 0.9), ["Run 0.5 times a day", "this is the place to stop"], []),
    ],
)
def test_what_a_case_costs_in_a_sentence(worth, says, not_says):
    text = worth_text(worth).replace("\u202f", " ")
    for part in says:
        assert part in text
    for part in not_says:
        assert part not in text


def test_without_how_often_it_is_run_nothing_is_said():
    assert worth_text(Worth(None, S, S)) == ""
    assert worth_text(Worth(5, None, None)) == ""


def times(*blocks, version="3.11.7", same=True):
    return SnippetTimes("python3", version, tuple(100 for _ in blocks), tuple(tuple(own) for own in blocks), same)


FAST, SLOW = [10.0 + 0.01 * n for n in range(20)], [20.0 + 0.01 * n for n in range(20)]


def test_the_interval_of_a_median_holds_it_and_needs_six_values():
    low, high = median_interval(FAST)
    assert low <= 10.095 <= high
    assert median_interval(FAST[:5]) is None
    assert median_interval(FAST[:6]) == (FAST[0], FAST[5])


def test_a_verdict_speaks_of_the_second_against_the_first():
    assert between(SLOW, FAST).verdict == "faster"
    assert between(FAST, SLOW).verdict == "slower"
    assert between(FAST, FAST).verdict == "no difference"
    assert between(SLOW, FAST).ratio == pytest.approx(2, rel=0.02)
    assert "20 blocks of each" in between(SLOW, FAST).why


def test_snippets_of_several_interpreters_are_compared_within_each(capsys):
    request = SnippetRequest(("a", "b"), "x = 1")
    facts = snippet_facts(request, [times(FAST, SLOW), times(SLOW, FAST, version="3.13.0", same=None)])
    assert [(row["number"], row["text"], row["python"]) for row in facts["snippets"]] == [
        (1, "a", "3.11.7"), (2, "b", "3.11.7"), (1, "a", "3.13.0"), (2, "b", "3.13.0"),
    ]  # fmt: skip
    assert [(pair["first"], pair["second"], pair["verdict"]) for pair in facts["pairs"]] == [(0, 1, "slower"), (2, 3, "faster")]
    assert facts["same_answer"] is None
    assert pair_sentence(facts, facts["pairs"][1]).startswith("2 against 1 on Python 3.13.0: 2.0×")
    show_snippets(facts)
    out = capsys.readouterr().out
    assert out.count("against") == 2
    assert "could not be told" in out


@pytest.mark.parametrize(("same", "says"), [(True, "All come"), (False, "do not come"), (None, "could not be told")])
def test_whether_the_answer_is_the_same_is_said(same, says):
    facts = snippet_facts(SnippetRequest(("a", "b")), [times(FAST, SLOW, same=same)])
    assert says in answer_text(facts)
    assert answer_text(snippet_facts(SnippetRequest(("a",)), [times(FAST, same=None)])) == ""


def test_the_spread_is_drawn_on_one_scale():
    facts = snippet_facts(SnippetRequest(("a", "b")), [times(FAST, SLOW)])
    fast, slow = (spread_text(row, 30.0) for row in facts["snippets"])
    assert len(fast) == len(slow)
    assert fast.index("┃") < slow.index("┃")
