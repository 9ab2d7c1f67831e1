"""Cases, sizes, snippets, budgets and revisions through the real program."""

from __future__ import annotations

import json
import os
import subprocess

import pytest
from conftest import facts_of, ricerca

PROGRAM = """
import sys
def same(a, b): return a ** 300 == b ** 300
def pairs(n):
    for i in range(n):
        for j in range(i): same(i, j)
def once(): return 1
def each(n):
    for _ in range(n): step()
def step(): return 1
n = int(sys.argv[1])
once(); each(n); pairs(n)
print(n)
"""


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "grow.py").write_text(PROGRAM)
    return tmp_path


def test_a_case_with_sizes_is_measured_at_all_of_them_and_its_growth_is_told(folder):
    done = ricerca(
        "record", "--study", "s.ricerca", "--case", "growing", "--size", "n=40,80,160,320,640", "--", "grow.py", "{n}", cwd=folder
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.split() == ["40", "80", "160", "320", "640"]
    facts = facts_of(folder / "s.ricerca", "--growth")
    assert (facts["program"], facts["case"], facts["size"]) == (["grow.py", "640"], "growing", "n=640")
    growth = {row["function"]: row for row in facts["growth"]}
    assert growth["same"]["sizes"] == [40, 80, 160, 320, 640]
    assert growth["same"]["calls"] == [n * (n - 1) // 2 for n in (40, 80, 160, 320, 640)]
    laws = {name: growth[name]["calls_law"] for name in ("same", "pairs", "once", "each", "step")}
    assert laws == {"same": "n^2", "pairs": "1", "once": "1", "each": "1", "step": "n"}
    assert facts_of(folder / "s.ricerca", "--reading", "size n=40")["size"] == "n=40"
    told = ricerca("rank", "s.ricerca", "--growth", cwd=folder).stdout
    assert "The calls of same grow as n²" in told
    # the next round is made of what the study knows
    done = ricerca("again", "s.ricerca", "--round", "second", "--json", cwd=folder)
    assert done.returncode == 0, done.stderr
    outcome = json.loads(done.stdout.splitlines()[-1])
    assert [run["size"] for run in outcome["runs"]] == [f"n={n}" for n in (40, 80, 160, 320, 640)]
    assert facts_of(folder / "s.ricerca", "--growth")["round_name"] == "second"


def test_a_case_whose_folder_is_gone_says_which(folder):
    (folder / "work").mkdir()
    (folder / "work" / "grow.py").write_text(PROGRAM)
    assert ricerca("record", "--study", folder / "s.ricerca", "--case", "here", "--", "grow.py", 3, cwd=folder / "work").returncode == 0
    (folder / "work").rename(folder / "moved")
    done = ricerca("again", "s.ricerca", cwd=folder)
    assert (done.returncode, done.stdout) == (2, "")
    assert f"could not be started: No such file or directory ({folder / 'work'}). Bring that back" in " ".join(done.stderr.split())


def test_growth_of_one_size_says_what_to_do(folder):
    ricerca("record", "--study", "s.ricerca", "--", "grow.py", 5, cwd=folder)
    done = ricerca("rank", "s.ricerca", "--growth", "--json", cwd=folder)
    assert (done.returncode, done.stdout) == (2, "")
    assert "--size" in done.stderr
    done = ricerca("record", "--study", "s.ricerca", "--size", "m=1,2", "--", "grow.py", 5, cwd=folder)
    assert done.returncode == 2
    assert "used nowhere" in done.stderr


def test_cases_are_added_changed_shown_and_dropped(folder):
    def cases(*words):
        done = ricerca("cases", "s.ricerca", *words, "--json", cwd=folder)
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    (case,) = ricerca_json(folder, "cases", "s.ricerca", "--add", "small", "--runs-per-day", "4", "--json", "--", "grow.py", "3")
    assert (case["name"], case["program"], case["cwd"], case["runs_per_day"], case["sizes"]) == (
        "small", ["grow.py", "3"], str(folder), 4, None,
    )  # fmt: skip
    ricerca("cases", "s.ricerca", "--add", "growing", "--size", "n=5,10", "--", "grow.py", "{n}", cwd=folder)
    assert [case["sizes"] for case in cases()] == [None, {"n": ["5", "10"]}]
    assert cases("--change", "small", "--runs-per-day", "8")[0]["runs_per_day"] == 8
    done = ricerca("again", "s.ricerca", "--quiet", cwd=folder)
    assert done.stdout.split() == ["3", "5", "10"]
    assert facts_of(folder / "s.ricerca", "--case", "growing")["program"] == ["grow.py", "10"]
    assert facts_of(folder / "s.ricerca")["program"] == ["grow.py", "3"]
    (small, _growing) = cases()
    assert small["week_ns"] == small["run_ns"] * 56
    assert [case["name"] for case in cases("--drop", "small")] == ["growing"]
    assert facts_of(folder / "s.ricerca", "--case", "small")["program"] == ["grow.py", "3"]
    for words, says in (
        (["--add", "x"], "What does the case 'x' run"), (["--drop", "nobody"], "no case 'nobody'"), (["--", "grow.py"], "What is the case called"),
    ):  # fmt: skip
        done = ricerca("cases", "s.ricerca", *words, cwd=folder)
        assert done.returncode == 2
        assert says in done.stderr


def ricerca_json(folder, *words):
    done = ricerca(*words, cwd=folder)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def test_a_case_cannot_become_something_else_by_accident_and_rounds_hold_several(folder):
    ricerca("record", "--study", "s.ricerca", "--case", "a", "--round", "one", "--", "grow.py", 3, cwd=folder)
    done = ricerca("record", "--study", "s.ricerca", "--case", "a", "--", "grow.py", 4, cwd=folder)
    assert done.returncode == 2
    assert "is of something else (arguments: 3, then 4)" in done.stderr
    done = ricerca("record", "--study", "s.ricerca", "--case", "b", "--round", "one", "--", "grow.py", 4, cwd=folder)
    assert done.returncode == 0, done.stderr
    ricerca("again", "s.ricerca", "--round", "two", "--quiet", cwd=folder)
    comparison = ricerca_json(folder, "compare", "s.ricerca", "--json")
    assert (comparison["base"]["case"], comparison["new"]["round"]) == ("a", 2)
    assert [(other["case"], other["base"], other["new"]) for other in comparison["other_cases"]] == [("b", 1, 2)]
    done = ricerca("again", "s.ricerca", "--round", "two", cwd=folder)
    assert done.returncode == 2
    assert "already" in done.stderr


def test_three_rounds_are_compared_with_each_other(folder):
    for _ in range(3):
        ricerca("record", "--study", "s.ricerca", "--", "grow.py", 3, cwd=folder)
    found = ricerca_json(folder, "compare", "s.ricerca", 3, 1, 2, "--json")
    assert found["rounds"] == [3, 1, 2]
    assert [(pair["base"], pair["new"]) for pair in found["pairs"]] == [(3, 1), (3, 2), (1, 2)]
    assert "made from" in ricerca("compare", "s.ricerca", 1, 2, 3, cwd=folder).stdout
    assert ricerca("compare", "s.ricerca", 1, 2, 2, cwd=folder).returncode == 2


def test_an_input_file_is_read_by_every_run_and_made_by_its_command(folder):
    (folder / "read.py").write_text("import sys\nprint(len(sys.stdin.read().split()))\n")
    (folder / "in.txt").write_text("a b c")
    done = ricerca("record", "--study", "s.ricerca", "--plain", 1, "--input", "in.txt", "--", "read.py", cwd=folder)
    assert (done.returncode, done.stdout) == (0, "3\n")
    words = ["--prepare", "seq {n} > data-{n}.txt", "--size", "n=4,9", "--input", "data-{n}.txt"]
    done = ricerca("record", "--study", "t.ricerca", *words, "--", "read.py", cwd=folder)
    assert (done.returncode, done.stdout) == (0, "4\n9\n"), done.stderr
    done = ricerca("record", "--study", "t.ricerca", "--input", "none.txt", "--", "read.py", cwd=folder)
    assert done.returncode == 2
    assert "none.txt cannot be read" in done.stderr
    done = ricerca("record", "--study", "t.ricerca", "--prepare", "exit 3", "--", "read.py", cwd=folder)
    assert done.returncode == 2
    assert "ended with status 3" in done.stderr


def test_a_budget_on_counts_fails_on_exactly_the_round_that_broke_it(folder):
    ricerca("record", "--study", "s.ricerca", "--", "grow.py", 30, cwd=folder)
    assert ricerca("budget", "s.ricerca", "--to", "b.toml", cwd=folder).returncode == 0
    for _ in range(3):
        assert ricerca("check", "s.ricerca", "--budget", "b.toml", cwd=folder).returncode == 0
    (folder / "grow.py").write_text(PROGRAM.replace("once();", "once(); once();"))
    ricerca("record", "--study", "s.ricerca", "--", "grow.py", 30, cwd=folder)
    done = ricerca("check", "s.ricerca", "--budget", "b.toml", "--junit", "x.xml", "--json", cwd=folder)
    assert done.returncode == 1
    broken = [row for row in json.loads(done.stdout)["limits"] if row["verdict"] == "broken"]
    assert any(row["name"] == "calls of __main__.once" and row["value"] == 2 for row in broken)
    assert "<failure" in (folder / "x.xml").read_text()
    assert ricerca("check", "s.ricerca", "--budget", "b.toml", "--round", 1, cwd=folder).returncode == 0
    done = ricerca("check", "s.ricerca", "--budget", "none.toml", cwd=folder)
    assert done.returncode == 2


def test_a_time_limit_is_measured_in_pairs(folder):
    for _ in range(2):
        ricerca("record", "--study", "s.ricerca", "--", "grow.py", 3, cwd=folder)
    (folder / "b.toml").write_text('[[limit]]\nname = "t"\nratio = "total"\nbase = 1\nat_most = 50\n')
    done = ricerca("check", "s.ricerca", "--budget", "b.toml", "--json", cwd=folder)
    assert done.returncode == 0
    assert json.loads(done.stdout)["limits"][0]["verdict"] == "undecided"
    assert ricerca("check", "s.ricerca", "--budget", "b.toml", "--strict", cwd=folder).returncode == 1
    done = ricerca("check", "s.ricerca", "--budget", "b.toml", "--pairs", 6, "--json", cwd=folder)
    (limit,) = json.loads(done.stdout)["limits"]
    if "cannot be brought back" not in done.stderr:
        assert limit["verdict"] == "kept", done.stderr


def test_snippets_are_told_apart_and_their_answers_compared(folder):
    words = ["snippet", "--seconds", "0.6", "--setup", "n = 200"]
    found = ricerca_json(
        folder, *words, "--calls", "--study", "s.ricerca", "--json", "--", "sum(range(n))", "sum(k for k in range(50 * n))", "n"
    )
    assert [row["text"] for row in found["snippets"]] == ["sum(range(n))", "sum(k for k in range(50 * n))", "n"]
    assert all(row["interval_ns"][0] <= row["median_ns"] <= row["interval_ns"][1] for row in found["snippets"])
    assert [(pair["first"], pair["second"]) for pair in found["pairs"]] == [(0, 1), (0, 2), (1, 2)]
    assert [pair["verdict"] for pair in found["pairs"]] == ["slower", "faster", "faster"]
    assert found["same_answer"] is False
    assert [row["calls"] for row in found["snippets"]] == [1, 2, 0]
    assert ricerca_json(folder, "snippet", "--study", "s.ricerca", "--json")[0]["setup"] == "n = 200"
    same = ricerca_json(folder, *words, "--json", "--", "x = n + 1", "n - -1")
    assert same["same_answer"] is True
    assert "All come to the same value" in ricerca(*words, "--", "n + n", "2 * n", cwd=folder).stdout
    unknown = ricerca_json(folder, *words, "--json", "--", "iter([n])", "iter([n])")
    assert unknown["same_answer"] is None


def test_snippets_keep_their_own_names_and_what_they_print_is_not_shown(folder):
    words = ["snippet", "--seconds", "0.1", "--json", "--setup", "from math import *\nk = 1\ndef f(x):\n    return f(x - 1) if x else 0"]
    found = ricerca_json(folder, *words, "--", "k = k + 1", "print(f(3) + floor(2.5))")
    assert len(found["snippets"]) == 2


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["1 +", "2"], "Snippet 1 is no Python code"),
        (["1", "1 / 0"], "Snippet 2 ended with ZeroDivisionError"),
        ([], "There is no snippet"),
        (["--setup", "x =", "--", "1"], "The set-up is no Python code"),
    ],
)
def test_snippets_that_cannot_be_timed_say_why(folder, words, says):
    done = ricerca("snippet", *words, cwd=folder)
    assert done.returncode == 2
    assert says in done.stderr


