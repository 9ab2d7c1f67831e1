"""What happens besides calls is an item: imports, collections, regions, programs that are started."""

from __future__ import annotations

import json
import signal
import subprocess
import time
from pathlib import Path
from textwrap import dedent

import numpy as np
import pytest
from conftest import RICERCA, ricerca

from ricerca.loading import load
from ricerca.study.store import Study

PROGRAM = dedent("""\
    import gc, os, subprocess, sys, threading, time
    gc.disable()
    def step(): pass
    def fit():
        sys.audit("ricerca.region", "fitting")
        for _ in range(3): step()
        sys.audit("ricerca.region.end", "fitting")
        step()
    def load():
        import helper
        import helper
    def collect():
        for _ in range(4): gc.collect()
    def children():
        subprocess.run(["sleep", "0.12"], check=True)
        os.system("sleep 0.11")
        subprocess.run([sys.executable, "-c", "def other(): pass\\nfor _ in range(7): other()"], env={**os.environ, "X": "1"}, check=True)
        assert "RICERCA_RECORDING" not in os.environ
    def sleeper():
        time.sleep(0.1)
        lock = threading.Lock()
        lock.acquire()
        lock.acquire(timeout=0.1)
    for _ in range(2): fit()
    load(); collect(); children(); sleeper()
    """)


@pytest.fixture
def program(tmp_path, counted):
    (tmp_path / "helper.py").write_text("def made(): pass\nmade()\nmade()\n")
    return counted(PROGRAM, "--env", f"PYTHONPATH={tmp_path}")


def row(counts, name):
    return next(one for one in counts.facts["functions"] if one["function"] == name)


def test_items_are_counted_and_timed_like_functions(program):
    assert program.calls("import helper") == 1
    assert row(program, "import helper")["layer"] == "imports"
    assert program.calls("made") == 2
    assert row(program, "import helper")["inclusive_ns"] >= row(program, "made")["inclusive_ns"] > 0
    assert program.edge("load", "import helper", 10) == 1

    assert program.edge("collect", "collect", 13) == 4  # the collector's own function
    assert program.edge("collect", "garbage collection") == 4
    assert row(program, "garbage collection")["layer"] == "garbage collection"

    assert program.calls("fitting") == 2
    assert program.edge("fit", "fitting", 5) == 2
    assert program.edge("fitting", "step", 6) == 6
    assert program.edge("fit", "step", 8) == 2

    assert program.calls("sleep 0.12") == 1
    assert program.calls("sleep 0.11") == 1
    assert program.calls("other") == 7
    assert len({thread["process"] for thread in program.facts["threads"]}) == 2


def test_waiting_is_classed_by_what_was_called(program):
    waiting = program.facts["waiting"]
    assert 90e6 < waiting["sleep"] < 400e6
    assert 90e6 < waiting["lock"] < 400e6
    assert waiting["child process"] > 200e6
    assert row(program, "sleep 0.12")["waiting_ns"] > 90e6
    assert row(program, "sleep 0.12")["waits_for"] == "child process"


def test_regions_by_the_module_are_harmless_without_a_recorder(tmp_path, counted):
    text = dedent(f"""\
        import sys
        sys.path.insert(0, {str(Path(__file__).parents[2] / "src" / "ricerca")!r})
        from region import region
        def work(): pass
        def outer():
            with region("first"):
                work()
                with region("second"):
                    work(); work()
            try:
                with region("first"):
                    raise ValueError
            except ValueError:
                work()
        outer()
        print("done")
        """)
    counts = counted(text)
    assert counts.calls("first") == 2
    assert counts.edge("first", "work") == 1
    assert counts.edge("first", "second") == 1
    assert counts.edge("second", "work") == 2
    assert counts.edge("outer", "work") == 1
    plain = subprocess.run([RICERCA[0], tmp_path / "program.py"], capture_output=True, text=True, check=True)
    assert plain.stdout == "done\n"


