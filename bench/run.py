"""Our figures, as ratios in one run: python bench/run.py [--quick]

Prints a table and writes build/bench.json: name, ratio, spread (lowest and highest of the pairs), limit.
Machines are noisy, and noise only ever adds: runs alternate, and a ratio is that of the least times of each
side; its range is that of the pairs that were made one after the other.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
import proof
import sources
from rich.console import Console
from rich.table import Table

from ricerca.engine.graph import call_graph, lay_out
from ricerca.engine.lines import line_figures
from ricerca.engine.neighbours import edges
from ricerca.engine.profile import Profile, build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import parse, read
from ricerca.loading import profile_of
from ricerca.memory import keep_freed_memory
from ricerca.model.rounds import PLAIN, RECORDED, Run, Subject
from ricerca.model.run_tables import RunTables
from ricerca.recording.reader import open_recording
from ricerca.runner.native import ENTRY, ask, native_for
from ricerca.study.store import Study

HERE = Path(__file__).parent
TRIALS = 11
SECONDS = 0.25
WINDOWS = 5
MOST_OF_NEW = 3.0  # a chain of calls that is new each time has to be written down each time
WORKLOADS = ("tiny_calls", "recursion", "builtin_calls", "objects", "varied_calls", "new_contexts", "arrays")


@dataclass(frozen=True)
class Figure:
    """One ratio; limit is what we hold ourselves to, None where it is for information."""

    name: str
    ratio: float
    lowest: float
    highest: float
    limit: float | None


def interpreters() -> list[str]:
    """The interpreter of this run, and a 3.12 and a 3.13 where they are found."""
    root = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv"), "versions")
    others = [sorted(root.glob(f"{version}.*/bin/python{version}")) for version in ("3.12", "3.13")]
    return [sys.executable, *(str(found[-1]) for found in others if found)]


def empty_hook(python: str, folder: Path, *options: str) -> str:
    """Compile the hook of the same kind that does nothing, or, with -DREAD_CLOCK, nothing but that."""
    built = folder / f"empty{len(options)}.so"
    command = ["cc", "-O3", "-fPIC", "-shared", *options, f"-I{ask(python).include}", str(HERE / "empty_hook.c"), "-o", str(built)]
    subprocess.run(command, check=True)
    return str(built)


def least_ns(python: str, workload: str, native: str | None, folder: Path) -> int:
    """Least time of a piece of the workload's work, some hundred of which are done in a process of their own."""
    env = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    if native is not None:
        recording = folder / "bench.recording"
        recording.unlink(missing_ok=True)
        recording.touch()
        env |= {
            "PYTHONPATH": str(ENTRY),
            "RICERCA_RECORDING": str(recording),
            "RICERCA_NATIVE": f"{ask(python).tag}={native}",
            "RICERCA_LIMIT": str(1 << 30),
        }
    command = [python, str(HERE / "least.py"), workload, str(SECONDS)]
    return int(subprocess.run(command, env=env, check=True, capture_output=True, text=True).stdout)


def figure(name: str, values: list[float], limit: float | None) -> Figure:
    """Median and range of values."""
    return Figure(name, round(statistics.median(values), 3), round(min(values), 3), round(max(values), 3), limit)


def ratio(name: str, ours: list[float], theirs: list[float], limit: float | None) -> Figure:
    """Least time of one side over the least of the other; the range is that of pairs."""
    pairs = [own / other for own, other in zip(ours, theirs, strict=True)]
    return Figure(name, round(min(ours) / min(theirs), 3), round(min(pairs), 3), round(max(pairs), 3), limit)