def test_snippets_in_each_interpreter(folder, interpreter):
    found = ricerca_json(folder, "snippet", "--seconds", "0.1", "--python", interpreter, "--json", "--", "len('abc')")
    assert found["snippets"][0]["median_ns"] > 0


@pytest.fixture
def history(tmp_path):
    """A working copy of eight commits; the sixth works a thing out again and again, the third does not run."""

    def git(*words):
        env = {**os.environ, "GIT_AUTHOR_NAME": "a", "GIT_AUTHOR_EMAIL": "a@b", "GIT_COMMITTER_NAME": "a", "GIT_COMMITTER_EMAIL": "a@b"}
        return subprocess.run(["git", "-C", str(tmp_path), *words], check=True, capture_output=True, text=True, env=env).stdout.strip()

    git("init", "-q")
    revisions = []
    for number in range(1, 9):
        often = 40 if number >= 6 else 1
        text = f"import rows\ndef check(x): return x\nfor row in rows.read():\n    for _ in range({often}): check(row)\nprint({number})\n"
        (tmp_path / "main.py").write_text(text if number != 3 else "raise SystemExit(3)\n")
        (tmp_path / "rows.py").write_text("def read(): return open('data.txt').read().split()\n")
        git("add", "main.py", "rows.py")
        git("commit", "-qm", f"commit {number}")
        revisions.append(git("rev-parse", "--short=8", "HEAD"))
    (tmp_path / "data.txt").write_text("1 " * 3000)
    return tmp_path, revisions


