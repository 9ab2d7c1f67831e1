"""Shell scripts: counts by hand for what shells do, and a script that does not notice."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from textwrap import dedent

import pytest
from conftest import ricerca

from ricerca.model.errors import InputError
from ricerca.model.languages import BASH, PYTHON
from ricerca.model.marks import KIND_CHILD
from ricerca.model.rounds import PLAIN, RECORDED
from ricerca.model.run_tables import RunTables
from ricerca.runner.shells import refuse_too_old
from ricerca.runner.trace_limit import TraceLimit
from ricerca.study.store import Study

bash = shutil.which("bash")
pytestmark = pytest.mark.skipif(
    bash is None or int(subprocess.check_output([bash, "-c", "echo ${BASH_VERSINFO[0]}"])) < 5, reason="there is no bash 5 here"
)


@dataclass
class Recorded:
    """What came of a script: what it printed, and its run."""

    stdout: str
    stderr: str
    status: int
    tables: RunTables
    calls: Counter[str] = field(default_factory=Counter)

    def __post_init__(self) -> None:
        for function, calls in zip(self.tables.function.tolist(), self.tables.calls.tolist(), strict=True):
            self.calls[self.tables.function_name[function]] += calls

    def path(self, context: int) -> list[str]:
        """Names from the first function down to a context."""
        names: list[str] = []
        while context >= 0:
            names.insert(0, self.tables.function_name[self.tables.function[context]])
            context = int(self.tables.parent[context])
        return names[1:]

    def paths(self) -> set[tuple[str, ...]]:
        """Those of all contexts that were called."""
        return {tuple(self.path(context)) for context in range(len(self.tables.parent)) if self.tables.calls[context]}


@pytest.fixture
def shell(tmp_path):
    """Records a script, also runs it plain, and asks that both ended alike and printed the same."""

    def record(text: str, *arguments: str, alike: bool = True, **files: str) -> Recorded:
        for name, content in files.items():
            (tmp_path / name.replace("_", ".")).write_text(dedent(content))
        script = tmp_path / "job.sh"
        script.write_text("#!/bin/bash\n" + dedent(text))
        script.chmod(0o755)
        done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "./job.sh", *arguments, cwd=tmp_path)
        if alike:
            plain = subprocess.run(["./job.sh", *arguments], cwd=tmp_path, capture_output=True, text=True)
            assert (done.returncode, done.stdout, done.stderr) == (plain.returncode, plain.stdout, plain.stderr)
        with Study.open(tmp_path / "s.ricerca") as study:
            tables = study.tables(study.round().last_run(RECORDED).id)
        return Recorded(done.stdout, done.stderr, done.returncode, tables)

    return record


def test_functions_recursion_and_command_substitution_are_counted(shell):
    found = shell("""\
        fib() { local n=$1; if (( n < 2 )); then echo "$n"; return; fi; echo $(( $(fib $((n-1))) + $(fib $((n-2))) )); }
        fib 6
    """)
    assert found.stdout == "8\n"
    assert found.calls["fib"] == 25
    assert found.calls["(subshell)"] == 24
    assert found.calls["return"] == 13


def test_loops_pipelines_subshells_and_jobs_are_counted(shell):
    found = shell("""\
        count() { :; }
        empty() { for x in; do :; done; }
        for i in 1 2 3; do count $i; count $i; done
        empty; empty
        IFS=
        count a
        unset IFS
        set -u
        (count; (count; count | cat))
        { count; count; } &
        wait $!
        eval 'count; count'
        lots() { while read -r l; do count; done; }
        printf '%s\\n' 1 2 3 | lots
        while read -r l; do count; done < <(echo p; echo q)
    """)
    assert found.calls["count"] == 19
    assert (found.calls["empty"], found.calls["lots"], found.calls["cat"]) == (2, 1, 1)
    assert found.calls["read"] == 4 + 3
    assert found.calls["(subshell)"] == 1 + 1 + 2 + 1 + 2 + 1


def test_programs_are_items_with_their_command_starts_and_failures(shell):
    found = shell("""\
        for i in 1 2 3; do /bin/true $i; done
        /bin/false || :
        command ls /none 2>/dev/null
        X=1 /bin/echo hi >/dev/null
        no_such_program 2>/dev/null
        exit 3
    """)
    assert found.status == 3
    names = {
        found.tables.function_name[row] for row in range(len(found.tables.function_name)) if found.tables.function_kind[row] == KIND_CHILD
    }
    assert names == {"true", "false", "ls", "echo", "no_such_program"}
    assert found.calls["true"] == 3
    commands = {text: (starts, failed) for text, starts, _passed, failed in found.tables.facts.commands}
    assert commands["/bin/true 2"] == (1, 0)
    assert commands["/bin/false"] == commands["no_such_program"] == (1, 1)


def test_sourced_files_have_their_functions_and_lines(shell):
    found = shell(
        """\
        . ./inc.sh
        inc; inc
        source ./inc.sh
        """,
        inc_sh="inc() { echo inc; }\ninc\n",
    )
    assert found.calls["inc.sh"] == 2 and found.calls["inc"] == 4
    assert ("job.sh", "inc.sh", "inc", "echo") in found.paths()
    tables = found.tables
    files = {tables.function_name[row]: Path(tables.function_file[row]).name for row in range(len(tables.function_name))}
    assert files["inc"] == "inc.sh" and files["job.sh"] == "job.sh"
    hits = {
        (tables.function_name[f], n): h
        for f, n, h in zip(tables.line_function, tables.line_number.tolist(), tables.line_hits.tolist(), strict=True)
    }
    assert hits["job.sh", 3] == 2 and hits["inc", 1] == 4 and hits["inc.sh", 2] == 2


def test_traps_and_a_script_that_ends_in_the_middle(shell):
    found = shell("""\
        bye() { echo bye; }
        trap bye EXIT
        trap 'echo usr' USR1
        kill -USR1 $$
        set -e
        false
        echo never
    """)
    assert (found.status, found.stdout) == (1, "usr\nbye\n")
    assert found.calls["bye"] == 1
    assert found.calls["echo"] == 2


OWN_TRACING = """\
    f() { echo "in f: $-"; return 4; }
    set -e
    echo "flags $-"
    set -x
    f || echo "status $?"
    echo "last arg" one two
    : "$_"
    set +x
    echo "underscore: $_"
    x=$(f || true)
    echo "$x"
    (exit 3) || echo sub $?
    true | false || echo "pipe ${PIPESTATUS[*]}"
    echo "line $LINENO ${BASH_LINENO[*]}"
    exit 7