def overhead(python: str, repeats: int, folder: Path) -> list[Figure]:
    """Recorded runs against the empty hook and against plain runs, by workload."""
    modes = (None, empty_hook(python, folder), empty_hook(python, folder, "-DREAD_CLOCK"), native_for(python))
    version = ".".join(map(str, ask(python).version[:2]))
    found = []
    for workload in WORKLOADS:
        arrays = workload == "arrays"
        if arrays and python != sys.executable:
            continue  # the other interpreters have no NumPy
        times: list[list[float]] = [[] for _ in modes]
        for _ in range(repeats):
            for kept, native in zip(times, modes, strict=True):
                kept.append(least_ns(python, workload, native, folder))
        plain, bare, clock, recorded = times
        found.append(
            ratio(f"{version} {workload}: recorded / empty hook", recorded, bare, MOST_OF_NEW if workload == "new_contexts" else 1.25)
        )
        found.append(ratio(f"{version} {workload}: recorded / empty hook that reads the clock", recorded, clock, None))
        found.append(ratio(f"{version} {workload}: empty hook that reads the clock / empty hook", clock, bare, None))
        found.append(ratio(f"{version} {workload}: recorded / plain", recorded, plain, 1.05 if arrays else None))
    return found


def million(count: int = 1_000_000) -> RunTables:
    """A made-up run with a million contexts."""
    rng = np.random.default_rng(2)
    parent = np.concatenate(([-1], (rng.random(count - 1) * np.arange(1, count)).astype(np.int64)))
    functions = 3000
    whole = np.zeros(count, np.int64)
    return RunTables(
        function_kind=np.asarray([3] + [1] * (functions - 1), np.int32),
        function_name=tuple(f"f{n}" for n in range(functions)),
        function_module=("m",) * functions,
        function_file=("/m.py",) * functions,
        function_line=np.arange(functions, dtype=np.int32),
        overflow_calls=np.zeros(functions, np.int64),
        overflow_resumes=np.zeros(functions, np.int64),
        parent=parent.astype(np.int32),
        function=np.concatenate(([0], rng.integers(1, functions, count - 1))).astype(np.int32),
        line=rng.integers(1, 500, count).astype(np.int32),
        calls=rng.integers(1, 100, count),
        resumes=whole,
        self_ns=rng.integers(0, 10_000, count),
        brief_ns=whole,
        waiting_ns=whole,
        thread=whole.astype(np.int32),
        thread_name=("MainThread",),
        thread_process=np.asarray([7]),
        line_function=np.zeros(0, np.int32),
        line_number=np.zeros(0, np.int32),
        line_hits=np.zeros(0, np.int64),
        line_self_ns=np.zeros(0, np.int64),
    )


def timed(call: Callable[[], object]) -> float:
    """Seconds of one call."""
    start = time.perf_counter()
    call()
    return time.perf_counter() - start


def reading(repeats: int) -> list[Figure]:
    """Figures of a run with a million contexts, as multiples of sorting a million integers."""
    keep_freed_memory()  # as the program does
    tables = million()
    values = np.random.default_rng(1).integers(0, 1 << 40, 1_000_000)
    steps: list[tuple[str, Callable[[], object]]] = []
    profile = build_profile(tables, tuple("packages" if number % 2 else "mine" for number in range(len(tables.function_name))))
    _ = profile.outermost  # the whole run was read before
    steps.append(("build the profile", lambda: build_profile(tables)))
    steps.append(("figures by function", lambda: function_figures(build_view(profile))))
    sentences = ("on-CPU time", "inside f7", "charging f3; charging f5", "without f9; charged to my code", "by module")
    for sentence in sentences:
        reading = parse(sentence)
        steps.append((f"reading “{sentence}”", lambda reading=reading: function_figures(read(profile, reading))))
    steps.append(("call graph, laid out", lambda: lay_out(call_graph(profile))))
    steps.append(("edges", lambda: edges(build_view(profile))))
    steps.append(("lines", lambda: line_figures(build_view(profile))))
    found = []
    for name, step in steps:
        ours, sorts = [], []
        for _ in range(repeats):
            ours.append(timed(step))
            sorts.append(timed(lambda: np.argsort(values)))
        limit = 4.0 if name.startswith(("figures", "reading")) else None
        found.append(ratio(f"a million contexts: {name} / argsort of a million", ours, sorts, limit))
    return found


def build_view(profile: Profile) -> Profile:
    """The same profile with nothing remembered."""
    return replace(profile)


