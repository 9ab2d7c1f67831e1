"""What an ordinary user expects of the command line: options, names, folders and errors."""

from __future__ import annotations

import os
import stat
import subprocess
from pathlib import Path

import pytest
from conftest import RICERCA, facts_of, python_of, ricerca

SHOW = "import sys\nprint(sys.argv[1:], sys.flags.optimize, sys.flags.dev_mode, __debug__)\ndef f(): pass\nf()\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "p.py").write_text(SHOW)
    return tmp_path


def test_options_in_the_first_line_are_the_program_s(folder):
    script = folder / "tool"
    script.write_text(f"#!/usr/bin/env -S {python_of('3.11')} -OO -X dev\n" + SHOW)
    script.chmod(script.stat().st_mode | stat.S_IXUSR)
    plain = subprocess.run(["./tool", "a"], cwd=folder, capture_output=True, text=True)
    assert "2 True False" in plain.stdout
    done = ricerca("record", "--study", "s.ricerca", "./tool", "a", cwd=folder)
    assert done.stdout == plain.stdout
    rows = {row["function"]: row for row in facts_of(folder / "s.ricerca")["functions"]}
    assert rows["f"]["calls"] == 1
    assert rows["f"]["layer"] == "mine"


def test_code_and_interpreter_options_are_taken_as_the_interpreter_takes_them(folder):
    done = ricerca("record", "--study", "s.ricerca", "--", "-c", "import sys; print(sys.argv); f = lambda: 1; f()", "x", cwd=folder)
    assert done.stdout == "['-c', 'x']\n"
    assert done.returncode == 0
    done = ricerca("record", "-O", "p.py", "a", cwd=folder)
    assert done.stdout == "['a'] 1 False False\n"
    assert (folder / "p.ricerca").exists()
    done = ricerca("record", "--python", python_of("3.12"), "--study", "t.ricerca", "--", "-X", "dev", "-I", "p.py", "b", cwd=folder)
    assert done.stdout == "['b'] 0 True True\n"
    assert next(row["calls"] for row in facts_of(folder / "t.ricerca")["functions"] if row["function"] == "f") == 1


def test_an_option_that_keeps_the_recorder_out_is_named(folder):
    done = ricerca("record", "--", "-S", "p.py", cwd=folder)
    assert done.returncode == 2
    assert "Python's option -S keeps start-up modules out" in done.stderr
    assert done.stdout == ""
    assert ricerca("record", "--", "-W", cwd=folder).stderr == "ricerca: -W needs a word after it.\n"


def test_a_mistyped_option_is_no_program(folder):
    done = ricerca("record", "--plian", "3", "p.py", cwd=folder)
    assert done.returncode == 2
    assert done.stderr == "ricerca: There is no option --plian. Did you mean --plain?\n"
    assert not list(folder.glob("*.ricerca"))


def test_a_folder_whose_name_is_no_utf8_is_as_good_as_any(folder):
    place = folder / "w\udcffrk"
    place.mkdir()
    (place / "p.py").write_text(SHOW)
    done = subprocess.run([*RICERCA, "record", "--study", folder / "s.ricerca", "p.py"], cwd=place, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert "Traceback" not in done.stderr
    facts = facts_of(folder / "s.ricerca")
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 1
    shown = subprocess.run([*RICERCA, "rank", folder / "s.ricerca"], cwd=place, capture_output=True, text=True)
    assert shown.returncode == 0, shown.stderr


def test_a_name_does_nothing_to_the_terminal(folder):
    name = "e\x1b[31mvil.py"
    (folder / name).write_text("def f(): pass\nf()\n")
    done = ricerca("record", "--study", "s\x1b[7m.ricerca", name, cwd=folder)
    assert done.returncode == 0
    assert "\x1b" not in done.stderr
    assert "s\\x1b[7m.ricerca" in done.stderr
    assert "\x1b" not in ricerca("rank", "s\x1b[7m.ricerca", cwd=folder).stdout
    assert "\x1b" not in ricerca("rank", "no\x1b[7m.ricerca", cwd=folder).stderr


@pytest.mark.parametrize("setting", ["no home", "unwritable"])
def test_where_recordings_cannot_lie_the_reason_is_said_once(folder, setting):
    if setting == "no home":
        place = "/proc/nowhere"
    else:
        (folder / "file").touch()
        place = str(folder / "file")
    env = {**os.environ, "XDG_CACHE_HOME": place, "HOME": "/proc/nowhere"}
    done = subprocess.run([*RICERCA, "record", "p.py"], cwd=folder, capture_output=True, text=True, env=env)
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    assert "cannot be written to" in done.stderr
    assert "set XDG_CACHE_HOME" in done.stderr
    assert "Free some space" not in done.stderr
    assert not list(folder.glob("*.ricerca"))


def test_a_reading_of_what_is_not_there_says_so(folder):
    (folder / "p.py").write_text("def working(): pass\nworking()\n")
    ricerca("record", "p.py", cwd=folder)
    done = ricerca("rank", "p.ricerca", "--reading", "inside workin", cwd=folder)
    assert done.returncode == 2
    assert done.stderr == "ricerca: There is no 'workin' in round 1. Did you mean working?\n"
    assert ricerca("rank", "p.ricerca", "--reading", "inside working", cwd=folder).returncode == 0


def test_the_run_s_own_time_stands_beside_the_sums(folder):
    (folder / "p.py").write_text(
        "import threading, time\n"
        "def nap(): time.sleep(0.4)\n"
        "threads = [threading.Thread(target=nap) for _ in range(8)]\n"
        "for t in threads: t.start()\nfor t in threads: t.join()\n"
    )
    ricerca("record", "p.py", cwd=folder)
    facts = facts_of(folder / "p.ricerca", "--leads")
    assert facts["total_ns"] > 3e9  # nine threads added up
    assert 0.3e9 < facts["elapsed_ns"] < 2e9
    assert sum(row["self_ns"] for row in facts["functions"]) == facts["total_ns"]
    assert not any(lead["function"] == "nap" for lead in facts["leads"])
    text = ricerca("rank", "p.ricerca", cwd=folder).stdout
    assert "of 9 threads together" in text
    assert "elapsed" in text
    wall = ricerca("rank", "p.ricerca", "--reading", "wall time", cwd=folder).stdout
    assert "read: elapsed" not in wall


def test_a_paused_recording_is_said_to_be_and_never_scaled(folder):
    (folder / "p.py").write_text("import time\ndef f(): time.sleep(0.05)\nfor _ in range(4): f()\n")
    done = ricerca("record", "--paused", "--plain", 1, "p.py", cwd=folder)
    assert "part of the run was left out by a pause" in done.stderr
    facts = facts_of(folder / "p.ricerca")
    assert facts["incomplete_because"] == ["part of the run was left out by a pause"]
    assert facts["total_ns"] < 0.1e9 < facts["plain_total_ns"]


def test_what_happened_inside_a_function_is_not_the_whole_run(folder):
    ricerca("record", "--inside", "f", "p.py", cwd=folder)
    facts = facts_of(folder / "p.ricerca")
    assert not facts["complete"]
    assert facts["incomplete_because"] == ["only what happened inside f was recorded"]