"""


def test_a_script_that_traces_itself_sees_its_own_trace_and_options_alone(shell):
    found = shell(OWN_TRACING)
    assert found.status == 7
    assert "+ f\n" in found.stderr
    assert found.calls["f"] == 2


def test_status_arguments_options_and_descriptors_are_the_scripts_own(shell):
    found = shell("""\
        set -- a "b c"
        echo "$# $1 $2 $0 $$" | sed "s/$$/PID/"
        shopt | md5sum
        exec {fd}>/dev/null; echo "$fd"
        false; echo "$?"
        false | true; echo "${PIPESTATUS[*]}"
        [[ abc =~ b(.) ]]; echo "${BASH_REMATCH[1]}"
        unset -v none; echo "${none-unset}"
        echo "${!BASH_X*} ${!RICERC*}" >/dev/null
        cat <<'END'
        two
        lines
        END
        printf '%q\\n' $'a\\nb'
    """)
    assert found.status == 0
    assert "10\n1\n1 0\nc\nunset\n" in found.stdout


def test_a_python_program_hangs_below_the_line_that_started_it(shell):
    found = shell(
        f"run() {{ {sys.executable} prog.py 30; }}\nrun\n",
        prog_py="import sys\ndef work(n): return [step(i) for i in range(n)]\ndef step(i): return i\nwork(int(sys.argv[1]))\n",
    )
    assert found.calls["step"] == 30
    python = Path(sys.executable).name
    work = next(path for path in found.paths() if path[-1] == "work")
    assert work[:3] == ("job.sh", "run", python)
    assert "<module>" in work
    languages = dict(zip(found.tables.function_name, found.tables.languages, strict=True))
    assert (languages["run"], languages["work"]) == (BASH, PYTHON)


def test_each_moment_of_a_program_that_is_waited_for_counts_once(shell):
    found = shell(f"{sys.executable} prog.py\n", prog_py="import time\ntime.sleep(0.5)\n")
    total_ns = int(found.tables.self_ns.sum())
    assert 0.5e9 < total_ns < 1.0e9, "the shell's waiting is not added to the program's own time"


def test_scripts_started_by_python_and_by_other_scripts_are_one_tree(tmp_path):
    (tmp_path / "inner.sh").write_text("#!/bin/bash\ndeep() { :; }\ndeep; deep\n")
    (tmp_path / "outer.sh").write_text("#!/bin/bash\nmiddle() { bash inner.sh; }\nmiddle\n")
    (tmp_path / "prog.py").write_text("import subprocess\ndef start(): subprocess.run(['bash', 'outer.sh'], check=True)\nstart()\n")
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "prog.py", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        found = Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id))
    assert found.calls["deep"] == 2
    (deep,) = [path for path in found.paths() if path[-1] == "deep"]
    assert deep.index("start") < deep.index("outer.sh") < deep.index("middle") < deep.index("inner.sh")


def test_a_script_that_is_replaced_goes_on_in_what_replaces_it(shell):
    found = shell(f"before() {{ :; }}\nbefore\nexec {sys.executable} prog.py\n", prog_py="def after(): pass\nafter()\n")
    assert found.calls["before"] == found.calls["after"] == 1
    after = next(path for path in found.paths() if path[-1] == "after")
    assert after[0] == "job.sh"


def test_a_command_line_of_a_shell_is_recorded_too(tmp_path):
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "bash", "-c", "f() { echo $1; }; f 1; f 2", cwd=tmp_path)
    assert (done.returncode, done.stdout) == (0, "1\n2\n")
    with Study.open(tmp_path / "s.ricerca") as study:
        assert Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id)).calls["f"] == 2


def test_plain_runs_of_a_script_are_timed_and_its_round_compared(tmp_path):
    (tmp_path / "job.sh").write_text("#!/bin/bash\nfor i in {1..300}; do :; done\nsleep 0.05\n")
    for name in ("one", "two"):
        done = ricerca("record", "--study", "s.ricerca", "--quiet", "--plain", 2, "--round", name, "--", "bash", "job.sh", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        walls = [run.wall_ns for run in study.round(2).runs if run.kind == PLAIN]
        assert len(walls) >= 2 and all(50e6 < wall < 5e9 for wall in walls)
        assert study.source_text(study.sources(study.round(1).last_run(RECORDED).id)[str(tmp_path / "job.sh")]).startswith("#!/bin/bash")
    assert ricerca("compare", "s.ricerca", cwd=tmp_path).returncode == 0


def test_a_killed_script_keeps_what_it_did(tmp_path):
    (tmp_path / "job.sh").write_text("#!/bin/bash\nf() { :; }\nf; f; f\nkill -9 $$\n")
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "bash", "job.sh", cwd=tmp_path)
    assert done.returncode == -9
    with Study.open(tmp_path / "s.ricerca") as study:
        assert Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id)).calls["f"] == 3


def test_what_is_neither_python_nor_bash_is_refused_in_a_sentence(tmp_path):
    (tmp_path / "job.awk").write_text("#!/usr/bin/awk -f\nBEGIN { print 1 }\n")
    done = ricerca("record", "--study", "s.ricerca", "--", "./job.awk", cwd=tmp_path)
    assert done.returncode == 2
    assert "no script of bash, zsh, Lua, Perl or Ruby" in done.stderr


needs_zsh = pytest.mark.skipif(shutil.which("zsh") is None, reason="there is no zsh here")


def zsh_counts(folder: Path, text: str, name: str = "job.zsh") -> Recorded:
    (folder / name).write_text(dedent(text))
    plain = subprocess.run(["zsh", name, "x"], cwd=folder, capture_output=True, text=True)
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "zsh", name, "x", cwd=folder)
    assert (done.returncode, done.stdout, done.stderr) == (plain.returncode, plain.stdout, plain.stderr)
    with Study.open(folder / "s.ricerca") as study:
        return Recorded(done.stdout, done.stderr, done.returncode, study.tables(study.round().last_run(RECORDED).id))


@needs_zsh
def test_zsh_functions_lists_pipelines_subshells_and_recursion_are_counted(tmp_path):
    found = zsh_counts(tmp_path, """\
        f() { g "$1"; return 3 }
        g() {
          local x=$1
          for i in 1 2; do :; done
        }
        f 1 || f 2
        g a && g b; g c | cat
        ( g sub; echo in )
        y=$(g subst; date +%s >/dev/null)
        fib() { if (( $1 < 2 )); then print $1; else print $(( $(fib $(( $1 - 1 ))) + $(fib $(( $1 - 2 ))) )); fi }
        fib 6
        () { echo anonymous $1 } $1
        exit 4
        """)  # fmt: skip
    assert found.status == 4
    assert (found.calls["f"], found.calls["g"], found.calls["fib"], found.calls["(anon)"]) == (2, 2 + 2 + 1 + 1 + 1, 25, 1)
    assert {path[-2] for path in found.paths() if path[-1] == "g"} == {"f", "job.zsh", "(subshell)"}
    names = dict(zip(found.tables.function_name, found.tables.function_line.tolist(), strict=True))
    assert (names["f"], names["g"]) == (1, 2)


@needs_zsh
def test_zsh_sourced_and_autoloaded_functions_options_and_status_are_its_own(tmp_path):
    (tmp_path / "inc.zsh").write_text("inc() { echo inc }\ninc\n")
    found = zsh_counts(tmp_path, """\
        . ./inc.zsh; inc
        autoload -Uz is-at-least; is-at-least 5.0 && echo new
        false; echo "$? $- ${#funcstack} $LINENO"
        setopt
        set -x; inc 2>/dev/null; set +x
        echo "$_" ${(k)parameters[(I)RICERCA*]} > /dev/null
        """)  # fmt: skip
    assert found.calls["inc"] == 3 and found.calls["inc.zsh"] == 1 and found.calls["is-at-least"] == 1


@needs_zsh
def test_the_start_of_an_interactive_zsh_is_recorded_with_its_own_files(tmp_path):
    (tmp_path / ".zshenv").write_text("from_env() { : }\nfrom_env\n")
    (tmp_path / ".zshrc").write_text("from_rc() { : }\nfrom_rc; from_rc\n")
    env = {**os.environ, "HOME": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path / "cache")}
    done = ricerca("record", "--study", str(tmp_path / "s.ricerca"), "--quiet", "--", "zsh", "-i", "-c", "exit", cwd=tmp_path, env=env)
    assert done.returncode == 0, done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        found = Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id))
    assert (found.calls["from_env"], found.calls["from_rc"]) == (1, 2)
    assert any(".zshrc" in path for path in found.paths())


def test_the_start_of_an_interactive_bash_is_recorded_with_its_own_file(tmp_path):
    (tmp_path / ".bashrc").write_text("from_rc() { :; }\nfrom_rc; from_rc\n")
    env = {**os.environ, "HOME": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path / "cache")}
    done = ricerca("record", "--study", str(tmp_path / "s.ricerca"), "--quiet", "--", "bash", "-i", "-c", "exit", cwd=tmp_path, env=env)
    assert done.returncode == 0, done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        found = Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id))
    assert found.calls["from_rc"] == 2
    assert any(".bashrc" in path for path in found.paths())


@pytest.mark.parametrize("option", [("--lines", "f"), ("--inside", "f"), ("--paused",)])
def test_choices_that_only_python_knows_are_refused_for_a_script(tmp_path, option):
    (tmp_path / "job.sh").write_text("#!/bin/bash\nf() { :; }\nf\n")
    done = ricerca("record", *option, "--", "bash", "job.sh", cwd=tmp_path)
    assert done.returncode == 2
    assert f"{option[0]} is known for Python programs only" in done.stderr
    assert not list(tmp_path.glob("*.ricerca"))


@pytest.mark.parametrize("words", [("bash", "--posix", "job.sh"), ("bash", "-p", "job.sh"), ("zsh", "-f", "job.sh")])
def test_a_shell_that_reads_no_start_file_runs_as_it_would_and_says_why_nothing_was_recorded(tmp_path, words):
    if shutil.which(words[0]) is None:
        pytest.skip(f"there is no {words[0]} here")
    (tmp_path / "job.sh").write_text("echo ran\nexit 3\n")
    done = ricerca("record", "--", *words, cwd=tmp_path)
    assert (done.returncode, done.stdout) == (3, "ran\n")
    assert f"reads no start file with {words[1]}" in done.stderr
    assert not list(tmp_path.glob("*.ricerca"))


def test_a_restricted_bash_is_recorded(tmp_path):
    (tmp_path / "job.sh").write_text("f() { :; }\nf; f\ncd / 2>/dev/null || echo restricted\n")
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "bash", "-r", "job.sh", cwd=tmp_path)
    assert (done.returncode, done.stdout) == (0, "restricted\n")
    with Study.open(tmp_path / "s.ricerca") as study:
        assert Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id)).calls["f"] == 2


def test_a_bash_that_is_too_old_is_refused(tmp_path):
    old = tmp_path / "bash"
    old.write_text("#!/bin/sh\necho '4.4.20(1)-release'\n")
    old.chmod(0o755)
    with pytest.raises(InputError, match=r"is bash 4\.4\.20, which has no clock"):
        refuse_too_old(str(old))
    refuse_too_old("/usr/bin/zsh")
    refuse_too_old(bash)


def test_a_script_that_runs_on_and_on_keeps_to_the_limit_and_says_so(tmp_path):
    (tmp_path / "job.sh").write_text("#!/bin/bash\nfor ((i = 0; i < 200000; i++)); do :; done\necho done\n")
    done = ricerca("record", "--study", "s.ricerca", "--limit", "4M", "--", "bash", "job.sh", cwd=tmp_path)
    assert (done.returncode, done.stdout) == (0, "done\n")
    assert "It is not complete" in done.stderr and "limit" in done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        calls = Recorded("", "", 0, study.tables(study.round().last_run(RECORDED).id)).calls[":"]
    assert 1000 < calls < 200_000


def test_what_grows_is_cut_at_its_limit_again_and_again(tmp_path):
    recording = tmp_path / "r.recording"
    for name in ("r.recording.1.bash", "r.recording.2.events", "r.recording.3", "r.recording.about"):
        (tmp_path / name).write_bytes(bytes(5000))
    limit = TraceLimit(recording, 1000)
    limit.look()
    sizes = {file.name: file.stat().st_size for file in tmp_path.iterdir()}
    assert (sizes["r.recording.1.bash"], sizes["r.recording.2.events"], sizes["r.recording.3"]) == (1000, 1000, 5000)
    assert {name for name in sizes if name.endswith(".full")} == {"r.recording.1.bash.full", "r.recording.2.events.full"}