def test_an_earlier_revision_is_recorded_and_the_files_of_today_stay(history):
    folder, revisions = history
    (folder / "main.py").write_text("print('today')\n")
    done = ricerca("record", "--study", "s.ricerca", "--at", "HEAD~3", "--plain", 1, "--", "main.py", cwd=folder)
    assert (done.returncode, done.stdout) == (0, "5\n"), done.stderr
    assert (folder / "main.py").read_text() == "print('today')\n"
    facts = facts_of(folder / "s.ricerca", "--edges")
    check = next(row for row in facts["functions"] if row["function"] == "check")
    assert (check["calls"], check["file"], check["layer"]) == (3000, str(folder / "main.py"), "mine")
    assert subprocess.run(["git", "-C", folder, "worktree", "list"], capture_output=True, text=True).stdout.count("\n") == 1
    from ricerca.study.store import Study

    with Study.open(folder / "s.ricerca") as study:
        (round_,) = study.rounds()
        assert round_.revision == revisions[4]
        (run,) = [run for run in round_.runs if run.kind == "recorded"]
        texts = {file: study.source_text(digest) for file, digest in study.sources(run.id).items()}
    assert "range(1)" in texts[str(folder / "main.py")]
    for words, says in (
        (["--at", "nonsense"], "no revision 'nonsense'"),
        (["--at", "HEAD", "--cwd", "/"], "does not lie in a git working copy"),
    ):
        done = ricerca("record", "--study", "t.ricerca", *words, "--", folder / "main.py", cwd=folder)
        assert done.returncode == 2
        assert says in done.stderr
    assert not (folder / "t.ricerca").exists()


