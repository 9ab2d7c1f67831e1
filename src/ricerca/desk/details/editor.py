"""Opens a file at a line in the person's own editor."""

from __future__ import annotations

import os
import shlex
import shutil
from pathlib import Path

from PyQt6.QtCore import QProcess, QUrl
from PyQt6.QtGui import QDesktopServices

from ricerca.model.errors import EnvironmentProblem, InputError

# Editors that do not take +LINE FILE
_WAYS = {
    "code": ("-g", "{file}:{line}"),
    "codium": ("-g", "{file}:{line}"),
    "subl": ("{file}:{line}",),
    "zed": ("{file}:{line}",),
    "hx": ("{file}:{line}",),
    "kate": ("-l", "{line}", "{file}"),
    "kwrite": ("-l", "{line}", "{file}"),
    "pycharm": ("--line", "{line}", "{file}"),
}


def editor_command(editor: str, file: str, line: int) -> list[str]:
    """The words that open file at line in an editor.

    >>> editor_command("emacsclient -n", "a.py", 7)
    ['emacsclient', '-n', '+7', 'a.py']
    """
    words = shlex.split(editor)
    way = _WAYS.get(os.path.basename(words[0]), ("+{line}", "{file}"))
    return [*words, *(part.format(file=file, line=line) for part in way)]


def open_at(file: str, line: int) -> None:
    """Open a file at a line: with $VISUAL, else with the system's default.

    Raises
    ------
    InputError
        The file is no longer there.
    EnvironmentProblem
        Neither way works.
    """
    if not Path(file).is_file():
        raise InputError(f"{file} is no longer there.")
    editor = os.environ.get("VISUAL", "").strip()
    if editor and shutil.which(shlex.split(editor)[0]):
        program, *words = editor_command(editor, file, line)
        started, _pid = QProcess.startDetached(program, words)
        if not started:
            raise EnvironmentProblem(f"{program} could not be started.", "Check $VISUAL.")
    elif not QDesktopServices.openUrl(QUrl.fromLocalFile(file)):
        raise EnvironmentProblem("No program is set to open this file.", "Set $VISUAL to your editor.")
