"""From what a person names to what is started: a script, a module or a command."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject
from ricerca.runner.compiled import FLAGS, is_compiled, why_not
from ricerca.runner.own_code import own_roots
from ricerca.runner.shells import first_line_words, refuse_too_old, shell_named, shell_of_file
from ricerca.runner.writers import interpreter_of_file, language_named

OTHERS = "bash, zsh, Lua, Perl or Ruby"
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


# Options of the interpreter that take a word of their own.
_WITH_WORD = set("cmWX")
_NOT_FOR_US = {"S": "keeps start-up modules out, and with them the recorder"}


def _shebang_python(path: Path) -> tuple[str, ...]:
    """The Python named in a script's first line with its options, as the system would start it; empty where it is something else."""
    try:
        with path.open("rb") as file:
            line = file.readline(300)
    except OSError:
        return ()
    if not line.startswith(b"#!"):
        return ()
    text = line[2:].decode("utf-8", "replace").strip()
    words = text.split(None, 1)  # the system makes one word of all that follows the interpreter's name
    if words and os.path.basename(words[0]) == "env":
        words = _words_of_env(words[1:])
    if words and _PYTHON_NAME.match(os.path.basename(words[0])):
        found = shutil.which(words[0])
        return (found, *words[1:]) if found else ()
    return ()


def _words_of_env(rest: list[str]) -> list[str]:
    """What env starts: with -S the words of the rest, else the rest as one."""
    text = rest[0] if rest else ""
    if text.startswith("-S"):
        try:
            words = shlex.split(text.removeprefix("-S"))
        except ValueError:
            return []
    else:
        words = text.split()
    while words and (words[0].startswith("-") or "=" in words[0]):
        words.pop(0)
    return words


def _with_options(words: Sequence[str], make: Callable[..., Subject], folder: str, python: str) -> Subject:
    """A subject that is started with options of the interpreter, from the first option on.

    Raises
    ------
    InputError
        An option keeps the recorder out, or one lacks its word.
    """
    at = 0
    while at < len(words) and words[at].startswith("-") and words[at] != "-":
        word = words[at]
        letters = word[1:]
        for place, letter in enumerate(letters):
            if letter in _NOT_FOR_US:
                raise InputError(f"Python's option -{letter} {_NOT_FOR_US[letter]}.", f"Record it without -{letter}.")
            if letter in _WITH_WORD:
                at += place == len(letters) - 1
                break
        if at >= len(words):
            raise InputError(f"{word} needs a word after it.")
        at += 1
        if "c" in letters or "m" in letters:
            return make(kind=COMMAND, program=(python, *words), python=python, roots=(folder,))
    roots = [folder]
    if at < len(words):
        script = Path(folder, os.path.expanduser(words[at])).parent
        roots = list(dict.fromkeys([os.path.realpath(script), str(script), folder]))
    return make(kind=COMMAND, program=(python, *words), python=python, roots=tuple(roots))


