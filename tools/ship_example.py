"""Makes the studies that are shipped with Ricerca from recorded examples: python tools/ship_example.py HARBOUR.ricerca NIGHTLY.ricerca."""

from __future__ import annotations

import json
import shutil
import sqlite3
import sys
from pathlib import Path

from ricerca.examples.shipped import NIGHTLY, NIGHTLY_PLACE, PLACE, PYTHON, SHIPPED
from ricerca.runner.native import RECORDER
from ricerca.study.store import Study

HOST = "marrowick"


def ship(source: Path, shipped: Path, place: str) -> None:
    """Copy a study; its program, interpreter and machine get made-up places and names."""
    shutil.copy(source, shipped)
    with Study.open(shipped) as study:
        subject = study.rounds()[-1].subject
        study.relocate(subject.cwd, place)
        study.relocate(subject.python, PYTHON)
        for root in subject.roots:  # the working copy in which it was recorded
            if not root.startswith(place) and not root.startswith(subject.cwd):
                study.relocate(f'"{root}"', f'"{place}"')
        study.relocate(str(RECORDER), "/usr/lib/ricerca/recorder")
        study.relocate(sys.base_prefix, "/usr")
        study.relocate(sys.prefix, "/usr")
    with sqlite3.connect(shipped) as base:
        for number, text in base.execute("SELECT id, machine FROM runs").fetchall():
            facts = json.loads(text)
            facts.update({key: HOST for key in facts if key == "host"})
            base.execute("UPDATE runs SET machine = ? WHERE id = ?", (json.dumps(facts), number))
    sqlite3.connect(shipped).execute("VACUUM")
    print(f"{shipped}: {shipped.stat().st_size // 1024} KB")


if __name__ == "__main__":
    ship(Path(sys.argv[1]), SHIPPED, PLACE)
    ship(Path(sys.argv[2]), NIGHTLY, NIGHTLY_PLACE)
