"""Reports for the window, made in a process of their own: drawing their pictures would hold up the interface."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from ricerca.engine.reading import Reading
from ricerca.model.errors import EnvironmentProblem

REPORTS = (".html", ".htm", ".pdf")


def write_report(study: str, path: Path, reading: Reading) -> None:
    """Write the report of a reading, as HTML or PDF by the file's ending.

    Raises
    ------
    EnvironmentProblem
        It could not be made, with the reason.
    """
    command = [sys.executable, "-m", "ricerca.cli", "export", study, "--to", str(path), "--reading", reading.text, "--what", "report"]
    done = subprocess.run(command, capture_output=True, text=True, errors="replace", stdin=subprocess.DEVNULL)
    if done.returncode:
        said = done.stderr.strip().splitlines()
        raise EnvironmentProblem(f"The report could not be written: {said[-1] if said else f'exit status {done.returncode}'}")
