"""From what a person names to what is started: a script, a module or a command."""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject

SCRIPT, MODULE, COMMAND = "script", "module", "command"
_SUFFIXES = {".py", ".pyw", ".pyz"}
_PYTHON_NAME = re.compile(r"python(\d(\.\d+)?)?$")


def find_python(python: str | None) -> str:
    """Full path of the interpreter; the one Ricerca runs in when none is named.

    Raises
    ------
    InputError
        There is no such program.
    """
    if not python:
        return sys.executable
    found = shutil.which(python)
    if found is None:
        raise InputError(f"There is no interpreter {python!r}.", "Give the path of a Python with --python.")
    return os.path.abspath(found)


def _shebang_python(path: Path) -> str | None:
    """The Python named in a script's first line, None where it is something else."""
    try:
        with path.open("rb") as file:
            line = file.readline(300)
    except OSError:
        return None
    if not line.startswith(b"#!"):
        return None
    words = line[2:].decode("utf-8", "replace").split()
    if words and os.path.basename(words[0]) == "env":
        words = [word for word in words[1:] if not word.startswith("-")]
    if words and _PYTHON_NAME.match(os.path.basename(words[0])):
        return shutil.which(words[0])
    return None


def describe(program: Sequence[str], cwd: str | None, python: str | None, env: Sequence[tuple[str, str]] = (),
             lines: Sequence[str] = (), inside: Sequence[str] = ()) -> Subject:  # fmt: skip
    """Work out what to start.

    Parameters
    ----------
    program : sequence of str
        ``SCRIPT ARG...``, ``-m MODULE ARG...`` or ``COMMAND ARG...``.
    cwd : str or None
        Working folder; the current one when None.
    python : str or None
        Interpreter; see ``find_python``. A command brings its own.

    Raises
    ------
    InputError
        The folder, the program or the interpreter is not there, or it is not a Python program.
    """
    folder = os.path.abspath(os.path.expanduser(cwd or os.getcwd()))
    if not os.path.isdir(folder):
        raise InputError(f"There is no folder {folder} to work in.")
    if not program:
        raise InputError("No program was named.", "Say which: ricerca record [OPTIONS] -- SCRIPT [ARG]...")
    make = partial(Subject, program=tuple(program), cwd=folder, env=tuple(env), lines=tuple(lines), inside=tuple(inside))
    if program[0] == "-m":
        if len(program) < 2:
            raise InputError("-m needs the name of a module.")
        return make(kind=MODULE, python=find_python(python), roots=(folder,))
    if _PYTHON_NAME.match(os.path.basename(program[0])):
        return _command(program, make, folder)
    path = Path(folder, os.path.expanduser(program[0]))
    if path.is_dir() and (path / "__main__.py").is_file():
        return make(kind=SCRIPT, python=find_python(python), roots=(folder, str(path)))
    if path.is_file():
        own = None if python or path.suffix in _SUFFIXES else _shebang_python(path)
        if path.suffix in _SUFFIXES or own or python:
            chosen = find_python(python or own)
            roots = tuple(dict.fromkeys((os.path.realpath(path.parent), str(path.parent), folder)))
            return make(kind=SCRIPT, python=chosen, roots=roots)
        raise InputError(f"{program[0]} is not a Python program.", "Name a Python script, or say which interpreter with --python.")
    return _command(program, make, folder)


def _command(program: Sequence[str], make: Callable[..., Subject], folder: str) -> Subject:
    found = shutil.which(program[0])
    if found is None:
        raise InputError(f"There is no program {program[0]!r} in {folder} or on the path.", "Check the name and the working folder.")
    if _PYTHON_NAME.match(os.path.basename(program[0])):
        return make(kind=COMMAND, python=os.path.abspath(found), roots=(folder,))
    own = _shebang_python(Path(found))
    if own is None:
        raise InputError(f"{program[0]} is not a Python program.", "Name a Python script, a module with -m, or a Python command.")
    return make(kind=COMMAND, python=own, roots=(folder,))


def command_of(subject: Subject) -> list[str]:
    """The words to start, the same as a person would type without Ricerca."""
    if subject.kind == COMMAND:
        return list(subject.program)
    program = list(subject.program)
    if subject.kind == SCRIPT:
        program[0] = os.path.expanduser(program[0])
    return [subject.python, *program]
