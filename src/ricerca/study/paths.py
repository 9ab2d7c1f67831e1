"""Paths as the study file keeps them, and what SQLite says of its file, in words."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

from ricerca.model.errors import EnvironmentProblem, FileDamagedError


def kept_path(text: str) -> str | bytes:
    """A path as SQLite can keep it: one that is no UTF-8 as the bytes it is."""
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return os.fsencode(text)
    return text


def path_of(value: object) -> str:
    """A path as it was given to ``kept_path``."""
    return os.fsdecode(value) if isinstance(value, bytes) else str(value)


def damaged(path: Path, problem: object) -> FileDamagedError:
    """That a file is no study, or damaged."""
    return FileDamagedError(f"{path.name} is damaged or not a Ricerca study ({problem}).", "Open a copy from a backup.")


def trouble(path: Path, problem: sqlite3.OperationalError) -> EnvironmentProblem | FileDamagedError:
    """What keeps SQLite from reading or writing a study, with what to do."""
    text = str(problem)
    if "full" in text or "disk I/O" in text:
        return EnvironmentProblem(
            f"There is no room on the disk to write {path.name} ({text}).", "Free some space; nothing already stored is lost."
        )
    if "locked" in text:
        return EnvironmentProblem(f"{path.name} is in use by another program.", "Try again when it is done.")
    if "readonly" in text or "unable to open" in text:
        return EnvironmentProblem(f"{path} cannot be opened for writing ({text}).", "Check the folder's permissions.")
    return damaged(path, problem)