SPINNING = dedent("""\
    import pathlib, sys, time
    pathlib.Path(sys.argv[1]).touch()
    def tick(): return time.sleep(0.002)
    def tock(): return time.sleep(0.002)
    end = time.time() + 2.4
    while time.time() < end:
        tick() if time.time() < end - 1.2 else tock()
    """)


def test_pause_go_on_and_finish_by_signal(tmp_path, interpreter, hook):
    script, study = tmp_path / "spin.py", tmp_path / "spin.ricerca"
    script.write_text(SPINNING)
    words = [*RICERCA, "record", "--paused", "--hook", hook, "--python", interpreter, "--study", study, script, tmp_path / "began"]
    process = subprocess.Popen(words, stderr=subprocess.PIPE)
    waited_since = time.monotonic()
    while not (tmp_path / "began").exists() and time.monotonic() - waited_since < 60:
        time.sleep(0.02)
    time.sleep(0.6)
    began = time.monotonic()
    process.send_signal(signal.SIGUSR1)
    time.sleep(0.4)
    process.send_signal(signal.SIGUSR2)
    _out, said = process.communicate(timeout=60)
    assert process.returncode == 0, said
    facts = json.loads(ricerca("rank", study, "--json").stdout)
    assert 0.1e9 < facts["total_ns"] < (time.monotonic() - began) * 1e9
    assert facts["exit_status"] == 0
    assert 20 < sum(one["calls"] for one in facts["functions"] if one["function"] in ("tick", "tock")) < 600


PHASES = dedent("""\
    import threading, time
    def early(n):
        return sum(range(n))
    def late(n):
        return sum(range(n))
    def waits(): time.sleep(0.3)
    thread = threading.Thread(target=waits)
    thread.start()
    for _ in range(3000): early(800)
    thread.join()
    for _ in range(3000): late(800)
    time.sleep(0.2)
    """)


def test_slices_hold_all_calls_and_times_in_their_order(tmp_path):
    script, study = tmp_path / "phases.py", tmp_path / "phases.ricerca"
    script.write_text(PHASES)
    ricerca("record", "--study", study, script, cwd=tmp_path)
    with Study.open(study) as kept:
        profile = load(kept).profile
    count = len(profile)
    calls = np.bincount(profile.slice_context, profile.slice_calls, count)
    times = np.bincount(profile.slice_context, profile.slice_self_ns, count)
    inner = profile.parent >= 0
    assert (calls[inner] == profile.calls[inner]).all()
    assert np.abs(times[inner] - profile.raw_self_ns[inner]).max() <= 600  # rounding, once a slice
    assert profile.slice_number.max() < 512
    assert profile.facts.slice_ns > 0

    def span(name):
        function = profile.functions.name.index(name)
        rows = profile.function[profile.slice_context] == function
        return profile.slice_number[rows & (profile.slice_calls > 0)]

    assert span("early").max() <= span("late").min()
    sleeping = profile.function[profile.slice_context] == profile.functions.name.index("sleep")
    long_ns = int(0.3e9 / profile.facts.slice_ns)
    assert len(np.unique(profile.slice_number[sleeping])) >= long_ns  # a wait fills the slices it lasts
    names = [profile.functions.name[profile.function[context]] for context in profile.span_context]
    lengths = profile.span_end_ns - profile.span_start_ns
    assert max(length for name, length in zip(names, lengths, strict=True) if name == "waits") > 0.29e9


def test_slices_stay_bounded_when_a_run_gets_long(tmp_path):
    script, study = tmp_path / "long.py", tmp_path / "long.ricerca"
    script.write_text("import time\ndef f(): pass\nend = time.time() + 2\nwhile time.time() < end:\n    f()\n")
    ricerca("record", "--study", study, script, cwd=tmp_path)
    with Study.open(study) as kept:
        profile = load(kept).profile
    assert 250 <= len(np.unique(profile.slice_number)) <= 512
    assert len(profile.slice_number) <= 512 * len(profile)
    function = profile.functions.name.index("f")
    calls = profile.slice_calls[profile.function[profile.slice_context] == function]
    assert calls.sum() == profile.calls[profile.function == function].sum()
