"""What a study holds: subjects, rounds and runs, as values."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, replace

from ricerca.model.completeness import Gap, gaps_of_exit, usual_exit_status

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

    @property
    def work(self) -> tuple[str, ...]:
        """What it does, wherever its code lies: the kind of program, its name, its arguments."""
        name = os.path.basename(self.program[0]) if self.program else ""
        return (self.kind, name, *self.program[1:])

    def other_work(self, other: Subject) -> str:
        """In what the work of another subject differs, in words; empty where both do the same.

        >>> a = Subject("script", ("p.py", "1"), "/a", "python3")
        >>> a.other_work(Subject("script", ("p.py", "2"), "/b", "python3"))
        'arguments: 1, then 2'
        >>> a.other_work(Subject("script", ("/x/p.py", "1"), "/b", "python3"))
        ''
        """
        if self.work[:2] != other.work[:2]:
            return f"program: {' '.join(self.program[:2])}, then {' '.join(other.program[:2])}"
        if self.work != other.work:
            return f"arguments: {' '.join(self.program[1:]) or 'none'}, then {' '.join(other.program[1:]) or 'none'}"
        return ""

    def not_alike(self, other: Subject) -> str:
        """In what another subject differs so that its runs cannot be of the same round; empty where they can."""
        pairs = (
            ("working folder", self.cwd, other.cwd),
            ("interpreter", self.python, other.python),
            ("environment", _variables(self.env), _variables(other.env)),
        )
        found = [f"{name}: {before or 'none'}, then {after or 'none'}" for name, before, after in pairs if before != after]
        return "; ".join(filter(None, [self.other_work(other), *found]))


def _variables(env: tuple[tuple[str, str], ...]) -> str:
    return " ".join(f"{name}={value}" for name, value in sorted(env))


@dataclass(frozen=True)
class Run:
    """One execution. ``ended`` says in words how it ended, ``gaps`` why it does not hold all that the program did."""

    id: int
    kind: str
    started_unix_ns: int
    wall_ns: int
    cpu_ns: int
    exit_status: int | None
    ended: str
    gaps: tuple[Gap, ...] = ()

    @property
    def complete(self) -> bool:
        """Whether it is whole."""
        return not self.gaps

    @property
    def because(self) -> tuple[str, ...]:
        """Why it is not whole, in words."""
        return tuple(gap.text for gap in self.gaps)


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


def with_exits_judged(rounds: tuple[Round, ...]) -> tuple[Round, ...]:
    """The rounds of a study, runs that ended in another way than their program usually does marked as failed."""
    by_work: dict[tuple[str, ...], list[Round]] = {}
    for round_ in rounds:
        by_work.setdefault(round_.subject.work, []).append(round_)
    usual = {work: usual_exit_status([run.exit_status for run in round_.runs] for round_ in own) for work, own in by_work.items()}

    def judged(run: Run, status: int | None) -> Run:
        return replace(run, gaps=(*gaps_of_exit(run.exit_status, status), *run.gaps))

    return tuple(replace(round_, runs=tuple(judged(run, usual[round_.subject.work]) for run in round_.runs)) for round_ in rounds)