def start_up(repeats: int, folder: Path) -> list[Figure]:
    """Seconds that `ricerca record` takes before a program's first line, and after its last."""
    script = folder / "moments.py"
    script.write_text("import time\nprint(time.clock_gettime_ns(time.CLOCK_MONOTONIC))\n")
    before: list[list[float]] = [[], []]
    after: list[list[float]] = [[], []]
    for number in range(repeats):
        study = folder / f"start{number}.ricerca"
        record = ["-m", "ricerca.cli", "record", "--quiet", "--study", str(study)]
        for at, words in enumerate(([], record)):
            began = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
            done = subprocess.run([sys.executable, *words, str(script)], check=True, capture_output=True, text=True)
            ended = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
            before[at].append((int(done.stdout) - began) / 1e9)
            after[at].append((ended - int(done.stdout)) / 1e9)

    def over_plain(name: str, sides: list[list[float]], limit: float | None) -> Figure:
        over = [ours - theirs for theirs, ours in zip(*sides, strict=True)]
        return Figure(name, round(min(sides[1]) - min(sides[0]), 3), round(min(over), 3), round(max(over), 3), limit)

    return [
        over_plain("`ricerca record`: seconds over plain until the program begins", before, 0.25),
        over_plain("`ricerca record`: seconds over plain after the program's end", after, None),
    ]


TINY = """
def tiny(): pass
def many(n):
    for _ in range(n): tiny()
def one(n):
    total = 0.0
    while n:
        n -= 1
        total += n * 0.5
    return total
import statistics, sys, time
def once(call, n):
    start = time.perf_counter()
    call(n)
    return time.perf_counter() - start
def sizes(seconds):
    each = [(once(many, 20000) / 20000, once(one, 20000) / 20000) for _ in range(60)]
    return [int(seconds / statistics.median(side)) for side in zip(*each)]
if not sys.argv[1:]:
    print(*sizes(0.004))
else:
    for _ in range(100):
        many(int(sys.argv[1])); one(int(sys.argv[2]))
"""


def honest(python: str, folder: Path) -> list[Figure]:
    """Two functions of equal true time, one of them of tiny calls: how far apart recording and deduction put them.

    They take turns of some milliseconds, so that both meet the same machine, and are read on the
    processor's clock: time that other work takes from the machine is neither's. The figures are by
    calibration and watching alone, without the help of plain runs.
    """
    version = ".".join(map(str, ask(python).version[:2]))
    script = folder / "tiny.py"
    script.write_text(TINY)
    found = [subprocess.run([python, str(script)], check=True, capture_output=True, text=True).stdout.split() for _ in range(5)]
    sizes = sorted(found, key=lambda pair: int(pair[0]) / int(pair[1]))[2]
    totals, apart = [], []
    for number in range(TRIALS):
        study = folder / f"tiny{version}-{number}.ricerca"
        words = ["-m", "ricerca.cli", "record", "--quiet", "--plain", "1", "--python", python, "--study", str(study), str(script)]
        subprocess.run([sys.executable, *words, *sizes], check=True)
        with Study.open(study) as kept:
            one = kept.round()
            bare = read(profile_of(kept.tables(one.last_run(RECORDED).id), one.subject.roots), parse("on-CPU time"))
            plain = next(run.cpu_ns for run in one.runs if run.kind == PLAIN)
        inclusive = dict(zip(bare.functions.name, function_figures(bare).inclusive_ns.tolist(), strict=True))
        totals.append(bare.total_ns / plain)
        apart.append(100 * (inclusive["many"] - inclusive["one"]) / bare.total_ns)
    middle = figure(f"{version} tiny calls: points between the shares of equal functions", apart, 5.0)
    return [
        figure(f"{version} tiny calls: compensated total, by calibration alone / plain", totals, 1.1),
        replace(middle, ratio=abs(middle.ratio)),
    ]


