"""The demo: records the harbour example where it is not there yet, then opens the window on it.

Without a display it says where the results and pictures are. python tools/demo.py FOLDER [--record-only]
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from ricerca.examples.harbour import Harbour
from ricerca.examples.nightly import Nightly
from ricerca.model.errors import RicercaError

PLAIN_RUNS = 4
RICERCA = str(Path(sys.executable).with_name("ricerca"))


def record(folder: Path) -> Path:
    """Make the study, telling each step on one line."""
    harbour = Harbour(folder, PLAIN_RUNS)
    if not harbour.complete():
        print(f"Recording the harbour example in {folder}, four states of its code; this takes a minute or two.")
    began = time.monotonic()

    def tell(step: str) -> None:
        print(f"  {time.monotonic() - began:5.0f} s  {step}", flush=True)

    study = harbour.make(tell)
    assert study is not None
    missing = Nightly.why_not()
    if missing:
        print(f"The nightly script is not recorded: {missing}.")
    else:
        Nightly(folder / "nightly").make(tell)
    return study


def headless(study: Path, folder: Path) -> None:
    """The whole example without a display: tables, exports and pictures; the pictures are made meanwhile."""
    pictures = folder / "pictures"
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    shots = Path(__file__).with_name("shots.py")
    taking = subprocess.Popen([sys.executable, str(shots), str(study), str(pictures)], env=env, stderr=subprocess.DEVNULL)
    for words in (["rank", str(study), "--lines", "--top", "12"], ["compare", str(study), "--top", "8"]):
        print(f"\n$ ricerca {' '.join(words)}", flush=True)
        subprocess.run([RICERCA, *words], check=True)
    for words in (["cases"], ["compare", "1", "2", "4"], ["rank", "--case", "growing", "--growth", "--top", "6"]):
        print(f"\n$ ricerca {words[0]} {study} {' '.join(words[1:])}", flush=True)
        subprocess.run([RICERCA, words[0], str(study), *words[1:]], check=True)
    nightly = folder / "nightly" / "nightly.ricerca"
    if nightly.exists():
        for words in (["rank", str(nightly), "--round", "1", "--leads", "--top", "8"], ["compare", str(nightly), "--top", "6"]):
            print(f"\n$ ricerca {' '.join(words)}", flush=True)
            subprocess.run([RICERCA, *words], check=True)
    for name in ("gain.md", "functions.csv", "round.json", "report.html", "report.pdf"):
        subprocess.run([RICERCA, "export", str(study), "--to", str(folder / name)], check=True)
    budget = folder / "budget.toml"
    print(f"\n$ ricerca check {study} --budget {budget}", flush=True)
    subprocess.run([RICERCA, "budget", str(study), "--to", str(budget)], check=True, stderr=subprocess.DEVNULL)
    subprocess.run([RICERCA, "check", str(study), "--budget", str(budget)], check=True)
    if taking.wait():
        raise SystemExit("The pictures could not be made; python tools/shots.py says why.")
    print(f"\nThere is no display, so no window was opened. In {folder}:")
    print("  harbour.ricerca   the study; open it later with: ricerca open")
    if nightly.exists():
        print("  nightly/nightly.ricerca   the study of the nightly shell script")
    print("  report.html, report.pdf   the report")
    print("  gain.md, functions.csv, round.json   the exports")
    print("  budget.toml   what a build server can check")
    print(f"  pictures/   {len(list(pictures.glob('*.png')))} pictures of the window")


def main(arguments: list[str]) -> int:
    """Entry point; gives the exit status."""
    folder = Path(arguments[0] if arguments else "build/demo").absolute()
    try:
        study = record(folder)
    except RicercaError as problem:
        print(f"ricerca: {problem}", file=sys.stderr)
        return 2
    if "--record-only" in arguments:
        return 0
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        return subprocess.run([RICERCA, "open", str(study)]).returncode
    headless(study, folder)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
