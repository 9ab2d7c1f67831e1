"""What quiet runs write, and what is known of the machine."""

from __future__ import annotations

import os
import subprocess
import sys
import time

from ricerca.model.answers import HEAD_BYTES, STDERR, STDOUT, Output
from ricerca.runner.machine import packages_of, this_machine
from ricerca.runner.outputs import Watched


def watched(text, *files, cwd="/", **options):
    found = Watched()
    process = subprocess.Popen([sys.executable, "-c", text], stdout=found.stdout, stderr=found.stderr, cwd=cwd, **options)
    found.started()
    assert process.wait(60) == 0
    return dict(found.answer(str(cwd), files).outputs)


def test_output_and_errors_are_kept_apart():
    found = watched("import sys; print('out'); print('err', file=sys.stderr)")
    assert found == {STDOUT: Output.of(b"out\n"), STDERR: Output.of(b"err\n")}


def test_a_large_output_neither_stops_the_program_nor_fills_memory():
    text = "import sys\nfor k in range(300): sys.stdout.buffer.write(bytes([k % 256]) * 10000)"
    whole = b"".join(bytes([k % 256]) * 10000 for k in range(300))
    found = watched(text)[STDOUT]
    assert found == Output.of(whole)
    assert (found.size, len(found.head), len(found.pieces)) == (3_000_000, HEAD_BYTES, -(-3_000_000 // HEAD_BYTES))


def test_a_child_that_holds_the_output_does_not_hold_us_up():
    began = time.monotonic()
    found = watched(
        "import subprocess, sys\nprint('done', flush=True)\nsubprocess.Popen([sys.executable, '-c', 'import time; time.sleep(20)'])"
    )
    assert time.monotonic() - began < 15
    assert found[STDOUT] == Output.of(b"done\n")


def test_files_that_hold_the_answer_lie_below_the_programs_folder(tmp_path):
    (tmp_path / "there.txt").write_bytes(b"x" * (HEAD_BYTES + 5))
    found = watched("pass", "there.txt", "missing.txt", str(tmp_path / "there.txt"), cwd=tmp_path)
    assert found["there.txt"] == found[str(tmp_path / "there.txt")] == Output.of(b"x" * (HEAD_BYTES + 5))
    assert found["missing.txt"] is None


def test_no_descriptor_stays_open():
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(5):
        watched("print(1)")
    assert len(os.listdir("/proc/self/fd")) == before


def test_the_machine_is_known():
    machine = this_machine()
    assert machine.processors >= 1
    assert machine.system.startswith("Linux")
    assert machine.host


def test_packages_are_known_by_the_folders_of_their_files(tmp_path):
    site = tmp_path / "lib" / "site-packages"
    (site / "numpy").mkdir(parents=True)
    (site / "numpy-2.0.1.dist-info").mkdir()
    (site / "PyYAML-6.0.dist-info").mkdir()
    (site / "PyYAML-6.0.dist-info" / "top_level.txt").write_text("_yaml\nyaml\n")
    (site / "unused-1.0.dist-info").mkdir()
    files = [str(site / "numpy" / "core.py"), str(site / "yaml" / "loader.py"), "/w/own.py", "<string>", ""]
    assert packages_of(files) == (("PyYAML", "6.0"), ("numpy", "2.0.1"))
    assert packages_of([]) == ()