def test_a_range_of_commits_is_measured_once_and_the_culprit_found(history):
    folder, revisions = history
    ricerca("cases", "s.ricerca", "--add", "run", "--", "main.py", cwd=folder)
    between = f"{revisions[0]}..HEAD"
    done = ricerca("again", "s.ricerca", "--each", between, "--bisect", "--json", cwd=folder)
    found = json.loads(done.stdout)
    assert (found["culprit"], found["before"]) == (revisions[5], revisions[4]), done.stderr
    assert found["rounds"] <= 5
    assert "calls of check: 3000, then 120000" in found["why"]
    done = ricerca("again", "s.ricerca", "--each", between, "--json", cwd=folder)
    rest = json.loads(done.stdout)
    assert found["rounds"] + rest["rounds"] == 8
    assert [one["revision"] for one in rest["skipped"]] == [revisions[2]]
    assert json.loads(ricerca("again", "s.ricerca", "--each", between, "--json", cwd=folder).stdout)["rounds"] <= 1
    done = ricerca("again", "s.ricerca", "--bisect", cwd=folder)
    assert done.returncode == 2
    done = ricerca("again", "s.ricerca", "--each", "HEAD..HEAD~1", cwd=folder)
    assert done.returncode == 2


def test_reports_and_the_account_are_written(folder):
    for number in (3, 3):
        ricerca("record", "--study", "s.ricerca", "--", "grow.py", number, cwd=folder)
    for name, start in (("r.html", b"<!DOCTYPE html>"), ("r.pdf", b"%PDF")):
        done = ricerca("export", "s.ricerca", "--to", name, cwd=folder)
        assert done.returncode == 0, done.stderr
        assert (folder / name).read_bytes().startswith(start)
    done = ricerca("export", "s.ricerca", "--to", "-", "--what", "report", cwd=folder)
    assert json.loads(done.stdout)["account"] == 1
    done = ricerca("export", "s.ricerca", "--to", "t.csv", "--what", "timeline", cwd=folder)
    assert done.returncode == 0, done.stderr
    assert (folder / "t.csv").read_text().startswith("process,thread,begins_ns,layer,self_ns,waiting_ns\n")
