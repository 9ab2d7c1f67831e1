"""Records programs that use packages from the registries, plain and recorded, and compares: output, exit status, counts.

    python tools/real_programs.py PYTHON [PYTHON...] [--only NAME]

Each program in the folder beside counts some of its own calls itself and prints ``COUNT function=number``: the second source that
the recording is checked against. A program whose packages an interpreter lacks is skipped, and that is said. Exit status 1 where
anything differs.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAMS = Path(__file__).with_name("real_programs")
COUNT = re.compile(rb"^COUNT (\S+)=(\d+)$", re.MULTILINE)
SECONDS = 300


def run(command: list[str], folder: Path) -> tuple[int, bytes, bytes, float]:
    """Exit status, output, errors, seconds."""
    env = {
        **os.environ,
        "XDG_CACHE_HOME": str(folder.parent / "cache"),
        "QT_QPA_PLATFORM": "offscreen",
        "MPLBACKEND": "Agg",
        "PYTHONHASHSEED": "0",
    }
    start = time.monotonic()
    done = subprocess.run(command, cwd=folder, capture_output=True, timeout=SECONDS, env=env, stdin=subprocess.DEVNULL)
    return done.returncode, done.stdout, done.stderr, time.monotonic() - start


def check(python: str, program: Path, folder: Path) -> tuple[str, list[str]]:
    """What came of a program, in words; and what differs."""
    plain = run([python, str(program)], folder)
    if b"ModuleNotFoundError" in plain[2] or b"SKIP" in plain[1]:
        return f"skipped: {plain[2].decode().strip().splitlines()[-1] if plain[2] else 'does not run here'}", []
    ricerca = [sys.executable, "-m", "ricerca.cli"]
    recorded = run([*ricerca, "record", "--quiet", "--study", "p.ricerca", "--python", python, "--", str(program)], folder)
    wrong = [
        f"{what}: plain {a!r:.200}, recorded {b!r:.200}"
        for what, a, b in zip(("exit status", "output", "errors"), plain[:3], recorded[:3], strict=True)
        if a != b
    ]
    ranked = run([*ricerca, "rank", "p.ricerca", "--json", "--leads", "--reading", "charged to my code"], folder)
    if ranked[0]:
        return "not read", [*wrong, ranked[2].decode()]
    facts = json.loads(ranked[1])
    whole = json.loads(run([*ricerca, "rank", "p.ricerca", "--json"], folder)[1])
    calls: dict[str, int] = {}
    for row in whole["functions"]:
        calls[row["function"]] = calls.get(row["function"], 0) + row["calls"]
    for name, number in COUNT.findall(plain[1]):
        if calls.get(name.decode(), 0) != int(number):
            wrong.append(f"{name.decode()}: {calls.get(name.decode(), 0)} calls recorded, {int(number)} made")
    missing = "" if whole["complete"] else f"; NOT COMPLETE: {'; '.join(whole['incomplete_because'])}"
    lead = facts["leads"][0]["sentence"] if facts["leads"] else "no leads"
    return (
        f"{plain[3]:.1f} s plain, {recorded[3]:.1f} s with recording; {whole['elapsed_ns'] / 1e9:.2f} s elapsed of "
        f"{whole['total_ns'] / 1e9:.2f} s; {whole['calls']} calls, {whole['contexts']} contexts{missing}\n      first: {lead}"
    ), wrong


def main() -> int:
    """Run all, tell each."""
    parser = argparse.ArgumentParser()
    parser.add_argument("pythons", nargs="+")
    parser.add_argument("--only", default="")
    asked = parser.parse_args()
    failed = 0
    for program in sorted(PROGRAMS.glob(f"{asked.only or '*'}.py")):
        for python in asked.pythons:
            with tempfile.TemporaryDirectory(dir="/tmp") as place:
                folder = Path(place, "work")
                folder.mkdir()
                (Path(place) / "cache").mkdir()
                shared = Path(tempfile.gettempdir(), "ricerca-native")
                shared.mkdir(exist_ok=True)
                (Path(place) / "cache" / "ricerca").mkdir()
                (Path(place) / "cache" / "ricerca" / "native").symlink_to(shared)
                try:
                    said, wrong = check(python, program, folder)
                except subprocess.TimeoutExpired:
                    said, wrong = "timed out", ["it did not end"]
            failed += bool(wrong)
            print(f"{'FAIL' if wrong else ' ok '} {program.stem} {python}: {said}", flush=True)
            for one in wrong:
                print(f"      {one}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
