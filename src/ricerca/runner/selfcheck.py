"""What works on this machine, tried for real, and what to do where it does not."""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from ricerca.model.errors import EnvironmentProblem, RicercaError
from ricerca.runner.compiled import FLAGS, library
from ricerca.runner.interpreters import installed_interpreters
from ricerca.runner.launch import DEFAULT_LIMIT_BYTES
from ricerca.runner.native import ask, hook_setting, native_for
from ricerca.runner.recordings import recordings_folder

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
    try:
        return Check("recorder", True, f"native, {os.path.basename(native_for(sys.executable))}")
    except RicercaError as problem:
        return Check("recorder", True, f"in Python, slower, with the same counts ({problem.what})", "Install gcc for the native one.")


def _others() -> Check:
    """Each Python that is found: whether the recorder can be had for it; it is compiled now, not at the first recording."""
    said, advice = [], ""
    for python in installed_interpreters():
        try:
            version = ".".join(map(str, ask(python).version))
            kind = "native" if hook_setting(python) else "in Python only"
        except RicercaError as problem:
            version, kind = python, f"not usable: {problem.what}"
            advice = "Repair or remove that interpreter; the others are not touched by it."
        said.append(f"{version} {kind}")
    return Check("interpreters found", True, "; ".join(said) or "none besides Ricerca's own", advice)


def _hooks() -> Check:
    """Which of the interpreter's hooks is used, and that nothing else holds it."""
    if sys.version_info >= (3, 12):
        held = [name for name in (sys.monitoring.get_tool(number) for number in (3, 4)) if name]
        return Check(
            "hook", len(held) < 2, "the interpreter's monitoring interface", "" if len(held) < 2 else "Run without: " + ", ".join(held)
        )
    return Check("hook", sys.getprofile() is None, "the interpreter's C-level profile hook",
                 "" if sys.getprofile() is None else "Another tool holds it; start Ricerca without that tool.")  # fmt: skip


def _compiler() -> Check:
    compiler = os.environ.get("CC") or shutil.which("cc") or shutil.which("gcc")
    if not compiler:
        return Check("C compiler", False, "none found", "Install gcc (Debian: apt-get install gcc) to record other interpreters.")
    done = subprocess.run([*compiler.split(), "--version"], capture_output=True, text=True, timeout=20)
    return Check("C compiler", done.returncode == 0, (done.stdout.splitlines() or [compiler])[0])


def _shells() -> Check:
    """Which shells' scripts can be recorded."""
    asks = {"bash": "echo $BASH_VERSION", "zsh": "echo $ZSH_VERSION"}
    found = {}
    for shell, ask_version in asks.items():
        if shutil.which(shell):
            done = subprocess.run([shell, "-c", ask_version], capture_output=True, text=True, timeout=20)
            found[shell] = done.stdout.strip().partition("(")[0]
    works = [shell for shell, version in found.items() if version.partition(".")[0].isdigit() and int(version.partition(".")[0]) >= 5]
    words = ", ".join(f"{shell} {version}" for shell, version in found.items()) or "none found"
    return Check("shell scripts", bool(works), words, "" if works else "Install bash 5 or zsh to record shell scripts.")


def _compiled() -> Check:
    """Whether compiled programs can be recorded."""
    try:
        library()
    except EnvironmentProblem as problem:
        return Check("compiled programs", False, problem.what, problem.advice)
    return Check("compiled programs", True, f"build them with {FLAGS}")


def _clock() -> Check:
    readings = [time.clock_gettime_ns(time.CLOCK_MONOTONIC) for _ in range(2000)]
    steps = [b - a for a, b in pairwise(readings) if b > a]
    source = Path("/sys/devices/system/clocksource/clocksource0/current_clocksource")
    name = source.read_text().strip() if source.exists() else "unknown"
    cpu = [time.clock_gettime_ns(time.CLOCK_THREAD_CPUTIME_ID) for _ in range(2000)]
    cpu_step = min((b - a for a, b in pairwise(cpu) if b > a), default=0)
    ticks = "processor ticks" if name == "tsc" else "the monotonic clock (the processor's own is not trusted here)"
    return Check("clock", bool(steps), f"{ticks}; the kernel uses {name}, smallest steps seen: "
                 f"{min(steps, default=0)} ns, of the thread's own clock {cpu_step} ns")  # fmt: skip


def _room() -> Check:
    folder = str(recordings_folder().parent if recordings_folder().parent.is_dir() else Path.home())
    free = shutil.disk_usage(folder).free
    enough = free > 256 << 20
    return Check("disk", enough, f"{free >> 20} MB free in {folder}", "" if enough else "Free some space for recordings.")


def _cache() -> Check:
    """Where recordings lie until they are in their study, and what a recording may take."""
    folder = recordings_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder) as file:
            os.posix_fallocate(file.fileno(), 0, 1 << 20)
    except OSError as problem:
        return Check("cache", False, f"{folder} cannot be written to ({problem.strerror})", "Set XDG_CACHE_HOME to a folder that can.")
    left = len(list(folder.glob("*.recording")))
    words = f"{folder}" + (f"; {left} recordings lie there, not taken into their studies yet" if left else "")
    return Check("cache", True, words, "Open their studies to take them in." if left else "")


def _limits() -> Check:
    allowed = resource.getrlimit(resource.RLIMIT_FSIZE)[0]
    enough = allowed in (-1, resource.RLIM_INFINITY) or allowed >= DEFAULT_LIMIT_BYTES
    finding = f"a recording may take {DEFAULT_LIMIT_BYTES >> 20} MB (see --limit)"
    if enough:
        return Check("limits", True, finding)
    return Check(
        "limits", True, f"{finding}, but files may not be larger than {allowed >> 20} MB here", "Raise it with: ulimit -f unlimited"
    )


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
    cost = (
        f"hook: {facts.hook}; a call costs {facts.python_inside_ns + facts.python_outside_ns:.0f} ns to record, one of a builtin "
        f"{facts.builtin_inside_ns + facts.builtin_outside_ns:.0f} ns; bytecode runs {facts.bytecode_factor:.2f}× as long"
    )
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
    ("interpreters found", _others),
    ("shell scripts", _shells),
    ("compiled programs", _compiled),
    ("hook", _hooks),
    ("clock", _clock),
    ("disk", _room),
    ("cache", _cache),
    ("limits", _limits),
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
