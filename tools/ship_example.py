"""Makes the study that is shipped with Ricerca from a recorded example: python tools/ship_example.py HARBOUR.ricerca."""

from __future__ import annotations

import json
import shutil
import sqlite3
import sys
from pathlib import Path

from ricerca.examples.shipped import PLACE, PYTHON, SHIPPED
from ricerca.runner.native import RECORDER
from ricerca.study.store import Study

HOST = "marrowick"


def main(source: Path) -> None:
    """Copy the study; its program, interpreter and machine get made-up places and names."""
    shutil.copy(source, SHIPPED)
    with Study.open(SHIPPED) as study:
        subject = study.rounds()[-1].subject
        study.relocate(subject.cwd, PLACE)
        study.relocate(subject.python, PYTHON)
        for root in subject.roots:  # the working copy in which it was recorded
            if not root.startswith(PLACE) and not root.startswith(subject.cwd):
                study.relocate(f'"{root}"', f'"{PLACE}"')
        study.relocate(str(RECORDER), "/usr/lib/ricerca/recorder")
        study.relocate(sys.base_prefix, "/usr")
        study.relocate(sys.prefix, "/usr")
    with sqlite3.connect(SHIPPED) as base:
        for number, text in base.execute("SELECT id, machine FROM runs").fetchall():
            facts = json.loads(text)
            facts.update({key: HOST for key in facts if key == "host"})
            base.execute("UPDATE runs SET machine = ? WHERE id = ?", (json.dumps(facts), number))
    sqlite3.connect(SHIPPED).execute("VACUUM")
    print(f"{SHIPPED}: {SHIPPED.stat().st_size // 1024} KB")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
