"""When there is no more room: counts by function stay exact, the run is marked."""

from __future__ import annotations

import json
import resource
import subprocess

import pytest
from conftest import RICERCA, ricerca

MANY_CONTEXTS = """
import sys
sys.setrecursionlimit(100_000)
def down(n, left):
    if n:
        (a if left & 1 else b)(n - 1, left >> 1)
def a(n, left): down(n, left)
def b(n, left): down(n, left)
for pattern in range(3000):
    down(12, pattern)
"""
CALLS = 3000 * 13


def test_counts_by_function_are_exact_when_contexts_run_out(counted):
    counts = counted(MANY_CONTEXTS, "--limit", "1M")
    assert counts.calls("down") == CALLS
    assert counts.calls("a") + counts.calls("b") == 3000 * 12
    assert not counts.facts["complete"]
    assert counts.facts["contexts"] < 16_000


def test_the_same_with_room_is_complete(counted):
    counts = counted(MANY_CONTEXTS)
    assert counts.calls("down") == CALLS
    assert counts.facts["complete"]


def test_a_file_size_limit_stops_the_recording_before_the_program_starts(tmp_path):
    (tmp_path / "program.py").write_text("print('ran')\n")

    def small() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (500_000, 500_000))

    done = subprocess.run([*RICERCA, "record", "program.py"], cwd=tmp_path, capture_output=True, text=True, preexec_fn=small)
    assert done.returncode == 2
    assert "no room" in done.stderr
    assert "Free some space" in done.stderr
    assert "ran" not in done.stdout
    assert not list(tmp_path.glob("*.ricerca"))


@pytest.mark.skipif(subprocess.run(["unshare", "-m", "true"], capture_output=True).returncode != 0, reason="may not mount here")
def test_a_disk_that_fills_up_leaves_program_and_earlier_rounds_unharmed(tmp_path):
    script = tmp_path / "program.py"
    script.write_text(MANY_CONTEXTS + "print('ran')\n")
    disk = tmp_path / "disk"
    disk.mkdir()
    ricerca_words = " ".join(RICERCA)
    shell = f"""
        mount -t tmpfs -o size=3m none {disk} && cd {disk} && export XDG_CACHE_HOME={disk} &&
        {ricerca_words} record --study s.ricerca --round first -- {tmp_path}/small.py &&
        head -c 900k /dev/zero > filler;
        {ricerca_words} record --study s.ricerca --round second -- {script}; echo "status $?";
        head -c 3m /dev/zero > filler2;
        {ricerca_words} record --study s.ricerca --round third -- {script}; echo "status $?";
        {ricerca_words} rank s.ricerca --round 1 --json
    """
    (tmp_path / "small.py").write_text("def f(): pass\nf()\n")
    done = subprocess.run(["unshare", "-m", "sh", "-c", shell], capture_output=True, text=True, timeout=120)
    lines = done.stdout.splitlines()
    assert "ran" in lines, done.stderr
    assert "status 2" in lines, done.stderr  # the third round is refused before the program starts
    assert "no room" in done.stderr
    assert json.loads(lines[-1])["calls"] > 0


def test_no_writing_permission_is_said(tmp_path):
    done = ricerca("record", "--study", "/proc/nowhere/x.ricerca", __file__, cwd=tmp_path)
    assert done.returncode == 2
    assert "There is no folder /proc/nowhere" in done.stderr
