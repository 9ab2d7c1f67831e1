"""The recorder's native part for an interpreter: the installed one, else compiled on first use."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.machinery import EXTENSION_SUFFIXES
from importlib.util import find_spec
from pathlib import Path

from platformdirs import user_cache_path

import ricerca.recorder
from ricerca.model.errors import EnvironmentProblem, InputError

RECORDER = Path(ricerca.recorder.__file__).parent
ENTRY = RECORDER / "entry"
SOURCES = RECORDER / "native"
UNITS = ("whole.c", "sparse.c")
"""What is compiled; the other parts are included there."""
PURE = RECORDER / "pure" / "hook.py"
OLDEST = (3, 9)
NATIVE, PYTHON, PUBLIC = "native", "python", "public"

_QUESTION = (
    "import sys, sysconfig, _imp; print([list(sys.version_info[:3]), _imp.extension_suffixes()[0],"
    " sysconfig.get_paths()['include'], int(bool(sysconfig.get_config_var('Py_GIL_DISABLED')))])"
)


@dataclass(frozen=True)
class Interpreter:
    """A Python found on this machine. ``tag`` is what its own extension modules end with: it tells builds apart that differ in more
    than their version. ``free_threaded`` ones have no lock that the recorder could rely on.
    """

    path: str
    version: tuple[int, int, int]
    tag: str
    include: str
    free_threaded: bool = False


def ask(python: str) -> Interpreter:
    """Ask an interpreter about itself.

    Raises
    ------
    InputError
        It cannot be started, or does not answer like a Python.
    """
    try:
        answer = subprocess.run([python, "-I", "-S", "-c", _QUESTION], capture_output=True, text=True, timeout=60, check=True)
        version, tag, include, free = json.loads(answer.stdout.replace("'", '"'))
    except (OSError, subprocess.SubprocessError, ValueError) as problem:
        raise InputError(f"{python} does not answer like a Python interpreter ({problem}).") from None
    return Interpreter(python, (version[0], version[1], version[2]), tag, include, bool(free))


def _fingerprint() -> str:
    digest = hashlib.blake2b(digest_size=8)
    for source in sorted(SOURCES.glob("*.[ch]")):
        digest.update(source.read_bytes())
    return digest.hexdigest()


def _is_own(python: str) -> bool:
    """Whether this is the interpreter that Ricerca runs in, so that its own build fits."""
    if os.path.abspath(python) == os.path.abspath(sys.executable):
        return True
    try:
        return Path(python).samefile(sys.executable)
    except OSError:
        return False


def native_for(python: str) -> str:
    """Path of the native part for this interpreter; see ``native_setting``."""
    return native_setting(python).partition("=")[2]


def _cached() -> dict[str, str]:
    """Native parts that were compiled before, by tag."""
    mark = f"{_fingerprint()}."
    folder = user_cache_path("ricerca") / "native"
    return {file.name.removeprefix(mark[:-1]): str(file) for file in sorted(folder.glob("*.so")) if file.name.startswith(mark)}


def hook_setting(python: str, hook: str = NATIVE) -> str:
    """What a recorded program is told of native parts: TAG=PATH, one a line, for it and the Pythons that it may start.

    Empty where the recorder in Python is wanted, or nothing else can be had.

    Raises
    ------
    InputError
        The interpreter is of a version that cannot be recorded.
    """
    if hook == PYTHON:
        _supported(python)
        return ""
    try:
        own = native_setting(python)
    except EnvironmentProblem:
        return ""
    builds = {**_cached(), **dict([own.split("=", 1)])}
    return "\n".join(f"{tag}={path}" for tag, path in builds.items())


def _supported(python: str) -> Interpreter:
    interpreter = ask(python)
    version = ".".join(map(str, interpreter.version))
    if interpreter.version[:2] < OLDEST:
        oldest = ".".join(map(str, OLDEST))
        raise InputError(f"{python} is Python {version}, which cannot be recorded.", f"Use a Python {oldest} or later.")
    if interpreter.free_threaded:
        raise InputError(
            f"{python} is a free-threaded build of Python {version}, which cannot be recorded.", "Use an ordinary build of that version."
        )
    return interpreter


def native_setting(python: str) -> str:
    """The interpreter's tag and the path of its native part, as TAG=PATH.

    Raises
    ------
    InputError
        The interpreter is of a version that cannot be recorded.
    EnvironmentProblem
        It had to be compiled and that failed.
    """
    if _is_own(python):
        spec = find_spec("ricerca.recorder._native")
        if spec is not None and spec.origin:
            return f"{EXTENSION_SUFFIXES[0]}={spec.origin}"
    interpreter = _supported(python)
    return f"{interpreter.tag}={compile_native(interpreter)}"


def compile_native(interpreter: Interpreter) -> str:
    """Compile the native part for an interpreter, or find it in the cache."""
    place = user_cache_path("ricerca") / "native" / f"{_fingerprint()}{interpreter.tag}"
    flags = ["-fno-plt", f"-I{interpreter.include}"]
    return build_library(place, [SOURCES / name for name in UNITS], flags, f"for {interpreter.path}")


def build_library(place: Path, sources: Sequence[Path], flags: Sequence[str], what_for: str) -> str:
    """Build a part of the recorder with the system's C compiler, unless it is there already. Returns its path.

    Raises
    ------
    EnvironmentProblem
        There is no compiler, it fails, or there is no room.
    """
    if place.is_file():
        return str(place)
    compiler = os.environ.get("CC") or shutil.which("cc") or shutil.which("gcc")
    if not compiler:
        raise EnvironmentProblem(f"There is no C compiler to build the recorder {what_for}.", "Install gcc.")
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=place.parent) as work:
            built = Path(work, "built.so")
            options = ["-std=gnu11", "-O3", "-fPIC", "-shared", "-fvisibility=hidden", "-o", str(built)]
            command = [*compiler.split(), *options, *flags, *map(str, sources), "-ldl", "-lpthread"]
            done = subprocess.run(command, capture_output=True, text=True, timeout=300)
            if done.returncode:
                last = (done.stderr.strip().splitlines() or ["no message"])[-1]
                raise EnvironmentProblem(f"The recorder could not be compiled {what_for}: {last}")
            built.replace(place)
    except OSError as problem:
        if isinstance(problem, EnvironmentProblem):
            raise
        raise EnvironmentProblem(f"The recorder could not be built in {place.parent}: {problem}.") from None
    return str(place)
