"""Revisions of a git working copy: checked out in a folder of their own, so that the person's files stay as they are."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.model.rounds import Subject
from ricerca.runner.own_code import in_place

if TYPE_CHECKING:  # recording a program must not wait for NumPy to load
    from ricerca.model.run_tables import RunTables

_NOT_LINKED = ("__pycache__", ".git")
ABBREVIATED = 8


@dataclass(frozen=True)
class Moved:
    """A folder that stands for another while something is run. All texts that begin with ``root`` begin with ``folder`` there."""

    root: str
    folder: str

    def there(self, text: str) -> str:
        """A path in the folder that stands for the root.

        >>> Moved("/a", "/tmp/x").there("/a/p.py"), Moved("/a", "/tmp/x").there("/ab/p.py")
        ('/tmp/x/p.py', '/ab/p.py')
        """
        return _swapped(text, self.root, self.folder)

    def back(self, text: str) -> str:
        """The path as it is in the root."""
        return _swapped(text, self.folder, self.root)

    @property
    def ends(self) -> tuple[str, str]:
        """The folder, and the root that it stands for."""
        return self.folder, self.root

    def subject(self, subject: Subject) -> Subject:
        """What is to be run there; projects that are installed in place are found there as well."""
        linked = [place for root in in_place(subject.python) for place in (root, f"{root}/src") if self.there(place) != place]
        env = dict(subject.env)
        if linked:
            before = env.get("PYTHONPATH", os.environ.get("PYTHONPATH", ""))
            env["PYTHONPATH"] = os.pathsep.join([*map(self.there, linked), *filter(None, [before])])
        return replace(
            subject,
            program=tuple(map(self.there, subject.program)),
            cwd=self.there(subject.cwd),
            env=tuple((name, self.there(value)) for name, value in env.items()),
            roots=tuple(map(self.there, subject.roots)),
            input=self.there(subject.input),
        )

    def tables_back(self, tables: RunTables) -> RunTables:
        """The tables of a run there, its files named as in the root."""
        return replace(tables, function_file=tuple(map(self.back, tables.function_file)))


def _swapped(text: str, before: str, after: str) -> str:
    return after + text[len(before) :] if text == before or text.startswith(f"{before}/") else text


@dataclass
class Checkout:
    """A revision, checked out in a folder of its own until the end of a ``with`` block.

    What the working copy holds besides, such as data that is not under version control, is linked into it.
    """

    root: str
    revision: str
    """Short name of the revision."""
    _room: tempfile.TemporaryDirectory[str] | None = field(default=None, repr=False)

    def __enter__(self) -> Moved:
        self._room = tempfile.TemporaryDirectory(prefix="ricerca-", ignore_cleanup_errors=True)
        folder = Path(os.path.realpath(self._room.name), os.path.basename(self.root) or "root")
        try:
            # what the person has set to be done at a checkout is not meant for this one
            _git(
                self.root, "-c", "core.hooksPath=/dev/null", "worktree", "add", "--quiet", "--detach", "--force", str(folder), self.revision
            )
        except InputError as problem:
            self._room.cleanup()
            raise EnvironmentProblem(f"Revision {self.revision} cannot be checked out: {problem.what}") from None
        self._link_the_rest(folder)
        return Moved(self.root, str(folder))

    def __exit__(self, _kind: type[BaseException] | None, _problem: BaseException | None, _trace: TracebackType | None) -> None:
        assert self._room is not None
        folder = Path(os.path.realpath(self._room.name), os.path.basename(self.root) or "root")
        subprocess.run(["git", "-C", self.root, "worktree", "remove", "--force", str(folder)], capture_output=True)
        self._room.cleanup()

    def _link_the_rest(self, folder: Path) -> None:
        others = _git(self.root, "ls-files", "--others", "--directory", "--no-empty-directory", "-z").split("\0")
        for name in filter(None, (other.rstrip("/") for other in others)):
            place = folder / name
            if os.path.basename(name) in _NOT_LINKED or name.endswith((".ricerca", ".ricerca-journal")) or os.path.lexists(place):
                continue
            if place.parent.is_dir():
                place.symlink_to(Path(self.root, name))


def checkout_of(cwd: str, revision: str) -> Checkout:
    """A revision of the working copy that a folder lies in.

    Raises
    ------
    InputError
        The folder lies in none, or there is no such revision.
    """
    root = _root(cwd)
    ask = "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}"
    full = _git(root, *ask, problem=f"There is no revision {revision!r} in {root}.")
    return Checkout(root, full.strip()[:ABBREVIATED])


def revisions_of(cwd: str, between: str) -> list[str]:
    """Short names of the commits of a range ``REV1..REV2``, REV1 first, merged branches left out.

    Raises
    ------
    InputError
        It is no range, or one of its ends is not there.
    """
    first, dots, last = between.partition("..")
    if not dots or not first or not last or last.startswith("."):
        raise InputError(f"{between!r} is not a range of revisions.", "Write it as REV1..REV2, such as v1.0..main")
    root = _root(cwd)
    ends = [checkout_of(root, end).revision for end in (first, last)]
    after = _git(root, "rev-list", "--reverse", "--first-parent", f"--abbrev={ABBREVIATED}", f"{ends[0]}..{ends[1]}").split()
    if not after:
        raise InputError(f"There is no commit after {first} up to {last}.", "Name the older revision first.")
    return [ends[0], *(full[:ABBREVIATED] for full in after)]


def _root(cwd: str) -> str:
    try:
        return _git(cwd, "rev-parse", "--show-toplevel").strip()
    except InputError:
        raise InputError(f"{cwd} does not lie in a git working copy.", "Revisions can be measured only there.") from None


def _git(folder: str, *words: str, problem: str = "") -> str:
    command: Sequence[str] = ["git", "-C", folder, *words]
    try:
        done = subprocess.run(command, capture_output=True, text=True, errors="surrogateescape")
    except OSError as why:
        raise EnvironmentProblem(f"git could not be started ({why.strerror}).", "Install git to measure revisions.") from None
    if done.returncode:
        raise InputError(problem or done.stderr.strip() or f"git ended with status {done.returncode}")
    return done.stdout
