"""Two states of the code run in turn, the older one brought back; from outside, and piece by piece."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest
from conftest import RICERCA, facts_of, ricerca

from ricerca.model.rounds import PLAIN, SPARSE, pairs_of
from ricerca.runner import private_mounts, restoring
from ricerca.runner.restoring import CannotRestoreError, Restorer, why_not_here
from ricerca.study.store import Study

NO_MOUNTS = why_not_here()
mounts = pytest.mark.skipif(bool(NO_MOUNTS), reason=NO_MOUNTS or "-")

OLD = "import helper, sys\ndef work():\n    return helper.value()\nfor _ in range(3): work()\nprint('old', work(), __file__)\n"
NEW = "import sys\nfrom fresh import value\ndef work():\n    return value()\nfor _ in range(3): work()\nprint('new', work(), __file__)\n"
SLOW = "import time\ndef work():\n    time.sleep({seconds})\nwork()\nprint('done')\n"


@pytest.fixture
def states(tmp_path):
    """A study with two rounds of a program whose second state has other files; in the folder lies the second."""
    (tmp_path / "p.py").write_text(OLD)
    (tmp_path / "helper.py").write_text("def value():\n    return 1\n")
    assert ricerca("record", "p.py", cwd=tmp_path).returncode == 0
    (tmp_path / "helper.py").unlink()
    (tmp_path / "p.py").write_text(NEW)
    (tmp_path / "fresh.py").write_text("def value():\n    return 2\n")
    shutil.rmtree(tmp_path / "__pycache__", ignore_errors=True)
    assert ricerca("record", "--round", "second", "p.py", cwd=tmp_path).returncode == 0
    return tmp_path / "p.ricerca"


def contents(folder: Path) -> dict[str, bytes]:
    return {str(file): file.read_bytes() for file in sorted(folder.rglob("*")) if file.is_file() and file.suffix != ".ricerca"}


@mounts
def test_the_older_state_runs_at_the_same_paths_and_nothing_is_changed(states):
    folder = states.parent
    before = contents(folder)
    with Study.open(states) as study, Restorer() as restorer:
        said = []
        for state in (restorer.of_round(study, study.round(1)), restorer.today(), restorer.of_round(study, study.round(2))):
            done = subprocess.run(
                [*state.prefix, sys.executable, "p.py"], cwd=folder, capture_output=True, text=True, env={**os.environ, **state.env}
            )
            said.append((done.stdout.split()[:2], done.stderr))
        assert restorer.of_round(study, study.round(2)).changed == ()
    assert said == [(["old", "1"], ""), (["new", "2"], ""), (["new", "2"], "")]
    after = contents(folder)
    assert {name: text for name, text in after.items() if "__pycache__" not in name} == {
        name: text for name, text in before.items() if "__pycache__" not in name
    }
    assert not any("helper" in name for name in after)


@mounts
def test_compiled_code_of_one_state_is_not_taken_for_that_of_the_other(tmp_path, monkeypatch):
    monkeypatch.delenv("PYTHONDONTWRITEBYTECODE", raising=False)
    (tmp_path / "mod.py").write_text("def value():\n    return 'first'\n")
    (tmp_path / "p.py").write_text("import mod\nprint(mod.value())\n")
    assert ricerca("record", "p.py", cwd=tmp_path).returncode == 0
    stamp = (tmp_path / "mod.py").stat()
    (tmp_path / "mod.py").write_text("def value():\n    return 'other'\n")  # as long, and as old
    os.utime(tmp_path / "mod.py", ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    shutil.rmtree(tmp_path / "__pycache__")
    plain = [sys.executable, "p.py"]
    with Study.open(tmp_path / "p.ricerca") as study, Restorer() as restorer:
        subprocess.run(plain, cwd=tmp_path, check=True, capture_output=True)
        old, now = restorer.of_round(study, study.round(1)), restorer.today()
        for _ in range(2):
            answers = [subprocess.run([*state.prefix, *plain], cwd=tmp_path, capture_output=True, text=True).stdout for state in (old, now)]
            assert answers == ["first\n", "other\n"]
    assert subprocess.run(plain, cwd=tmp_path, capture_output=True, text=True).stdout == "other\n"


@mounts
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become an ordinary user")
def test_an_ordinary_user_may_do_it_too():
    python = shutil.which("python3", path="/usr/bin:/usr/local/bin")
    if python is None:
        pytest.skip("there is no interpreter that ordinary users may run")
    with tempfile.TemporaryDirectory(dir="/tmp") as place:
        folder = Path(place)
        folder.chmod(0o755)
        (folder / "mounts.py").write_text(Path(private_mounts.__file__).read_text())
        for name in ("old", "now"):
            (folder / name).write_text(name)
        (folder / "steps.json").write_text(json.dumps([[f"{place}/old", f"{place}/now"]]))
        words = [python, "-I", "-S", "mounts.py", "steps.json", "--", python, "-c", "import os; print(open('now').read(), os.getuid())"]
        done = subprocess.run(words, cwd=folder, capture_output=True, text=True, user=65534, group=65534, extra_groups=[])
        assert (folder / "now").read_text() == "now"
    if done.returncode == private_mounts.REFUSED:
        pytest.skip(f"ordinary users may not: {done.stderr.strip()}")
    assert done.stdout == "old 65534\n"


def test_a_system_that_forbids_it_gets_a_reason_and_the_next_best_way(states, monkeypatch):
    monkeypatch.setattr(restoring, "why_not_here", lambda: "the system does not allow private mounts (unshare: Operation not permitted)")
    with Study.open(states) as study, Restorer() as restorer, pytest.raises(CannotRestoreError, match="Operation not permitted"):
        restorer.of_round(study, study.round(1))


def test_a_mount_that_fails_ends_with_its_reason(tmp_path):
    (tmp_path / "steps.json").write_text(json.dumps([["/nowhere/at/all", "/nor/here"]]))
    done = subprocess.run(
        [sys.executable, "-I", "-S", private_mounts.__file__, tmp_path / "steps.json", "--", "true"], capture_output=True, text=True
    )
    assert done.returncode == private_mounts.REFUSED
    assert done.stderr.strip()
    assert "Traceback" not in done.stderr


@mounts
def test_pairs_settle_a_verdict_and_are_kept(tmp_path):
    for seconds in (0.06, 0.02):
        (tmp_path / "p.py").write_text(SLOW.format(seconds=seconds))
        assert ricerca("record", "p.py", cwd=tmp_path).returncode == 0
    facts = json.loads(ricerca("compare", "p.ricerca", "--pairs", 3, "--json", cwd=tmp_path).stdout)
    assert (facts["pairs"], facts["evidence"], facts["verdict"]) == (3, "pairs", "faster")
    assert facts["same_output"] is True
    low, high = facts["interval"]
    assert low <= facts["speedup"] <= high
    done = ricerca("compare", "p.ricerca", "--pairs", "auto", "--json", cwd=tmp_path)
    assert json.loads(done.stdout)["pairs"] == 6  # three more reach the first look
    assert "made 3 pairs" in done.stderr
    with Study.open(tmp_path / "p.ricerca") as study:
        assert len(pairs_of(study.round(1), study.round(2))) == 6
        assert study.round(1).plain_ns == study.round(1).again_ns  # there are no others
    assert "From 6 pairs of runs" in ricerca("compare", "p.ricerca", cwd=tmp_path).stdout


@mounts
def test_pairs_that_are_broken_off_stay(tmp_path):
    for seconds in (0.31, 0.3):
        (tmp_path / "p.py").write_text(SLOW.format(seconds=seconds))
        assert ricerca("record", "p.py", cwd=tmp_path).returncode == 0
    process = subprocess.Popen(
        [*RICERCA, "compare", "p.ricerca", "--pairs", "500", "--json"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    deadline = time.monotonic() + 60
    made = 0
    while made < 2 and time.monotonic() < deadline:
        time.sleep(0.2)
        with Study.open(tmp_path / "p.ricerca") as study:
            made = len(pairs_of(study.round(1), study.round(2)))
    process.send_signal(signal.SIGINT)
    out, _err = process.communicate(timeout=60)
    assert process.returncode == 0
    assert 2 <= json.loads(out)["pairs"] < 500


@mounts
def test_a_new_round_with_plain_runs_is_made_in_pairs_with_the_first(tmp_path):
    for text in ("print('a')", "print('b')"):
        (tmp_path / "p.py").write_text(f"def work():\n    return sum(range(200000))\nwork()\n{text}\n")
        done = ricerca("record", "--plain", 3, "p.py", cwd=tmp_path)
        assert (done.returncode, done.stdout) == (0, text[7] + "\n")
    facts = json.loads(ricerca("compare", "p.ricerca", "--json", cwd=tmp_path).stdout)
    assert (facts["pairs"], facts["evidence"]) == (3, "pairs")
    assert (facts["same_output"], facts["answer"]) == (False, "another")
    assert facts["answer_differs"] == "standard output, line 1: “a”, then “b”"
    assert facts["edited_files"] == [str(tmp_path / "p.py")]
    with Study.open(tmp_path / "p.ricerca") as study:
        first, second = study.rounds()
        assert [run.kind for run in first.runs].count(PLAIN) == 6
        assert len(first.plain_ns) == len(first.again_ns) == len(second.plain_ns) == 3
        assert [run.kind for run in second.runs].count(SPARSE) == 3
        assert second.runs[0].machine.python == ".".join(map(str, sys.version_info[:3]))
    assert (tmp_path / "p.py").read_text().endswith("print('b')\n")


def test_files_that_hold_the_answer_are_compared(tmp_path):
    for value in (1, 2):
        (tmp_path / "p.py").write_text(f"from pathlib import Path\nPath('table.csv').write_text('a,b\\n{value},2\\n')\n")
        assert ricerca("record", "--plain", 1, "--answer", "table.csv", "p.py", cwd=tmp_path).returncode == 0
    facts = json.loads(ricerca("compare", "p.ricerca", "--json", cwd=tmp_path).stdout)
    assert facts["answer_differs"] == "table.csv, line 2: “1,2”, then “2,2”"
    said = ricerca("compare", "p.ricerca", cwd=tmp_path).stdout
    assert "The answer differs: table.csv, line 2" in said.replace("\n", " ")
    assert (tmp_path / "table.csv").read_text() == "a,b\n2,2\n"


def test_an_answer_that_varies_by_itself_says_nothing_of_a_change(tmp_path):
    (tmp_path / "p.py").write_text("import time\nprint(time.time_ns())\n")
    for _ in range(2):
        assert ricerca("record", "--plain", 2, "p.py", cwd=tmp_path).returncode == 0
    facts = json.loads(ricerca("compare", "p.ricerca", "--json", cwd=tmp_path).stdout)
    assert (facts["same_output"], facts["answer"]) == (None, "varies by itself")


def test_the_same_code_with_other_counts_is_said(tmp_path):
    (tmp_path / "p.py").write_text("import os\ndef f(): pass\nfor _ in range(len(os.listdir('d'))): f()\n")
    (tmp_path / "d").mkdir()
    for name in ("one", "two"):
        (tmp_path / "d" / name).touch()
        assert ricerca("record", "p.py", cwd=tmp_path).returncode == 0
    facts = json.loads(ricerca("compare", "p.ricerca", "--json", cwd=tmp_path).stdout)
    assert {"function": "f", "calls": [1, 2]} in facts["other_counts"]


def test_a_round_gets_times_from_its_sparse_runs(tmp_path):
    (tmp_path / "p.py").write_text(
        "def tiny(): pass\ndef calls():\n    for _ in range(60000): tiny()\ndef native():\n    return sorted(range(200000, 0, -1))\n"
        "for _ in range(3):\n    calls()\n    native()\n"
    )
    assert ricerca("record", "--plain", 3, "p.py", cwd=tmp_path).returncode == 0
    facts = facts_of(tmp_path / "p.ricerca")
    assert facts["sparse_runs"] == 3
    rows = {row["function"]: row for row in facts["functions"]}
    for name in ("calls", "native"):
        low, high = rows[name]["inclusive_interval_ns"]
        assert low <= rows[name]["inclusive_ns"] <= high
    assert rows["tiny"]["calls"] == 180_000
    assert abs(facts["total_ns"] - facts["plain_total_ns"]) <= facts["plain_total_ns"] * 0.01


@pytest.mark.parametrize("words", [("--pairs", "0"), ("--pairs", "many"), ("--pairs", "-3")])
def test_a_number_of_pairs_that_is_none_is_refused(states, words):
    done = ricerca("compare", states, *words)
    assert done.returncode == 2
    assert "neither a number of pairs nor auto" in done.stderr


def test_ctrl_c_in_a_plain_run_ends_all_that_is_still_to_come(tmp_path):
    (tmp_path / "p.py").write_text(
        "import time, os, signal\nsignal.signal(signal.SIGINT, signal.default_int_handler)\nopen('runs', 'a').write('x')\ntime.sleep(0.05 if os.path.getsize('runs') == 1 else 30)\n"
    )
    process = subprocess.Popen(
        [*RICERCA, "record", "--plain", "5", "p.py"], cwd=tmp_path, start_new_session=True, stderr=subprocess.PIPE, text=True
    )
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not ((tmp_path / "runs").exists() and (tmp_path / "runs").stat().st_size >= 2):
        time.sleep(0.1)
    time.sleep(0.3)
    with Study.open(tmp_path / "p.ricerca") as study:
        assert study.round(1).runs  # the recorded run is kept before the plain ones begin
    children = subprocess.run(["pgrep", "-P", str(process.pid)], capture_output=True, text=True).stdout.split()
    os.kill(int(children[-1]), signal.SIGINT)  # as the terminal would
    _out, said = process.communicate(timeout=60)
    assert process.returncode == 0  # how the recorded program ended
    assert "is kept in p.ricerca" in said
    assert (tmp_path / "runs").read_text() == "xx"
    with Study.open(tmp_path / "p.ricerca") as study:
        assert [run.kind for run in study.round(1).runs] == ["recorded"]
