"""Our figures, as ratios in one run: python bench/run.py [--quick]

Prints a table and writes build/bench.json: name, ratio, spread (lowest and highest of the pairs), limit.
Machines are noisy: runs alternate, and each ratio is the median over pairs that were made one after the other.
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
from rich.console import Console
from rich.table import Table

from ricerca.engine.lines import line_figures
from ricerca.engine.neighbours import edges
from ricerca.engine.profile import Profile, build_profile
from ricerca.engine.ranking import function_figures
from ricerca.recording.model import RunTables
from ricerca.runner.native import ENTRY, ask, native_for

HERE = Path(__file__).parent
WORKLOADS = ("tiny_calls", "recursion", "builtin_calls", "objects", "arrays")


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


def empty_hook(python: str, folder: Path) -> str:
    """Compile the hook of the same kind that does nothing."""
    built = folder / "empty.so"
    command = ["cc", "-O3", "-fPIC", "-shared", f"-I{ask(python).include}", str(HERE / "empty_hook.c"), "-o", str(built)]
    subprocess.run(command, check=True)
    return str(built)


def cpu_seconds(python: str, script: Path, native: str | None, folder: Path) -> float:
    """Processor time of a whole run; less shaken by other work on the machine than the clock on the wall."""
    env = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    if native is not None:
        recording = folder / "bench.recording"
        recording.unlink(missing_ok=True)
        recording.touch()
        env |= {
            "PYTHONPATH": str(ENTRY),
            "RICERCA_RECORDING": str(recording),
            "RICERCA_NATIVE": f"{ask(python).cache_tag}={native}",
            "RICERCA_LIMIT": str(1 << 30),
        }
    process = subprocess.Popen([python, str(script)], env=env, stdout=subprocess.DEVNULL)
    _pid, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode == 0, script
    return usage.ru_utime + usage.ru_stime


def figure(name: str, pairs: list[float], limit: float | None) -> Figure:
    """Median and range of the ratios of pairs."""
    return Figure(name, round(statistics.median(pairs), 3), round(min(pairs), 3), round(max(pairs), 3), limit)


def overhead(python: str, repeats: int, folder: Path) -> list[Figure]:
    """Recorded runs against the empty hook and against plain runs, by workload."""
    modes = (None, empty_hook(python, folder), native_for(python))
    version = ".".join(map(str, ask(python).version[:2]))
    found = []
    idle = folder / "idle.py"  # what it costs to start and to import is not the workload's
    for workload in WORKLOADS:
        arrays = workload == "arrays"
        if arrays and python != sys.executable:
            continue  # the other interpreters have no NumPy
        script = HERE / "workloads" / f"{workload}.py"
        idle.write_text("import numpy\nnumpy.random.default_rng(5)\n" if arrays else "pass\n")
        starts = [min(cpu_seconds(python, idle, native, folder) for _ in range(3)) for native in modes]
        against_empty, against_plain = [], []
        for _ in range(repeats):
            plain, bare, recorded = (
                cpu_seconds(python, script, native, folder) - start for native, start in zip(modes, starts, strict=True)
            )
            against_empty.append(recorded / bare)
            against_plain.append(recorded / plain)
        found.append(figure(f"{version} {workload}: recorded / empty hook", against_empty, 1.25))
        found.append(figure(f"{version} {workload}: recorded / plain", against_plain, 1.05 if arrays else None))
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
    tables = million()
    values = np.random.default_rng(1).integers(0, 1 << 40, 1_000_000)
    steps: list[tuple[str, Callable[[], object]]] = []
    profile = build_profile(tables)
    steps.append(("build the profile", lambda: build_profile(tables)))
    steps.append(("figures by function", lambda: function_figures(build_view(profile))))
    steps.append(("edges", lambda: edges(build_view(profile))))
    steps.append(("lines", lambda: line_figures(build_view(profile))))
    found = []
    for name, step in steps:
        pairs = [timed(step) / timed(lambda: np.argsort(values)) for _ in range(repeats)]
        limit = 4.0 if name == "figures by function" else None
        found.append(figure(f"a million contexts: {name} / argsort of a million", pairs, limit))
    return found


def build_view(profile: Profile) -> Profile:
    """The same profile with nothing remembered."""
    return replace(profile)


def start_up(repeats: int, folder: Path) -> list[Figure]:
    """Seconds that `ricerca record` adds to a program that does nothing."""
    script = folder / "idle.py"
    script.write_text("pass\n")
    extra = []
    for number in range(repeats):
        plain = timed(lambda: subprocess.run([sys.executable, str(script)], check=True))
        study = folder / f"start{number}.ricerca"
        command = [sys.executable, "-m", "ricerca.cli", "record", "--quiet", "--study", str(study), str(script)]
        extra.append(timed(lambda command=command: subprocess.run(command, check=True)) - plain)
    return [figure("start and end of `ricerca record`: seconds over plain", extra, None)]


def window() -> list[Figure]:
    """Seconds to the first page of the demo study, and the longest time the interface was blocked."""
    study = Path("build/demo/harbour.ricerca")
    if not study.exists():
        return []
    done = subprocess.run([sys.executable, str(HERE / "window.py"), str(study)], capture_output=True, text=True, check=True)
    first, longest = map(float, done.stdout.split()[-2:])
    return [
        Figure("window: seconds to the first page", round(first, 2), round(first, 2), round(first, 2), 2.0),
        Figure("window: longest block of the interface, ms", round(longest, 1), round(longest, 1), round(longest, 1), 50.0),
    ]


def main(arguments: list[str]) -> None:
    """Measure, print, write."""
    repeats = 5 if "--quick" in arguments else 11
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        found = [one for python in interpreters() for one in overhead(python, repeats, folder)]
        found += reading(5) + start_up(5, folder) + window()
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
