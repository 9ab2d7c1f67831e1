"""Interpreters that a program may want: environments near it, and those installed on the machine."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path

MOST_LEVELS = 3
_NAME = re.compile(r"python3\.(9|1\d)$")


def _python_in(environment: Path) -> Path | None:
    """The interpreter of a virtual environment, None where the folder is none."""
    python = environment / "bin" / "python"
    return python if (environment / "pyvenv.cfg").is_file() and os.access(python, os.X_OK) else None


def environments_near(folder: str | os.PathLike[str]) -> list[str]:
    """Interpreters of the virtual environments in a folder and the folders above it, the nearest first."""
    place = Path(folder).expanduser().absolute()
    found: dict[str, None] = {}
    for level in (place, *place.parents)[: MOST_LEVELS + 1]:
        try:
            inner = sorted(entry for entry in level.iterdir() if entry.is_dir())
        except OSError:
            continue
        for candidate in (level, *inner):
            python = _python_in(candidate)
            if python is not None:
                found[str(python)] = None
    active = os.environ.get("VIRTUAL_ENV")
    if active and (python := _python_in(Path(active))):
        found[str(python)] = None
    return list(found)


def _installed() -> Iterator[Path]:
    root = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv"), "versions")
    folders = [*sorted(root.glob("*/bin")), *map(Path, os.environ.get("PATH", "").split(os.pathsep)), Path("/usr/bin")]
    for folder in folders:
        try:
            yield from sorted(file for file in folder.iterdir() if _NAME.fullmatch(file.name) and os.access(file, os.X_OK))
        except OSError:
            continue


def _different(files: Iterable[Path]) -> Iterator[str]:
    seen = set()
    for file in files:
        real = os.path.realpath(file)
        if real not in seen:
            seen.add(real)
            yield str(file)


def installed_interpreters() -> list[str]:
    """The Pythons of this machine that can be recorded, each once."""
    return list(_different(file for file in _installed() if file.parent.name != "shims"))


def offered(folder: str | os.PathLike[str]) -> list[tuple[str, str]]:
    """Interpreters to choose from for a program in folder: path, and where it comes from."""
    near = [(python, "environment near the program") for python in environments_near(folder)]
    rest = [(python, "installed here") for python in installed_interpreters()]
    own = [] if sys.executable in dict(near) else [(sys.executable, "the one Ricerca runs in")]
    return [*near, *own, *(pair for pair in rest if pair[0] not in dict(own))]
