"""Which lines are followed by themselves: of the slowest functions of one's own code, by names that the recorder knows."""

from __future__ import annotations

from dataclasses import replace

from ricerca.engine.own_layers import OwnLayer
from ricerca.measure.following import MOST_FUNCTIONS, lines_to_follow
from ricerca.model.rounds import Subject
from tests.engine.trees import tables_of

SUBJECT = Subject("script", ("p.py",), "/home/me", "python3", roots=("/home/me",))


def tables(self_ns, names, files=None, python="3.12.1"):
    count = len(self_ns)
    made = tables_of([-1, 0] + [1] * (count - 2), list(range(count)), self_ns, names=names)
    files = files or ["", *["/home/me/p.py"] * (count - 1)]
    return replace(made, function_file=tuple(files), facts=replace(made.facts, python=python))


def test_the_slowest_functions_of_one_s_own_code_are_followed_slowest_first():
    made = tables([0, 10, 500, 5, 400], ["start", "main", "load", "close", "fit"])
    assert lines_to_follow(made, SUBJECT) == ("load", "fit", "main")


def test_time_of_a_library_counts_for_who_asked_for_it():
    made = tables([0, 10, 5, 900], ["start", "main", "close", "solve"], ["", "/home/me/p.py", "/home/me/p.py", "/usr/lib/python3/x/s.py"])
    assert lines_to_follow(made, SUBJECT) == ("main",)


def test_what_a_person_said_is_theirs_is_followed_too():
    files = ["", "/home/me/p.py", "/opt/lib/tool.py"]
    made = tables([0, 1, 900], ["start", "main", "solve"], files)
    assert lines_to_follow(made, SUBJECT) == ("main",)
    assert lines_to_follow(made, SUBJECT, (OwnLayer("mine", ("/opt/lib",)),)) == ("solve",)


def test_old_interpreters_know_plain_names_only():
    names = ["start", "main", "Box.put", "fit.<locals>.<listcomp>"]
    assert lines_to_follow(tables([0, 1, 500, 400], names), SUBJECT) == ("Box.put", "fit.<locals>.<listcomp>")
    assert lines_to_follow(tables([0, 1, 500, 400], names, python="3.9.18"), SUBJECT) == ("put", "<listcomp>")


def test_no_more_than_a_handful_is_followed_and_nothing_where_nothing_takes_time():
    many = tables([0, 1, *[100] * 40], ["start", "main", *(f"f{n}" for n in range(40))])
    assert len(lines_to_follow(many, SUBJECT)) == MOST_FUNCTIONS
    assert lines_to_follow(tables([0, 0], ["start", "main"]), SUBJECT) == ()
