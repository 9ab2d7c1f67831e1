"""A case puts its sizes for the placeholders of its program, and refuses sizes that mean nothing."""

from __future__ import annotations

import pytest

from ricerca.model.cases import Case, refuse_unused, size_from, size_number, size_text, sized, sizes_of
from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject

SUBJECT = Subject("script", ("p.py", "{n}", "{other}"), "/w", "python3", (("N", "{n}"),), answer=("out-{n}.txt",), input="in-{n}.csv")


def test_a_size_is_put_wherever_its_placeholder_stands_and_nowhere_else():
    found = sized(SUBJECT, (("n", "7"),))
    assert found.program == ("p.py", "7", "{other}")
    assert (found.env, found.answer, found.input) == ((("N", "7"),), ("out-7.txt",), "in-7.csv")
    assert sized(SUBJECT, ()) is SUBJECT


def test_sizes_of_several_names_go_together_and_a_single_value_serves_all():
    case = Case("a", SUBJECT, sizes=sizes_of(["n=1,2,3", "m=9"]))
    assert [size_text(size) for size in case.all_sizes] == ["n=1 m=9", "n=2 m=9", "n=3 m=9"]
    assert case.of_size(case.all_sizes[1]).program[1] == "2"
    assert Case("a", SUBJECT).all_sizes == ((),)


@pytest.mark.parametrize("words", [["n"], ["n="], ["=1"], ["1n=2"], ["n=1 2"], ["n=1,2", "m=1,2,3"], ["n=1", "n=2"]])
def test_what_is_no_size_is_refused(words):
    with pytest.raises(InputError):
        sizes_of(words)


def test_a_size_that_is_used_nowhere_is_refused_and_one_of_the_command_that_makes_the_input_is_not():
    with pytest.raises(InputError, match="used nowhere"):
        refuse_unused(SUBJECT, sizes_of(["rows=1,2"]))
    refuse_unused(SUBJECT, sizes_of(["rows=1,2"]), "make-input {rows} > data")
    refuse_unused(SUBJECT, sizes_of(["n=1,2"]))


@pytest.mark.parametrize(("text", "number"), [("n=1000", 1000), ("n=2e3 m=1", 2000), ("n=small", None), ("", None)])
def test_the_number_of_a_size(text, number):
    assert size_number(text) == number
    assert size_text(size_from(text)) == text
