"""Whether two rounds answer the same, and where they first differ."""

from __future__ import annotations

import pytest

from ricerca.model.answers import ANOTHER, HEAD_BYTES, SAME, STDERR, STDOUT, VARIES, Answer, Output, compare_answers
from ricerca.model.machine import Machine
from ricerca.study.about_runs import answer_from, answer_text, machine_from, machine_text


def answer(out=b"", err=b"", **files):
    written = [(STDOUT, Output.of(out)), (STDERR, Output.of(err))]
    return Answer((*written, *((name, None if text is None else Output.of(text)) for name, text in files.items())))


def test_the_same_another_and_what_varies_by_itself():
    assert compare_answers([answer(b"1\n")], [answer(b"1\n")]).same is True
    found = compare_answers([answer(b"1\n2\n")], [answer(b"1\n3\n")])
    assert (found.verdict, found.same) == (ANOTHER, False)
    assert found.difference == "standard output, line 2: “2”, then “3”"
    varies = compare_answers([answer(b"at 1"), answer(b"at 2")], [answer(b"at 3")])
    assert (varies.verdict, varies.same) == (VARIES, None)
    assert compare_answers([], [answer()]).same is None


def test_what_is_steady_is_compared_though_something_else_varies():
    base = [answer(b"5", err=b"took 1"), answer(b"5", err=b"took 2")]
    assert compare_answers(base, [answer(b"6", err=b"took 3")]).verdict == ANOTHER
    assert compare_answers(base, [answer(b"5", err=b"took 3")]).verdict == VARIES


def test_files_that_are_missing_or_longer():
    assert compare_answers([answer(t=b"x")], [answer(t=None)]).difference == "t, there before, missing then"
    assert compare_answers([answer(t=None)], [answer(t=None)]).verdict == SAME
    longer = compare_answers([answer(b"a\n")], [answer(b"a\nb")])
    assert "line 2" in longer.difference


def test_a_difference_far_behind_is_told_by_where_it_is():
    big = b"x" * (3 * HEAD_BYTES)
    changed = big[:-5] + b"y" + big[-4:]
    found = compare_answers([answer(big)], [answer(changed)])
    assert found.difference == f"standard output, somewhere after byte {2 * HEAD_BYTES:,}"


def test_control_signs_do_not_reach_the_reader():
    found = compare_answers([answer(b"\x1b[31mred")], [answer(b"blue")])
    assert "\x1b" not in found.difference


def test_answers_and_machines_are_kept_as_they_are():
    one = answer(b"text \xff", b"", **{"/tmp/a b.csv": None})
    assert answer_from(answer_text(one)) == one
    machine = Machine("host", "cpu", 4, "Linux 6", 0.5, "3.12.1", (("numpy", "2.0"),))
    assert machine_from(machine_text(machine)) == machine
    assert machine_from("{}") == Machine()
    with pytest.raises((ValueError, TypeError, KeyError)):
        answer_from('{"standard output": {"bytes": 1, "pieces": [], "head": "AAAA"}}')


def test_machines_differ_in_words():
    before = Machine("a", "cpu", 4, "Linux 6", 0.1, "3.11.7", (("numpy", "1.26"), ("rich", "13")))
    after = Machine("a", "cpu", 4, "Linux 6", 3.5, "3.12.1", (("numpy", "2.0"), ("click", "8")))
    assert before.differences(after) == ["Python: 3.11.7, then 3.12.1", "numpy 1.26, then 2.0", "load: 0.1, then 3.5"]
    assert before.differences(Machine()) == []
