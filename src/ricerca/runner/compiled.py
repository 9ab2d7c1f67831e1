"""Compiled programs: what to give the compiler so that they tell their calls, and the library that listens to them."""

from __future__ import annotations

import hashlib
import os
import platform
import shutil
import subprocess
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from platformdirs import user_cache_path

from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject
from ricerca.runner.native import RECORDER, SOURCES, build_library

CALLS = RECORDER / "compiled" / "calls.c"
SHARED = ("arena", "clock", "slices", "stack")
"""Parts of the recorder that know nothing of any language."""
LANGUAGES = ("c", "c++", "fortran")
FLAGS = "-g -finstrument-functions"
TOLD = b"__cyg_profile_func_enter"
ELF = b"\x7fELF"
MOST_EXTENSIONS, MOST_FOLDERS = 200, 2000
"""So many are looked at in a project."""


def flags_for(language: str) -> str:
    """What to give the compiler of a language, for one's own code and when it is linked.

    Raises
    ------
    InputError
        There is no such language here.

    >>> flags_for("Fortran")
    '-g -finstrument-functions'
    """
    if language.lower() not in LANGUAGES:
        raise InputError(f"There are no flags for {language!r}.", f"Use one of {', '.join(LANGUAGES)}.")
    return FLAGS


def is_compiled(path: Path) -> bool:
    """Whether a file is a compiled program."""
    try:
        with path.open("rb") as file:
            return file.read(4) == ELF
    except OSError:
        return False


def compiled_subject(subject: Subject) -> bool:
    """Whether a subject is a compiled program that tells its calls."""
    if subject.kind != "command" or not subject.program:
        return False
    found = shutil.which(subject.program[0]) if "/" not in subject.program[0] else os.path.join(subject.cwd, subject.program[0])
    return found is not None and is_compiled(Path(found)) and not why_not(Path(found))


def why_not(path: Path) -> str:
    """Why a compiled program cannot be recorded; empty where it can."""
    try:
        facts = path.stat()
    except OSError as problem:
        return f"it cannot be read ({problem})"
    return _why_not(path, facts.st_mtime_ns, facts.st_size)


@lru_cache(maxsize=64)
def _why_not(path: Path, _changed_ns: int, _bytes: int) -> str:
    """The same, asked once of each state of a file."""
    from elftools.common.exceptions import ELFError
    from elftools.elf.dynamic import DynamicSection
    from elftools.elf.elffile import ELFFile

    try:
        with path.open("rb") as file:
            elf = ELFFile(file)
            if elf.get_machine_arch() != {"x86_64": "x64", "aarch64": "AArch64"}.get(platform.machine(), elf.get_machine_arch()):
                return f"it is built for another machine ({elf.get_machine_arch()})"
            linked = any(segment["p_type"] == "PT_INTERP" for segment in elf.iter_segments())
            dynamic = elf.get_section_by_name(".dynamic")
            tags = dynamic.iter_tags("DT_NEEDED") if isinstance(dynamic, DynamicSection) else ()
            libraries = [str(getattr(tag, "needed", "")) for tag in tags]
    except (ELFError, OSError, AttributeError, KeyError) as problem:
        return f"it cannot be read ({problem})"
    told = TOLD in path.read_bytes() or any(TOLD in library.read_bytes() for library in _own_libraries(path, libraries))
    if not told:
        return "it is not built to tell its calls"
    return "" if linked else "it is linked statically, so that the recorder cannot be loaded into it"


def tells_extensions(subject: Subject) -> bool:
    """Whether an extension module in the person's own folders is built to tell its calls."""
    found = looked_at = 0
    for root in dict.fromkeys((subject.cwd, *subject.roots)):
        for folder, folders, names in os.walk(root):
            looked_at += 1
            if looked_at > MOST_FOLDERS:
                return False
            folders[:] = [
                name for name in folders if not name.startswith(".") and name not in ("node_modules", "__pycache__", "site-packages")
            ]
            for name in names:
                if not name.endswith(".so"):
                    continue
                found += 1
                if found > MOST_EXTENSIONS:
                    return False
                with suppress(OSError):
                    if TOLD in Path(folder, name).read_bytes():
                        return True
    return False


def _own_libraries(path: Path, names: list[str]) -> list[Path]:
    """The libraries of a program that the system would load from other places than its own."""
    try:
        said = subprocess.run(["ldd", str(path)], capture_output=True, text=True, timeout=10).stdout
    except (OSError, subprocess.SubprocessError):
        return []
    places = [line.split("=>")[1].split()[0] for line in said.splitlines() if "=> /" in line and line.split()[0] in names]
    return [Path(place) for place in places if not place.startswith(("/lib", "/usr/lib"))]


def library() -> str:
    """The library that is loaded before a compiled program, built on first use.

    Raises
    ------
    EnvironmentProblem
        There is no C compiler, or it fails.
    """
    sources = [CALLS, *(SOURCES / f"{name}.c" for name in SHARED)]
    digest = hashlib.blake2b(digest_size=8)
    for file in (*sources, *sorted(CALLS.parent.glob("*.h")), *sorted(SOURCES.glob("*.h"))):
        digest.update(file.read_bytes())
    place = user_cache_path("ricerca") / "native" / f"calls-{digest.hexdigest()}-{platform.machine()}.so"
    return build_library(place, sources, [], "for compiled programs")


def preloaded(before: str | None) -> dict[str, str]:
    """Variables by which the library is loaded into the program and those that it starts."""
    return {"LD_PRELOAD": f"{library()}:{before}" if before else library(), "RICERCA_LD_PRELOAD": before or ""}
