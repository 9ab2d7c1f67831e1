"""What a study holds: subjects, rounds and runs, as values."""

from __future__ import annotations

from dataclasses import dataclass, field

PLAIN, RECORDED, LINE = "plain", "recorded", "line"


@dataclass(frozen=True)
class Subject:
    """What is run and how. ``kind`` is "script", "module" or "command"; ``program`` starts with its name.

    ``lines`` are the names whose lines are followed, ``inside`` those below which only is recorded.
    """

    kind: str
    program: tuple[str, ...]
    cwd: str
    python: str
    env: tuple[tuple[str, str], ...] = ()
    roots: tuple[str, ...] = ()
    lines: tuple[str, ...] = ()
    inside: tuple[str, ...] = ()
    id: int = field(default=0, compare=False)


@dataclass(frozen=True)
class Run:
    """One execution. ``ended`` says in words how it ended."""

    id: int
    kind: str
    started_unix_ns: int
    wall_ns: int
    cpu_ns: int
    exit_status: int | None
    ended: str
    complete: bool


@dataclass(frozen=True)
class Round:
    """One measured state of the code, with its runs in the order they were made."""

    id: int
    number: int
    name: str
    note: str
    subject: Subject
    created_unix_ns: int
    revision: str
    runs: tuple[Run, ...]

    @property
    def plain_ns(self) -> tuple[int, ...]:
        """Wall times of the plain runs that ended well."""
        return tuple(run.wall_ns for run in self.runs if run.kind == PLAIN and run.complete)

    def last_run(self, *kinds: str) -> Run | None:
        """The latest run of one of these kinds, complete ones before cut ones."""
        found = [run for run in self.runs if run.kind in kinds]
        return max(found, key=lambda run: (run.complete, run.id), default=None)
