"""Puts Ricerca into the desktop: entry, icon, kind of file, completions, manual page."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import click
from click.shell_completion import get_completion_class

from ricerca.model.errors import EnvironmentProblem

PLACES = {
    "ricerca.desktop": "applications",
    "ricerca.svg": "icons/hicolor/scalable/apps",
    "ricerca-study.xml": "mime/packages",
    "org.ricerca.Ricerca.metainfo.xml": "metainfo",
}
COMPLETIONS = {"bash": "bash-completion/completions/ricerca", "zsh": "zsh/site-functions/_ricerca"}
MANUAL = "man/man1/ricerca.1"


def all_files(command: click.Group, version: str) -> Iterator[tuple[str, str]]:
    """Each file that belongs into a data folder such as /usr/share: its place there, and its text."""
    own = files("ricerca.integration")
    for name, folder in PLACES.items():
        yield f"{folder}/{name}", own.joinpath(name).read_text("utf-8")
    for shell, place in COMPLETIONS.items():
        made = get_completion_class(shell)
        if made is not None:
            yield place, made(command, {}, "ricerca", "_RICERCA_COMPLETE").source()
    yield MANUAL, manual(command, version)


def integrate(command: click.Group, version: str, folder: Path) -> list[Path]:
    """Write all of it into a data folder; tell the system's databases where they can be told. The files.

    Raises
    ------
    EnvironmentProblem
        The folder cannot be written to.
    """
    written = []
    for place, text in all_files(command, version):
        file = folder / place
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text, "utf-8")
        except OSError as problem:
            raise EnvironmentProblem(f"{file} cannot be written ({problem.strerror}).") from None
        written.append(file)
    _tell(folder)
    return written


def remove(command: click.Group, version: str, folder: Path) -> list[Path]:
    """Take all of it away again. The files that were there."""
    there = [folder / place for place, _text in all_files(command, version) if (folder / place).exists()]
    for file in there:
        file.unlink()
    _tell(folder)
    return there


def _tell(folder: Path) -> None:
    for words in (["update-desktop-database", str(folder / "applications")], ["update-mime-database", str(folder / "mime")]):
        if shutil.which(words[0]) and Path(words[1]).is_dir():
            subprocess.run(words, capture_output=True, check=False)


def manual(command: click.Group, version: str) -> str:
    """The manual page, made from what the commands say of themselves."""
    lines = [
        f'.TH RICERCA 1 "" "ricerca {version}" "User Commands"', ".SH NAME",
        r"ricerca \- see where a Python program spends its time, and prove what a change gained",
        ".SH SYNOPSIS", r".B ricerca", r"[\fICOMMAND\fR [\fIOPTION\fR]... [\fIARG\fR]...]",
        ".SH DESCRIPTION", "Without a command the window opens.",
    ]  # fmt: skip
    for name, sub in sorted(command.commands.items()):
        lines += [f".SH {_quoted(name.upper())}", _quoted(" ".join((sub.help or "").split("\b")[0].split()))]
        for param in sub.params:
            if isinstance(param, click.Option):
                value = "" if param.is_flag else f" {param.metavar or param.name or ''}"
                lines += [".TP", r"\fB" + _quoted(", ".join(param.opts)) + r"\fR" + _quoted(value), _quoted(param.help or "")]
    lines += [".SH EXIT STATUS", "record ends as the program did; the others with 0, or 2 for an error that is said on the error stream."]
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    text = text.replace("\\", r"\e").replace("-", r"\-")
    return "\\&" + text if text.startswith((".", "'")) else text
