"""The command line, run from outside as a person or a build server would."""

from __future__ import annotations

import csv
import json
import os
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from conftest import RICERCA, ricerca

from ricerca.study.store import Study

SLOW = "def work(n):\n    return sorted(range(n), key=lambda x: -x)\nfor _ in range({times}):\n    work(400)\nprint('done')\n"


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two rounds of a program that got faster, each with plain runs."""
    folder = tmp_path_factory.mktemp("study")
    for name, times in (("slow", 200), ("quick", 20)):
        (folder / "job.py").write_text(("\n" if name == "quick" else "") + SLOW.format(times=times))
        done = ricerca("record", "--round", name, "--plain", 3, "job.py", cwd=folder)
        assert done.returncode == 0
        assert done.stdout == "done\n"  # the plain runs' output is dropped
        assert "is kept in job.ricerca" in done.stderr
    return folder / "job.ricerca"


def test_rank_json_keeps_its_contract(study):
    facts = json.loads(ricerca("rank", study, "--json", "--lines", "--edges").stdout)
    assert list(facts) == ["study", "round", "round_name", "program", "python", "exit_status", "complete", "incomplete_because",
                           "elapsed_ns", "total_ns",
                           "raw_total_ns", "plain_total_ns", "plain_runs", "sparse_runs", "calls", "contexts", "overhead", "threads", "case", "size", "functions",
                           "lines", "edges", "waiting", "hook", "public_interfaces_only", "not_by_time", "calls_not_shown", "reading",
                           "hits_of", "cycles"]  # fmt: skip
    assert (facts["round"], facts["round_name"], facts["program"], facts["exit_status"]) == (2, "quick", ["job.py"], 0)
    assert facts["python"] == ".".join(map(str, sys.version_info[:3]))
    assert list(facts["functions"][0]) == ["function", "module", "file", "line", "layer", "calls", "first_entry_calls", "resumes",
                                           "self_ns", "inclusive_ns", "waiting_ns", "raw_self_ns", "raw_inclusive_ns",
                                           "self_interval_ns", "inclusive_interval_ns", "uncertain",
                                           "waits_for"]  # fmt: skip
    assert list(facts["lines"][0]) == ["file", "line", "function", "hits", "self_ns", "call_ns"]
    assert list(facts["edges"][0]) == ["caller", "callee", "line", "calls", "inclusive_ns"]
    assert facts["overhead"]["factor"] > 1
    assert facts["plain_total_ns"] > 0
    work = next(row for row in facts["functions"] if row["function"] == "work")
    assert (work["layer"], work["calls"], work["line"]) == ("mine", 20, 2)


def test_rank_orders_and_cuts(study):
    by_calls = json.loads(ricerca("rank", study, "--json", "--by", "calls", "--top", 3).stdout)["functions"]
    assert [row["calls"] for row in by_calls] == sorted((row["calls"] for row in by_calls), reverse=True)
    assert len(by_calls) == 3
    first = json.loads(ricerca("rank", study, "--round", 1, "--json").stdout)
    assert first["round_name"] == "slow"


def test_tables_fit_a_hundred_columns(study):
    for words in (["rank", study, "--lines", "--edges"], ["compare", study], ["rank", study, "--by", "gain"]):
        done = ricerca(*words)
        assert done.returncode == 0, done.stderr
        assert "work" in done.stdout
        assert max(map(len, done.stdout.splitlines())) <= 100


def test_compare_json_matches_functions_though_lines_moved(study):
    facts = json.loads(ricerca("compare", study, 1, 2, "--json").stdout)
    assert facts["verdict"] in ("faster", "undecided")
    assert facts["speedup"] > 1
    low, high = facts["interval"]
    assert low <= facts["speedup"] <= high
    work = next(row for row in facts["functions"] if row["function"] == "work")
    assert work["calls"] == [200, 20]
    assert (work["match"], work["base_line"], work["line"]) == ("moved", 1, 2)
    for side, number in enumerate((1, 2)):
        alone = {row["function"]: row for row in json.loads(ricerca("rank", study, "--round", number, "--json").stdout)["functions"]}
        for row in facts["functions"]:
            if row["function"] in alone:
                assert (row["self_ns"][side], row["uncertain"][side]) == tuple(
                    alone[row["function"]][key] for key in ("self_ns", "uncertain")
                )
    back = json.loads(ricerca("compare", study, 2, 1, "--json").stdout)
    assert next(row for row in back["functions"] if row["function"] == "work")["calls"] == [20, 200]


def test_both_sides_of_a_comparison_are_read_alike(study):
    words = ("--reading", "round 2; against round 1; inside work; by module", "--json")
    facts = json.loads(ricerca("compare", study, *words).stdout)
    assert json.loads(ricerca("rank", study, "--by", "gain", *words).stdout) == facts
    assert (facts["base"]["round"], facts["new"]["round"], facts["reading"]) == (1, 2, "inside work; by module")
    assert {row["function"] for row in facts["functions"]} == {"__main__", "builtins"}
    assert facts["new"]["overhead"]["factor"] > 1  # of the whole run, whatever is read of it
    whole = json.loads(ricerca("compare", study, 1, 2, "--json").stdout)
    work = [next(row for row in whole["functions"] if row["function"] == "work")["inclusive_ns"][side] for side in (0, 1)]
    assert [sum(row["self_ns"][side] for row in facts["functions"]) for side in (0, 1)] == work


@pytest.mark.parametrize("suffix", ["csv", "json", "md"])
def test_exports_can_be_read_by_others(study, suffix, tmp_path):
    path = tmp_path / f"out.{suffix}"
    done = ricerca("export", study, "--to", path)
    assert done.returncode == 0, done.stderr
    text = path.read_text()
    if suffix == "csv":
        rows = list(csv.DictReader(text.splitlines()))
        assert next(row for row in rows if row["function"] == "work")["calls"] == "20"
    elif suffix == "json":
        assert json.loads(text)["round_name"] == "quick"
    else:
        assert "| `work` |" in text
        assert "against “slow”" in text


def test_csv_holds_lines_or_edges_on_demand(study, tmp_path):
    for table, column in (("lines", "call_ns"), ("edges", "caller_function")):
        ricerca("export", study, "--to", tmp_path / "t.csv", "--table", table)
        assert column in (tmp_path / "t.csv").read_text().splitlines()[0]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["record", "nothing-here.py"], "There is no program 'nothing-here.py'"),
        (["record", "--python", "/no/python", "job.py"], "There is no interpreter '/no/python'"),
        (["record", "--python", "/bin/cat", "job.py"], "does not answer like a Python"),
        (["record", "--cwd", "/no/folder", "job.py"], "There is no folder /no/folder"),
        (["record", "/etc/hostname"], "is not a Python program"),
        (["record", "ls"], "is not a Python program"),
        (["record", "-m"], "-m needs the name of a module"),
        (["record", "--env", "novalue", "job.py"], "NAME=VALUE"),
        (["record", "--limit", "12", "job.py"], "at least 1M"),
        (["rank", "none.ricerca"], "There is no study"),
        (["rank", "job.ricerca", "--round", "9"], "has no round 9"),
        (["compare", "job.ricerca", "1", "1"], "cannot be compared with itself"),
        (["export", "job.ricerca", "--to", "x.doc"], "There is no export to .doc"),
        (["export", "job.ricerca", "--to", "/no/where.csv"], "cannot be written"),
        (["open", "none.ricerca"], "There is no study"),
    ],
)
def test_bad_input_is_said_in_a_sentence_with_status_2(study, words, said):
    done = ricerca(*words, cwd=study.parent)
    assert done.returncode == 2
    assert said in done.stderr
    assert "Traceback" not in done.stderr


def test_a_program_that_never_begins_leaves_no_study(tmp_path):
    (tmp_path / "bad.py").write_text("def f(:\n")
    done = ricerca("record", "bad.py", cwd=tmp_path)
    assert done.returncode == 1
    assert "SyntaxError" in done.stderr
    assert "nothing was recorded" in done.stderr
    assert not (tmp_path / "bad.ricerca").exists()


def test_a_failed_round_keeps_the_earlier_ones(study, tmp_path):
    copy = tmp_path / "job.ricerca"
    copy.write_bytes(study.read_bytes())
    (tmp_path / "job.py").write_text("def f(:\n")
    ricerca("record", "--study", copy, "job.py", cwd=tmp_path)
    assert json.loads(ricerca("rank", copy, "--json").stdout)["round"] == 2


def test_options_reach_the_program_and_environment_and_folder_are_set(tmp_path):
    (tmp_path / "p.py").write_text("import os, sys\nprint(sys.argv[1:], os.environ['K'], os.getcwd())\n")
    done = ricerca("record", "--quiet", "--env", "K=a=b", "--cwd", tmp_path, "p.py", "--json", "-m", "x", "--help", cwd=tmp_path)
    assert done.stdout == f"['--json', '-m', 'x', '--help'] a=b {tmp_path}\n"
    assert done.stderr == ""


def test_input_is_given_to_every_run(tmp_path):
    (tmp_path / "p.py").write_text("import sys\nprint(len(sys.stdin.read()))\n")
    done = ricerca("record", "--quiet", "--plain", 2, "p.py", cwd=tmp_path, input="x" * 3000)
    assert done.stdout == "3000\n"


def test_commands_with_a_python_first_line_are_recorded(tmp_path):
    tool = tmp_path / "tool"
    tool.write_text(f"#!{sys.executable}\ndef f(): pass\nf()\n")
    tool.chmod(0o755)
    env = {**os.environ, "PATH": f"{tmp_path}:{os.environ['PATH']}"}
    for words in (["tool"], [sys.executable, "tool"]):
        study = tmp_path / f"{len(words)}.ricerca"
        done = ricerca("record", "--study", study, *words, cwd=tmp_path, env=env)
        assert done.returncode == 0, done.stderr
        ranked = json.loads(ricerca("rank", study, "--json").stdout)
        assert next(row["calls"] for row in ranked["functions"] if row["function"] == "f") == 1


def test_runs_are_added_to_a_round_of_the_same_name(study, tmp_path):
    copy = tmp_path / "job.ricerca"
    copy.write_bytes(study.read_bytes())
    ricerca("record", "--study", copy, "--round", "quick", "--lines", "work", "job.py", cwd=study.parent)
    facts = json.loads(ricerca("rank", copy, "--json", "--lines").stdout)
    assert facts["round"] == 2
    assert any(row["hits"] for row in facts["lines"])


def test_help_of_each_command_has_an_example():
    listed = ricerca("--help").stdout
    for command in ("open", "record", "rank", "compare", "export", "selftest"):
        assert command in listed
        assert f"    ricerca {command}" in ricerca(command, "--help").stdout


def test_selftest_tries_everything(tmp_path):
    done = ricerca("selftest", "--json", cwd=tmp_path)
    checks = {check["what"]: check for check in json.loads(done.stdout)}
    assert checks["trial recording"]["works"], checks
    assert "1000 of 1000 calls" in checks["trial recording"]["finding"]
    assert checks["shell scripts"]["works"] == (shutil.which("zsh") is not None or "bash 5" in checks["shell scripts"]["finding"])
    assert checks["compiled programs"]["works"] == (shutil.which("cc") is not None)
    assert done.returncode == (0 if all(check["works"] for check in checks.values()) else 1)
    assert "trial recording" in ricerca("selftest", cwd=tmp_path).stdout


def test_our_own_mistake_is_told_from_theirs(monkeypatch, study):
    from click.testing import CliRunner

    from ricerca import cli

    def broken(*_: object) -> None:
        raise ZeroDivisionError

    monkeypatch.setattr(cli.reading, "opened", broken)
    done = CliRunner().invoke(cli.main, ["rank", str(study)])
    assert done.exit_code == 2
    assert "Something went wrong in Ricerca" in done.output


def test_a_closed_pipe_is_no_error(study):
    shell = f"{' '.join(RICERCA)} rank {study} --json | head -c 20"
    done = subprocess.run(["bash", "-o", "pipefail", "-c", shell], capture_output=True, text=True)
    assert "Traceback" not in done.stderr


def test_layers_of_ones_own_are_kept_shown_and_taken_over(study, tmp_path):
    own, other = tmp_path / "own.ricerca", tmp_path / "other.ricerca"
    for place in (own, other):
        shutil.copy(study, place)
    done = ricerca("layers", own, "--add", "heavy=work", "--add", "heavy=__main__.work", "--add", "lists=builtins.sort*")
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("[[layer]]") == 2
    rows = {row["function"]: row["layer"] for row in json.loads(ricerca("rank", own, "--json").stdout)["functions"]}
    assert rows["<module>"] == "mine"
    assert (rows["work"], rows["sorted"]) == ("heavy", "lists")
    (tmp_path / "layers.toml").write_text(done.stdout)
    assert ricerca("layers", other, "--from", tmp_path / "layers.toml").stdout == done.stdout
    assert ricerca("layers", other, "--drop", "heavy").stdout.count("[[layer]]") == 1
    bad = ricerca("layers", other, "--add", "builtins=x")
    assert bad.returncode != 0
    assert "found by itself" in bad.stderr


def test_lines_of_the_slowest_functions_follow_by_themselves(tmp_path):
    (tmp_path / "p.py").write_text(
        "def heavy():\n    total = 0\n    for k in range(60000):\n        total += k * k % 7\n    return total\n"
        "def light():\n    return 1\ndef main():\n    light()\n    print(heavy())\nmain()\n"
    )
    done = ricerca("record", "--lines", "auto", "--study", "s.ricerca", "p.py", cwd=tmp_path)
    assert done.returncode == 0 and done.stdout.count("\n") == 1, "the line run shows nothing"
    facts = json.loads(ricerca("rank", tmp_path / "s.ricerca", "--lines", "--json").stdout)
    hits = {(row["function"], row["line"]): row["hits"] for row in facts["lines"]}
    assert hits["heavy", 4] == 60000
    assert [row["calls"] for row in facts["functions"] if row["function"] == "heavy"] == [1]
    with Study.open(tmp_path / "s.ricerca") as kept:
        assert [run.kind for run in kept.round(1).runs] == ["recorded", "line"]


@pytest.mark.parametrize("suffix", ["svg", "pdf", "png", "dot", "graphml"])
def test_the_call_graph_is_written_from_the_terminal(study, suffix, tmp_path):
    path = tmp_path / f"calls.{suffix}"
    done = ricerca("export", study, "--to", path, "--nodes", 12, "--reading", "charged to my code")
    assert done.returncode == 0, done.stderr
    start = {"svg": b"<?xml", "pdf": b"%PDF", "png": b"\x89PNG", "dot": b"digraph", "graphml": b"<?xml"}[suffix]
    assert path.read_bytes().startswith(start)


def test_the_graph_s_self_times_are_the_total_of_the_reading(study, tmp_path):
    written = ricerca("export", study, "--to", "-", "--what", "graph").stdout
    root = ET.fromstring(written)
    own = [int(data.text) for node in root.findall(".//{*}node") for data in node if data.get("key") == "self_ns"]
    facts = json.loads(ricerca("rank", study, "--json").stdout)
    assert sum(own) == facts["total_ns"]
    levels = {data.text for node in root.findall(".//{*}node") for data in node if data.get("key") == "level"}
    assert levels <= {"layer", "package", "module", "class", "function"}
