"""The harbour example as it is shipped: a study that was recorded before, opened at once in a folder of the person's own."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

from ricerca.examples.harbour import Harbour
from ricerca.model.errors import EnvironmentProblem
from ricerca.study.store import Study

SHIPPED = Path(__file__).with_name("harbour.ricerca")
PLACE, PYTHON = "/marrowick/harbour", "/usr/bin/python3"
"""Where the shipped study says its program and its interpreter lie."""


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
    part = folder / ".harbour.part"
    try:
        shutil.copy(SHIPPED, part)
        with Study.open(part) as study:
            study.relocate(PLACE, str(folder))
            study.relocate(PYTHON, sys.executable)
        part.replace(harbour.study)
    except OSError as problem:
        part.unlink(missing_ok=True)
        raise EnvironmentProblem(f"The example could not be written to {folder}: {problem.strerror}.") from None
    return harbour.study
