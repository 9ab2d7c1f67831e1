"""Brings the code of an earlier round back for a run, at the same paths, and leaves the person's files alone."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

from ricerca.model.errors import RicercaError
from ricerca.model.rounds import LINE, RECORDED, Round
from ricerca.runner import private_mounts
from ricerca.study.store import Study

MOST_ENTRIES = 4000


class CannotRestoreError(RicercaError):
    """The code of an earlier round cannot be brought back."""


@cache
def why_not_here() -> str:
    """Why the system does not allow it, in words; empty where it does."""
    with tempfile.TemporaryDirectory() as place:
        steps = Path(place, "steps.json")
        for name in ("one", "two"):
            Path(place, name).write_text(name)
        steps.write_text(json.dumps([[f"{place}/one", f"{place}/two"]]))
        done = subprocess.run([*_prefix(steps), "cat", f"{place}/two"], capture_output=True, text=True)
    if done.stdout == "one":
        return ""
    return f"the system does not allow private mounts ({done.stderr.strip() or f'exit status {done.returncode}'})"


def _prefix(steps: Path) -> list[str]:
    return [sys.executable, "-I", "-S", str(private_mounts.__file__), str(steps), "--"]


@dataclass
class State:
    """A state of the code that can be run. ``prefix`` goes before the command; ``changed`` are the files that are brought back."""

    prefix: list[str]
    env: dict[str, str] = field(default_factory=dict)
    changed: tuple[str, ...] = ()


class Restorer:
    """Makes states of the code that can be run in turn. A context manager; what it keeps meanwhile lies in a folder of its own."""

    def __init__(self) -> None:
        self._room = tempfile.TemporaryDirectory(prefix="ricerca-")
        self.folder = Path(self._room.name)
        self._count = 0

    def __enter__(self) -> Restorer:
        return self

    def __exit__(self, *_: object) -> None:
        self._room.cleanup()

    def today(self) -> State:
        """The code as it lies there now, run in the same way as an earlier one."""
        return self._state([])

    def of_round(self, study: Study, round_: Round) -> State:
        """The code of a round as it was recorded.

        Raises
        ------
        CannotRestoreError
            The system does not allow it, or nothing was kept; says why.
        """
        why = why_not_here()
        if why:
            raise CannotRestoreError(f"The code of round {round_.number} cannot be brought back: {why}.")
        run = round_.last_run(RECORDED, LINE)
        kept = study.sources(run.id) if run is not None else {}
        if not kept:
            raise CannotRestoreError(f"The code of round {round_.number} cannot be brought back: its sources were not kept.")
        changed = self._changed(study, kept)
        self._count += 1
        own = self.folder / f"state-{self._count}"
        steps: list[list[str]] = []
        missing = {file: text for file, text in changed.items() if not os.path.exists(file)}
        steps += self._mirrors(own, missing)
        for number, (file, text) in enumerate(changed.items()):
            if file in missing:
                continue
            place = own / "files" / str(number)
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(text)
            place.chmod(Path(file).stat().st_mode & 0o777)
            steps.append([str(place), file])
        steps += self._caches(own, changed)
        env = {}
        if os.environ.get("PYTHONPYCACHEPREFIX"):
            env["PYTHONPYCACHEPREFIX"] = str(own / "prefix")
        return self._state(steps, env, tuple(changed))

    @staticmethod
    def _changed(study: Study, kept: dict[str, str]) -> dict[str, bytes]:
        """Files that have changed since, with their earlier text."""
        found = {}
        for file, digest in kept.items():
            if not Path(file).is_absolute():
                continue
            before = study.source_bytes(digest)
            try:
                now: bytes | None = Path(file).read_bytes()
            except OSError:
                now = None
            if now != before:
                found[file] = before
        return found

    def _state(self, steps: list[list[str]], env: dict[str, str] | None = None, changed: tuple[str, ...] = ()) -> State:
        if not steps and why_not_here():
            return State([])
        self._count += 1
        file = self.folder / f"steps-{self._count}.json"
        file.write_text(json.dumps(steps), "utf-8", "surrogateescape")
        return State(_prefix(file), env or {}, changed)

    @staticmethod
    def _caches(own: Path, changed: dict[str, bytes]) -> list[list[str]]:
        """Compiled code of one state must not be taken for that of another: each has folders of its own."""
        steps = []
        for number, folder in enumerate(sorted({os.path.dirname(file) for file in changed})):
            real = os.path.join(folder, "__pycache__")
            if os.path.isdir(real):
                place = own / "caches" / str(number)
                place.mkdir(parents=True)
                steps.append([str(place), real])
        return steps

    @staticmethod
    def _mirrors(own: Path, missing: dict[str, bytes]) -> list[list[str]]:
        """A file that is gone today has no place to be put over: its folder is shown anew, with all that is in it and the file."""
        folders: dict[str, list[str]] = {}
        for file in missing:
            folder = os.path.dirname(file)
            while not os.path.isdir(folder):
                folder = os.path.dirname(folder)
            folders.setdefault(folder, []).append(file)
        steps: list[list[str]] = []
        for number, (folder, files) in enumerate(sorted(folders.items())):
            mirror = own / "folders" / str(number)
            mirror.mkdir(parents=True)
            entries = list(os.scandir(folder))
            if len(entries) > MOST_ENTRIES:
                raise CannotRestoreError(f"The earlier code cannot be brought back: {folder} holds too many files.")
            for entry in entries:
                place = mirror / entry.name
                if entry.is_symlink():
                    place.symlink_to(Path(entry.path).readlink())
                    continue
                if entry.is_dir():
                    place.mkdir()
                else:
                    place.touch()
                steps.append([entry.path, str(place)])
            for file in files:
                place = mirror / os.path.relpath(file, folder)
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_bytes(missing[file])
                if missing[file].startswith((b"\x7fELF", b"#!")):
                    place.chmod(0o755)  # a program; its mode went with it
            steps.append([str(mirror), folder])
        return steps
