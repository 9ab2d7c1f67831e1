"""What recording costs in the other sources of events: shells against plain, compiled calls against a hook that only reads the clock."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from ricerca.runner.compiled import FLAGS, preloaded
from ricerca.runner.shells import environment

LOOP = "f() { x=$1; }\nfor ((i = 0; i < 20000; i++)); do f $i; done\n"
PROGRAM = """
#include <stdio.h>
static int fib(int n) { return n < 2 ? n : fib(n - 1) + fib(n - 2); }
int main(void) { printf("%d", fib(30)); return 0; }
"""
EMPTY = """
#include <x86intrin.h>
#define QUIET __attribute__((no_instrument_function))
QUIET void __cyg_profile_func_enter(void *f, void *s) { volatile unsigned long long t = __rdtsc(); (void)t; (void)f; (void)s; }
QUIET void __cyg_profile_func_exit(void *f, void *s) { volatile unsigned long long t = __rdtsc(); (void)t; (void)f; (void)s; }
"""
Row = tuple[str, float, float, float, float | None]


def _seconds(command: list[str], env: dict[str, str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, env=env, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def _ratio(name: str, dear: Callable[[], float], cheap: Callable[[], float], repeats: int) -> Row:
    pairs = [(dear(), cheap()) for _ in range(repeats)]
    ratios = sorted(round(a / b, 3) for a, b in pairs)
    return name, round(min(a for a, _b in pairs) / min(b for _a, b in pairs), 3), ratios[0], ratios[-1], None


def figures(repeats: int) -> list[Row]:
    """Ratios, for information: there is no limit that holds for programs that do nothing but call."""
    found: list[Row] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        recorded = {**os.environ, "RICERCA_RECORDING": str(folder / "r.recording")}
        for shell in filter(shutil.which, ("bash", "zsh")):
            script = folder / f"loop.{shell}"
            script.write_text(LOOP)
            command = [shell, str(script)]
            watched = {**recorded, **environment(os.environ)}
            found.append(_ratio(f"{shell}, commands only: recorded / plain", lambda c=command, e=watched: _seconds(c, e),
                                lambda c=command: _seconds(c, dict(os.environ)), repeats))  # fmt: skip
        if shutil.which("gcc"):
            (folder / "fib.c").write_text(PROGRAM)
            (folder / "empty.c").write_text(EMPTY)
            subprocess.run(["gcc", "-O2", *FLAGS.split(), "-o", str(folder / "fib"), str(folder / "fib.c")], check=True)
            subprocess.run(["gcc", "-O2", "-fPIC", "-shared", "-o", str(folder / "empty.so"), str(folder / "empty.c")], check=True)
            program, empty = [str(folder / "fib")], {**os.environ, "LD_PRELOAD": str(folder / "empty.so")}
            loaded = {**recorded, **preloaded(None)}
            title = "compiled, calls only: recorded / hook that reads the clock"
            found.append(_ratio(title, lambda: _seconds(program, loaded), lambda: _seconds(program, empty), repeats))
    return found
