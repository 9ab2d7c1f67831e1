"""Snippets: whether they come to the same, what is said of one that fails, and what is counted."""

from __future__ import annotations

import ast

import pytest

from ricerca.model.errors import InputError
from ricerca.runner.snippet_driver import answer_of, measure, name_given, same_answer
from ricerca.runner.snippets import SnippetRequest, SnippetTiming, calls_of_a_loop


def asked(*texts, setup="", seconds=0.1):
    return {"setup": setup, "snippets": texts, "seconds": seconds, "collect": False}


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("total = 3", "total"),
        ("total += 3", "total"),
        ("for n in range(3):\n    total = n", "total"),
        ("a = b = 2", "b"),
        ("text[0] = 1", ""),
        ("call()", ""),
        ("pass", ""),
    ],
)
def test_a_snippet_comes_to_what_it_gives_a_name_last(text, name):
    assert name_given(ast.parse(text).body[-1]) == name


def test_the_value_of_a_loop_is_that_of_the_name_it_gives():
    setup = ast.parse("heights = [1, 2, 3]").body
    assert answer_of(setup, ast.parse("total = 0\nfor height in heights:\n    total += height").body) == (6, True)
    assert answer_of(setup, ast.parse("heights.sort").body)[1] and not answer_of(setup, ast.parse("pass").body)[1]


def test_answers_are_compared_where_there_are_some():
    assert same_answer([(3, True), (3, True)]) is True
    assert same_answer([(3, True), (4, True)]) is False
    assert same_answer([(3, True), (None, False)]) is None
    assert same_answer([(iter("ab"), True), (iter("ab"), True)]) is None
    assert same_answer([(3, True)]) is None


def test_a_loop_and_a_sum_come_to_the_same():
    facts = measure(asked("total = 0\nfor n in values:\n    total += n", "sum(values)", setup="values = [1, 2, 3]"))
    assert facts["same_answer"] is True
    assert len(facts["blocks"]) == 2 and all(time > 0 for block in facts["blocks"] for time in block)


@pytest.mark.parametrize(
    ("request_", "says"),
    [
        (SnippetRequest(("1 +",)), "Snippet 1 is no Python code"),
        (SnippetRequest(("1", "nobody"), seconds=0.1), "Snippet 2 ended with NameError"),
        (SnippetRequest(("1",), setup="import no_such_module", seconds=0.1), "ended with ModuleNotFoundError"),
        (SnippetRequest(("1",), pythons=("/no/such/python",)), "/no/such/python"),
        (SnippetRequest(("1",), cwd="/no/such/folder"), "There is no folder /no/such/folder"),
    ],
)
def test_what_cannot_be_timed_says_why(request_, says):
    with pytest.raises(InputError, match=says):
        SnippetTiming(request_).run()


def test_calls_are_those_of_one_loop_without_the_set_up(tmp_path):
    (tmp_path / "own.py").write_text("def one(): return 1\n")
    request = SnippetRequest(("one(); one()",), setup="from own import one\none()", cwd=str(tmp_path))
    assert calls_of_a_loop(request, request.texts[0]) == 2


def test_a_snippet_that_fails_while_it_is_counted_says_why(tmp_path):
    with pytest.raises(InputError, match="NameError"):
        calls_of_a_loop(SnippetRequest(("nobody",), cwd=str(tmp_path)), "nobody")
