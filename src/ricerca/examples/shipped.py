"""The harbour example as it is shipped: a study that was recorded before, opened at once in a folder of the person's own."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

from ricerca.examples.harbour import Harbour
from ricerca.model.errors import EnvironmentProblem
from ricerca.study.store import Study

SHIPPED = Path(__file__).with_name("harbour.ricerca")
NIGHTLY = Path(__file__).with_name("nightly.ricerca")
PLACE, NIGHTLY_PLACE, PYTHON = "/marrowick/harbour", "/marrowick/nightly", "/usr/bin/python3"
"""Where the shipped studies say their programs and their interpreter lie."""


def open_shipped(folder: Path) -> Path:
    """The example's study in this folder, with the last state of its code and its readings beside it.

    What was put there before is kept, with all that a person did with it.

    Raises
    ------
    EnvironmentProblem
        The folder cannot be written to.
    """
    harbour = Harbour(folder)
    if harbour.study.exists():
        return harbour.study
    harbour.prepare(last=True)
    return _put(SHIPPED, PLACE, harbour.study)


def open_nightly(folder: Path) -> Path:
    """The study of the nightly script in this folder; the script itself is in it, its kernel has to be built to run it again.

    Raises
    ------
    EnvironmentProblem
        The folder cannot be written to.
    """
    study = folder / "nightly.ricerca"
    return study if study.exists() else _put(NIGHTLY, NIGHTLY_PLACE, study)


def _put(shipped: Path, place: str, wanted: Path) -> Path:
    """Copy a shipped study, its program's folder where the copy is."""
    part = wanted.with_name(f".{wanted.name}.part")
    try:
        wanted.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(shipped, part)
        with Study.open(part) as study:
            study.relocate(place, str(wanted.parent))
            study.relocate(PYTHON, sys.executable)
        part.replace(wanted)
    except OSError as problem:
        part.unlink(missing_ok=True)
        raise EnvironmentProblem(f"The example could not be written to {wanted.parent}: {problem.strerror}.") from None
    return wanted
