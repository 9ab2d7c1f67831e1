"""Line runs that follow by themselves: unseen, of the right functions, and nothing is lost where they fail."""

from __future__ import annotations

import json
from textwrap import dedent

import pytest
from conftest import ricerca

from ricerca.study.store import Study

WORK = dedent("""\
    def heavy(n):
        total = 0
        for k in range(n):
            total += k * k % 7
        return total
    def main():
        print(heavy(40000))
""")


@pytest.fixture
def record(tmp_path):
    def run(text, *options, stdin=None):
        (tmp_path / "p.py").write_text(text)
        done = ricerca("record", "--lines", "auto", *options, "--study", "s.ricerca", "p.py", cwd=tmp_path, input=stdin)
        with Study.open(tmp_path / "s.ricerca") as study:
            return done, study.rounds()

    return run


def kinds(rounds):
    return [run.kind for run in rounds[-1].runs]


def test_on_every_interpreter_the_lines_of_the_slowest_function_are_followed(record, interpreter, tmp_path):
    done, rounds = record(WORK + "main()\n", "--python", interpreter)
    assert done.returncode == 0 and kinds(rounds) == ["recorded", "line"]
    rows = json.loads(ricerca("rank", tmp_path / "s.ricerca", "--lines", "--json").stdout)["lines"]
    assert [row["hits"] for row in rows if row["line"] == 4 and row["function"] == "heavy"] == [40000]
    assert rounds[0].subject.lines == (), "the round is of the program, not of lines"


def test_the_program_s_exit_status_is_that_of_the_recorded_run(record):
    done, rounds = record(WORK + "main()\nraise SystemExit(3)\n")
    assert done.returncode == 3 and kinds(rounds) == ["recorded", "line"]


def test_a_program_that_fails_the_second_time_keeps_its_recorded_run(record, tmp_path):
    done, rounds = record(WORK + "import os\nif os.path.exists('once'): raise SystemExit(9)\nopen('once', 'w').close()\nmain()\n")
    assert done.returncode == 0
    assert "recorded" in kinds(rounds)
    facts = json.loads(ricerca("rank", tmp_path / "s.ricerca", "--json").stdout)
    assert facts["exit_status"] == 0 and facts["complete"]


def test_where_nothing_of_one_s_own_takes_time_that_is_said(record):
    done, rounds = record("import json\nfor k in range(300): json.dumps(list(range(200)))\n", "--inside", "dumps")
    assert done.returncode == 0 and kinds(rounds) == ["recorded"]
    assert "no line run: no function of your own code" in done.stderr


def test_input_is_given_again(record):
    done, rounds = record(WORK + "main()\nprint(input())\n", stdin="hello\n")
    assert done.stdout.endswith("hello\n") and done.stdout.count("hello") == 1
    assert kinds(rounds) == ["recorded", "line"]
    assert [run.exit_status for run in rounds[0].runs] == [0, 0]


def test_named_functions_take_the_place_of_the_slowest(record):
    _done, rounds = record(WORK + "main()\n", "--lines", "main")
    assert kinds(rounds) == ["line"], "named lines are followed in the recorded run itself"


def test_plain_and_sparse_runs_come_after_the_line_run(record):
    done, rounds = record(WORK + "main()\n", "--plain", "2")
    assert kinds(rounds)[:2] == ["recorded", "line"]
    assert kinds(rounds).count("plain") == 2
    assert done.stdout.count("\n") == 1