def variables_of(words: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """Variables of the environment from NAME=VALUE.

    Raises
    ------
    InputError
        A word is no variable.

    >>> variables_of(["MODE=fast", "TITLE="])
    (('MODE', 'fast'), ('TITLE', ''))
    """
    found = []
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise InputError(f"{word} is no variable of the environment.", "Write it as NAME=value.")
        found.append((name, value))
    return tuple(found)


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
    make = partial(_subject, program=tuple(program), cwd=folder, env=tuple(env), lines=tuple(lines), inside=tuple(inside))
    if program[0] == "-m":
        if len(program) < 2:
            raise InputError("-m needs the name of a module.")
        return make(kind=MODULE, python=find_python(python), roots=(folder,))
    if program[0].startswith("-") and len(program[0]) > 1:
        return _with_options(program, make, folder, find_python(python))
    if _PYTHON_NAME.match(os.path.basename(program[0])):
        return _command(program, make, folder)
    path = Path(folder, os.path.expanduser(program[0]))
    if is_compiled(path) and ("/" in program[0] or not shutil.which(program[0])):
        return _compiled(program, path, make, folder)
    if path.is_dir() and (path / "__main__.py").is_file():
        return make(kind=SCRIPT, python=find_python(python), roots=(folder, str(path)))
    if path.is_file():
        first = () if python else _shebang_python(path)
        own = first[0] if first and path.suffix not in _SUFFIXES else None
        options = " ".join(first[1:]).split()
        if options and path.suffix not in _SUFFIXES:
            return _with_options([*options, *program], make, folder, find_python(own))
        if path.suffix in _SUFFIXES or own or python:
            chosen = find_python(python or own)
            roots = tuple(dict.fromkeys((os.path.realpath(path.parent), str(path.parent), folder)))
            return make(kind=SCRIPT, python=chosen, roots=roots)
        interpreter = shell_of_file(path) or interpreter_of_file(path)
        if interpreter:
            return _script(program, interpreter, make, folder)
        raise InputError(f"{program[0]} is not a Python program, and no script of {OTHERS}.",
                         "Name a script, or say which Python runs it with --python.")  # fmt: skip
    return _command(program, make, folder)


def _compiled(program: Sequence[str], path: Path, make: Callable[..., Subject], folder: str) -> Subject:
    """A compiled program, built so that it tells its calls.

    Raises
    ------
    InputError
        It does not tell them, or the recorder cannot be put into it.
    """
    why = why_not(path)
    if why:
        raise InputError(f"{program[0]} cannot be recorded: {why}.",
                         f"Build it with {FLAGS}, linked to shared libraries; see: ricerca flags")  # fmt: skip
    named = program[0] if "/" in program[0] else f"./{program[0]}"
    roots = tuple(dict.fromkeys((folder, str(path.parent))))
    return replace(make(kind=COMMAND, python=find_python(None), roots=roots), program=(named, *program[1:]))


def _script(program: Sequence[str], interpreter: str, make: Callable[..., Subject], folder: str) -> Subject:
    """A script that is started by its name, or by its interpreter where it may not be executed."""
    path = Path(folder, os.path.expanduser(program[0]))
    named = program[0] if "/" in program[0] else f"./{program[0]}"
    executable = os.access(path, os.X_OK) and first_line_words(path)
    words = (named, *program[1:]) if executable else (interpreter, *program)
    roots = tuple(dict.fromkeys((os.path.realpath(path.parent), str(path.parent), folder)))
    return replace(make(kind=COMMAND, python=find_python(None), roots=roots), program=words)


def _command(program: Sequence[str], make: Callable[..., Subject], folder: str) -> Subject:
    found = shutil.which(program[0])
    if found is None:
        raise InputError(f"There is no program {program[0]!r} in {folder} or on the path.", "Check the name and the working folder.")
    if _PYTHON_NAME.match(os.path.basename(program[0])):
        subject = _with_options(program[1:], make, folder, os.path.abspath(found))
        return replace(subject, program=tuple(program))
    own = _shebang_python(Path(found))
    refuse_too_old(found)
    named = shell_named(program[0]) or language_named(program[0])
    if named or shell_of_file(Path(found)) or interpreter_of_file(Path(found)):
        script = next((word for word in program[1:] if not word.startswith("-")), "") if named else found
        there = Path(folder, os.path.expanduser(script))
        roots = (str(there.parent), folder) if script and there.is_file() else (folder,)
        return make(kind=COMMAND, python=find_python(None), roots=roots)
    if not own and is_compiled(Path(found)) and not why_not(Path(found)):
        return _compiled((found, *program[1:]), Path(found), make, folder)
    if not own:
        raise InputError(f"{program[0]} is not a Python program, and no script of {OTHERS}.",
                         "Name a Python script, a module with -m, a Python command, or a script.")  # fmt: skip
    return make(kind=COMMAND, python=own[0], roots=(folder,))


def _subject(roots: Iterable[str], python: str, **columns: Any) -> Subject:
    return Subject(roots=own_roots(roots, python), python=python, **columns)


def _without_isolation(words: Sequence[str]) -> tuple[list[str], bool]:
    """The interpreter's options without those that keep all of the environment out; and whether there were any."""
    found, isolated, at = [], False, 0
    while at < len(words) and words[at].startswith("-") and words[at] != "-":
        word, letters = words[at], words[at][1:]
        at += 1
        if letters[0] in "WX":
            found += [word, *words[at : at + (len(letters) == 1)]]
            at += len(letters) == 1
            continue
        if set(letters) & {"I", "E"}:
            isolated = True
            word = "-" + letters.replace("I", "s").replace("E", "")
        found += [word] if word != "-" else []
        if letters[-1] in "cm":
            break
    return [*found, *words[at:]], isolated


def is_isolated(subject: Subject) -> bool:
    """Whether the program is to see nothing of the environment's variables for Python (-I, -E)."""
    return subject.kind == COMMAND and _PYTHON_NAME.match(os.path.basename(subject.program[0])) is not None and (
        _without_isolation(subject.program[1:])[1]
    )  # fmt: skip


def command_of(subject: Subject) -> list[str]:
    """The words to start, the same as a person would type without Ricerca.

    -I and -E would keep the recorder out: what they do is done by the environment instead, see ``is_isolated``.
    """
    if is_isolated(subject):
        return [subject.program[0], *_without_isolation(subject.program[1:])[0]]
    if subject.kind == COMMAND:
        return list(subject.program)
    program = list(subject.program)
    if subject.kind == SCRIPT:
        program[0] = os.path.expanduser(program[0])
    return [subject.python, *program]
