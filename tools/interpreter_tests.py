"""Runs modules of an interpreter's own tests plain and recorded, and says where they end differently.

    python tools/interpreter_tests.py --python python3.12 [--jobs 2] [test_code test_sys ...]

Without names it takes all there are but those in LEFT_OUT. Each module gets five minutes. What differs
is run a second time both ways: tests that fail by chance, plain as well, are left out. Exit status 1 where something differs.
"""

from __future__ import annotations

import argparse
import os
import re
import signal
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

SECONDS = 300
# They look at the very thing that recording uses, or need a terminal, a network or an hour.
LEFT_OUT = {
    "test_monitoring": "uses every monitoring tool number itself",
    "test_multiprocessing_spawn": "more than five minutes", "test_multiprocessing_fork": "more than five minutes",
    "test_multiprocessing_forkserver": "more than five minutes", "test_multiprocessing_main_handling": "more than five minutes",
    "test_concurrent_futures": "more than five minutes", "test_regrtest": "runs all of this again", "test_gdb": "needs a debugger",
    "test_idle": "needs a display", "test_tkinter": "needs a display", "test_ttk": "needs a display", "test_socket": "needs a network",
    "test_asyncio": "more than five minutes", "test_tools": "more than five minutes", "test_peg_generator": "needs a compiler for minutes",
    "test_faulthandler": "crashes on purpose",
}  # fmt: skip
RESULT = re.compile(r"(?:Ran (\d+) tests?|total: run=([\d,]+))")
FAILED = re.compile(r"^(?:FAIL|ERROR): (\S+)", re.MULTILINE)


def run(command: list[str], folder: Path) -> tuple[int | str, str, tuple[str, ...]]:
    """Exit status or "timeout", number of tests, names of those that failed."""
    env = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache")}
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace", env=env,
                          stdin=subprocess.DEVNULL, start_new_session=True) as process:  # fmt: skip
        try:
            text, _ = process.communicate(timeout=SECONDS)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)  # what it started, too
            return "timeout", "", ()
    count = RESULT.findall(text)
    return process.returncode, (count[-1][0] or count[-1][1]) if count else "", tuple(sorted(FAILED.findall(text)))


def both(python: str, module: str, hook: str) -> tuple[str, object, object]:
    """How a module of tests ends plain and recorded; where that differs, the second time."""
    ricerca = [sys.executable, "-m", "ricerca.cli", "record", "--quiet", "--hook", hook, "--study", "t.ricerca", "--python", python, "--"]
    words = ["-m", "test", "-v", module]
    for _ in range(2):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "cache").mkdir()
            plain = run([python, *words], folder)
            recorded = run([*ricerca, *words], folder)
        if plain == recorded:
            break
    return module, plain, recorded


def modules_of(python: str) -> list[str]:
    """All test modules of an interpreter that are not left out."""
    ask = "import test, os; print(os.path.dirname(test.__file__))"
    place = Path(subprocess.run([python, "-c", ask], capture_output=True, text=True, check=True).stdout.strip())
    found = {path.stem for path in place.glob("test_*") if path.suffix in ("", ".py")}
    return sorted(found - set(LEFT_OUT))


def main() -> int:
    """Run them, tell each that differs."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--python", default=sys.executable)
    parser.add_argument("--hook", default="native")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("modules", nargs="*")
    asked = parser.parse_args()
    modules, different = asked.modules or modules_of(asked.python), 0
    with ThreadPoolExecutor(asked.jobs) as pool:
        for module, plain, recorded in pool.map(lambda module: both(asked.python, module, asked.hook), modules):
            if plain != recorded:
                different += 1
                print(f"{module}: plain {plain}, recorded {recorded}", flush=True)
    print(f"{len(modules)} modules, {different} of them end differently")
    return 1 if different else 0


if __name__ == "__main__":
    sys.exit(main())
