"""Shells: which program is one, what is put into it, and what tracing a command costs."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from functools import lru_cache
from importlib.resources import files
from itertools import takewhile
from pathlib import Path

from ricerca.model.errors import InputError
from ricerca.model.languages import BASH, ZSH
from ricerca.model.rounds import Subject

START = Path(str(files("ricerca.recorder").joinpath("shell", "bash_start.sh")))
LOOPS, TRIES = 3000, 3
LEAST_BASH = 5
KEEPS_OUT = {"--posix", "--no-rcs"}
KEEPS_OUT_LETTERS = {BASH: set("p"), ZSH: set("f"), "": set()}
"""Options with which a shell reads no start file."""
_SHELL = re.compile(r"(bash|zsh)(-?\d[\d.]*)?$")
_SUFFIXES = {".sh": BASH, ".bash": BASH, ".zsh": ZSH}


def shell_named(program: str) -> str:
    """The shell that a program's name means; empty where it means none.

    >>> shell_named("/usr/bin/bash"), shell_named("python3")
    ('bash', '')
    """
    match = _SHELL.match(os.path.basename(program))
    return match.group(1) if match else ""


def shell_of_script(words: Sequence[str], suffix: str) -> str:
    """The shell that runs a script, from the words of its first line, or from its name where there is none.

    >>> shell_of_script(["/usr/bin/env", "bash"], ".x"), shell_of_script([], ".sh"), shell_of_script(["/bin/sh"], ".sh")
    ('bash', 'bash', '')
    """
    if not words:
        return _SUFFIXES.get(suffix, "")
    named = words[1] if os.path.basename(words[0]) == "env" and len(words) > 1 else words[0]
    return shell_named(named)


def first_line_words(path: Path) -> list[str]:
    """What a script's first line says is to run it, in words; empty where it says nothing, or there is no such file."""
    try:
        with path.open("rb") as file:
            line = file.readline(300)
    except OSError:
        return []
    return line[2:].decode("utf-8", "replace").split() if line.startswith(b"#!") else []


def shell_of_file(path: Path) -> str:
    """The shell that runs a file; empty where none does.

    A file without a first line that names its interpreter is a shell's by its name.
    """
    return shell_of_script(first_line_words(path), path.suffix) if path.is_file() else ""


def shell_of(subject: Subject) -> str:
    """The shell that runs a subject; empty where none does."""
    if subject.kind != "command" or not subject.program:
        return ""
    program = subject.program[0]
    found = shutil.which(program) if "/" not in program else os.path.join(subject.cwd, program)
    return shell_named(program) or (shell_of_file(Path(found)) if found else "")


def environment(before: Mapping[str, str]) -> dict[str, str]:
    """Variables by which shells that are started are recorded; ``before`` is what they were."""
    given = {"BASH_ENV": str(START), "ZDOTDIR": str(START.parent / "zsh")}
    return given | {f"RICERCA_{name}": before.get(name, "") for name in given}


def why_nothing(subject: Subject) -> str:
    """What may have kept a shell from writing anything; empty for other programs, and where nothing is known to."""
    shell = shell_of(subject)
    options = {word for word in subject.program[1:] if word.startswith("-")} if shell_named(subject.program[0]) else set()
    kept_out = sorted(word for word in options if word in KEEPS_OUT or (not word.startswith("--") and set(word) & KEEPS_OUT_LETTERS[shell]))
    if shell and kept_out:
        return f"{shell} reads no start file with {kept_out[0]}, and so was not recorded. Record it without that option."
    return ""


def refuse_too_old(program: str) -> None:
    """Refuse a bash that has no clock of microseconds.

    Raises
    ------
    InputError
        It is older than bash 5.
    """
    if shell_named(program) != BASH:
        return
    done = subprocess.run([program, "-c", "echo $BASH_VERSION"], capture_output=True, text=True, env={**os.environ, "BASH_ENV": ""})
    version = done.stdout.strip().partition("(")[0]
    first = version.partition(".")[0]
    if first.isdigit() and int(first) < LEAST_BASH:
        raise InputError(f"{program} is bash {version}, which has no clock that is fine enough to record it.", "Use bash 5 or later.")


@lru_cache
def cost_of_a_command(shell: str) -> int:
    """What tracing takes for each command on this machine, in ns; 0 where the shell is not there."""
    program = shutil.which(shell)
    if program is None:
        return 0
    loop = f"for ((n = 0; n < {LOOPS}; n++)); do :; done"
    with tempfile.TemporaryDirectory(prefix="ricerca-") as place:
        plain_env = {
            name: value for name, value in os.environ.items() if not name.startswith("RICERCA_") and name not in ("BASH_ENV", "ZDOTDIR")
        }
        traced_env = {**plain_env, **environment(plain_env), "RICERCA_RECORDING": str(Path(place, "cost.recording"))}
        plain, traced = (min(_seconds([program, "-c", loop], env) for _ in range(TRIES)) for env in (plain_env, traced_env))
        commands = max(sum(file.read_bytes().count(b"\x1e") for file in Path(place).glob("cost.recording.*")) // TRIES, 1)
    return max(round((traced - plain) * 1e9 / commands), 0)


def _seconds(command: Sequence[str], env: dict[str, str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def recorded_words(command: list[str]) -> list[str]:
    """The words that start a program while it is recorded: an interactive bash reads our start file, and from there the person's.

    >>> recorded_words(["bash", "-i", "-c", "exit"])[1]
    '--rcfile'
    >>> recorded_words(["bash", "job.sh", "-i"])
    ['bash', 'job.sh', '-i']
    """
    if not command or shell_named(command[0]) != BASH:
        return command
    options = list(takewhile(lambda word: word.startswith(("-", "+")), command[1:]))
    asked = any("i" in word for word in options if not word.startswith("--"))
    return [command[0], "--rcfile", str(START), *command[1:]] if asked and "--rcfile" not in options else command
