"""What is known of the machine that runs are made on."""

from __future__ import annotations

import os
import platform
from collections.abc import Iterable
from functools import cache
from pathlib import Path

from ricerca.model.machine import Machine


@cache
def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text("utf-8", "replace").splitlines():
            if line.startswith(("model name", "Model", "cpu model")):
                return line.partition(":")[2].strip()
    except OSError:
        pass
    return platform.machine()


def this_machine() -> Machine:
    """The machine as it is now."""
    try:
        load = round(os.getloadavg()[0], 2)
    except OSError:
        load = -1.0
    return Machine(platform.node(), _processor(), len(os.sched_getaffinity(0)), f"{platform.system()} {platform.release()}", load)


def packages_of(files: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """Name and version of the installed packages that files belong to, as their folders say."""
    used: dict[Path, set[str]] = {}
    for file in files:
        parts = Path(file).parts
        for folder in ("site-packages", "dist-packages"):
            if folder in parts:
                at = len(parts) - 1 - parts[::-1].index(folder)
                used.setdefault(Path(*parts[: at + 1]), set()).add(parts[at + 1].removesuffix(".py"))
    found = {}
    for place, tops in used.items():
        for about in place.glob("*.dist-info"):
            name, _, version = about.name.removesuffix(".dist-info").rpartition("-")
            if _tops_of(about, name) & tops:
                found[name] = version
    return tuple(sorted(found.items()))


def _tops_of(about: Path, name: str) -> set[str]:
    try:
        tops = set((about / "top_level.txt").read_text("utf-8", "replace").split())
    except OSError:
        tops = set()
    return tops | {name, name.lower(), name.replace("-", "_")}
