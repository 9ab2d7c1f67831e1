"""What works on this machine, tried for real, and what to do where it does not."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from ricerca.errors import RicercaError
from ricerca.runner.native import ask, native_for

TRIAL = "def leaf():\n    return 1\n\n\nfor _ in range(1000):\n    leaf()\n"


@dataclass(frozen=True)
class Check:
    """One finding; ``advice`` says what to do where it does not work."""

    what: str
    works: bool
    finding: str
    advice: str = ""


def _interpreter() -> Check:
    found = ask(sys.executable)
    return Check("interpreter", True, f"Python {'.'.join(map(str, found.version))} at {found.path}")


def _native() -> Check:
    return Check("recorder", True, f"native, {os.path.basename(native_for(sys.executable))}")


def _compiler() -> Check:
    compiler = os.environ.get("CC") or shutil.which("cc") or shutil.which("gcc")
    if not compiler:
        return Check("C compiler", False, "none found", "Install gcc (Debian: apt-get install gcc) to record other interpreters.")
    done = subprocess.run([*compiler.split(), "--version"], capture_output=True, text=True, timeout=20)
    return Check("C compiler", done.returncode == 0, (done.stdout.splitlines() or [compiler])[0])


def _clock() -> Check:
    readings = [time.clock_gettime_ns(time.CLOCK_MONOTONIC) for _ in range(2000)]
    steps = [b - a for a, b in pairwise(readings) if b > a]
    source = Path("/sys/devices/system/clocksource/clocksource0/current_clocksource")
    name = source.read_text().strip() if source.exists() else "unknown"
    ticks = "processor ticks" if name == "tsc" else "the monotonic clock (the processor's own is not trusted here)"
    return Check("clock", bool(steps), f"{ticks}; the kernel uses {name}, its smallest step seen is {min(steps, default=0)} ns")


def _room() -> Check:
    folder = tempfile.gettempdir()
    free = shutil.disk_usage(folder).free
    enough = free > 256 << 20
    return Check("disk", enough, f"{free >> 20} MB free in {folder}", "" if enough else "Free some space for recordings.")


def _trial() -> Check:
    """A recording from end to end, its counts compared with what the program does."""
    from ricerca.engine.ranking import function_figures
    from ricerca.loading import load
    from ricerca.runner.program import describe
    from ricerca.runner.session import Plan, Session
    from ricerca.study.store import Study

    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder, "trial.py")
        script.write_text(TRIAL)
        study = Path(folder, "trial.ricerca")
        outcome = Session(Plan(describe([str(script)], folder, None), study)).run()
        if outcome.run_id is None:
            return Check("trial recording", False, outcome.problem or "nothing was recorded", "Please report this.")
        with Study.open(study) as kept:
            profile = load(kept).profile
    calls = int(function_figures(profile).calls[profile.functions.name.index("leaf")])
    facts = profile.facts
    cost = f"a call costs {facts.python_inside_ns + facts.python_outside_ns:.0f} ns to record"
    return Check(
        "trial recording",
        calls == 1000,
        f"{calls} of 1000 calls counted; {cost}",
        "" if calls == 1000 else "Please report this.",
    )


def _window() -> Check:
    code = "from PyQt6.QtWidgets import QApplication; QApplication(['x'])"
    env = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=env, timeout=60)
    if done.returncode == 0:
        return Check("window", True, "Qt starts")
    why = (done.stderr.strip().splitlines() or ["no message"])[-1]
    return Check("window", False, why, "Run make setup again; it installs the libraries that Qt needs.")


CHECKS: tuple[tuple[str, Callable[[], Check]], ...] = (
    ("interpreter", _interpreter),
    ("recorder", _native),
    ("C compiler", _compiler),
    ("clock", _clock),
    ("disk", _room),
    ("trial recording", _trial),
    ("window", _window),
)


def check_machine() -> list[Check]:
    """All checks; one that fails does not keep the others from running."""
    found = []
    for name, check in CHECKS:
        try:
            found.append(check())
        except RicercaError as problem:
            found.append(Check(name, False, problem.what, problem.advice))
        except (OSError, subprocess.SubprocessError, ValueError) as problem:
            found.append(Check(name, False, str(problem), "Please report this."))
    return found