def memory(folder: Path) -> list[Figure]:
    """Memory that recording takes: over ten million more calls, and for two million contexts."""
    calls = "import sys\ndef f(): pass\nfor _ in range(int(sys.argv[1])): f()\n"
    contexts = (
        "import sys\nsys.setrecursionlimit(10000)\n"
        "def a(n): return n and (a(n - 1), b(n - 1))\ndef b(n): return n and (a(n - 1), b(n - 1))\na(20)\n"
    )

    def used_mb(text: str, *arguments: str) -> tuple[float, int]:
        script, recording = folder / "memory.py", folder / "memory.recording"
        script.write_text(text + "print(open('/proc/self/status').read().split('RssAnon:')[1].split()[0])\n")
        recording.unlink(missing_ok=True)
        recording.touch()
        env = {
            **os.environ, "PYTHONPATH": str(ENTRY), "RICERCA_RECORDING": str(recording), "RICERCA_LIMIT": str(1 << 30),
            "RICERCA_NATIVE": f"{ask(sys.executable).tag}={native_for(sys.executable)}",
        }  # fmt: skip
        done = subprocess.run([sys.executable, str(script), *arguments], env=env, check=True, capture_output=True, text=True)
        opened = open_recording(recording)
        return int(done.stdout) / 1024 + int(opened.header["allocated_bytes"]) / 2**20, len(opened.contexts)

    few, many = used_mb(calls, "100000")[0], used_mb(calls, "10000000")[0]
    total, count = used_mb(contexts)
    return [
        Figure(
            "memory with the recording: ten million calls / a hundred thousand", round(many / few, 3), round(few, 1), round(many, 1), 1.1
        ),
        Figure(f"memory with the recording: MB for {count:,} contexts", round(total, 1), round(total, 1), round(total, 1), 300.0),
    ]


def window(folder: Path) -> list[Figure]:
    """The window on the demo study and on a million contexts: first page, longest block, memory; the least of some runs."""
    large = folder / "million.ricerca"
    with Study.open(large, create=True) as study:
        one = study.add_round(Subject("script", ("m.py",), "/", sys.executable, (), ("/",), ()))
        study.add_run(one.id, Run(0, RECORDED, 0, 10**10, 0, 0, ""), million())
    found = []
    for name, study_path, first_limit in (("demo", Path("build/demo/harbour.ricerca"), 2.0), ("a million contexts", large, None)):
        if study_path.exists():
            command = [sys.executable, str(HERE / "window.py"), str(study_path)]
            runs = [subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()[-3:] for _ in range(WINDOWS)]
            for at, (what, digits, limit) in enumerate((("seconds to the first page", 2, first_limit),
                                                        ("longest block of the interface, ms", 1, 50.0),
                                                        ("most memory, MB", None, None))):  # fmt: skip
                values = [round(float(run[at]), digits) for run in runs]
                found.append(Figure(f"window, {name}: {what}", min(values), min(values), max(values), limit))
    return found


def main(arguments: list[str]) -> None:
    """Measure, print, write."""
    repeats = 5 if "--quick" in arguments else 11
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        found = [one for python in interpreters() for one in overhead(python, repeats, folder)]
        for python in interpreters():
            found += honest(python, folder)
        found += [Figure(*row) for row in proof.figures(proof.all_interpreters(), 5 if "--quick" in arguments else 8)]
        found += [Figure(*row) for row in sources.figures(repeats)]
        found += memory(folder) + reading(repeats) + start_up(repeats, folder) + window(folder)
    table = Table("figure", "ratio", "range", "limit", box=None)
    for one in found:
        over = one.limit is not None and one.ratio > one.limit
        limit = "" if one.limit is None else f"≤ {one.limit}" + (" OVER" if over else "")
        table.add_row(one.name, f"{one.ratio}", f"{one.lowest} to {one.highest}", limit)
    Console(width=110).print(table)
    Path("build").mkdir(exist_ok=True)
    Path("build/bench.json").write_text(json.dumps([asdict(one) for one in found], indent=1) + "\n")
    print("written to build/bench.json")


if __name__ == "__main__":
    main(sys.argv[1:])
