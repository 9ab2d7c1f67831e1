"""Which folders hold the person's own code: those named, their version-control roots, projects installed in place."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from urllib.parse import unquote, urlsplit

_VERSION_CONTROL = (".git", ".hg", ".svn", ".jj", ".bzr")


def own_roots(folders: Iterable[str], python: str) -> tuple[str, ...]:
    """The folders of the person's own code, the ones named first.

    Parameters
    ----------
    folders : iterable of str
        Where the program lies and runs.
    python : str
        Its interpreter, whose environment may have projects installed in place.
    """
    folders = [folder for folder in folders if folder != "/"]
    return tuple(dict.fromkeys([*folders, *filter(None, map(working_copy, folders)), *in_place(python)]))


def working_copy(folder: str) -> str:
    """The root of the working copy that a folder lies in; empty where it lies in none, or in one of a whole home folder."""
    home = Path.home() if os.environ.get("HOME") else None
    here = Path(os.path.realpath(folder))
    for place in (here, *here.parents):
        if place == home or place == place.parent:
            return ""
        if any((place / name).exists() for name in _VERSION_CONTROL):
            return str(place)
    return ""


def in_place(python: str) -> list[str]:
    """The folders of projects that the interpreter's environment has installed in place."""
    prefix = Path(python).parent.parent
    return [folder for place in sorted(prefix.glob("lib/python3*/site-packages")) for folder in _linked(place) if os.path.isdir(folder)]


def _linked(place: Path) -> Iterator[str]:
    for record in sorted(place.glob("*.dist-info/direct_url.json")):
        try:
            facts = json.loads(record.read_text())
            url = urlsplit(str(facts["url"]))
            if facts["dir_info"]["editable"] and url.scheme == "file":
                yield unquote(url.path).rstrip("/")
        except (OSError, ValueError, KeyError, TypeError):
            continue
    for link in sorted(place.glob("*.egg-link")):
        try:
            first = link.read_text().splitlines()[:1]
        except (OSError, UnicodeDecodeError):
            continue
        yield from (line.strip() for line in first if line.startswith("/"))
