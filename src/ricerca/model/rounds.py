"""What a study holds: subjects, rounds and runs, as values."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ricerca.model.answers import Answer
from ricerca.model.completeness import Gap, gaps_of_exit, usual_exit_status
from ricerca.model.machine import Machine

NO_ANSWER, UNKNOWN_MACHINE = Answer(), Machine()
_PYTHON_NAME = re.compile(r"python(\d(\.\d+)?)?$")
KEPT, UNDONE = "kept", "undone"
PLAIN, RECORDED, LINE, SPARSE = "plain", "recorded", "line", "sparse"


@dataclass(frozen=True)
class Subject:
    """What is run and how. ``kind`` is "script", "module" or "command"; ``program`` starts with its name.

    ``lines`` are the names whose lines are followed, ``inside`` those below which only is recorded, ``answer`` the files
    that hold what the program answers. ``input`` is the file that it reads from its standard input.
    """

    kind: str
    program: tuple[str, ...]
    cwd: str
    python: str
    env: tuple[tuple[str, str], ...] = ()
    roots: tuple[str, ...] = ()
    lines: tuple[str, ...] = ()
    inside: tuple[str, ...] = ()
    answer: tuple[str, ...] = ()
    input: str = ""
    id: int = field(default=0, compare=False)

    @property
    def package(self) -> str:
        """The package that is run by its name (``-m``); empty where none is.

        >>> Subject("module", ("-m", "tides.cli", "1"), "/a", "python3").package
        'tides'
        """
        words = list(self.program[1:] if self.kind == "command" else self.program)
        while words and words[0].startswith("-") and words[0] not in ("-", "-m", "-c"):
            del words[: 2 if words[0] in ("-X", "-W") else 1]
        return words[1].partition(".")[0] if len(words) > 1 and words[0] == "-m" else ""

    @property
    def title(self) -> str:
        """What a study or a case of it is called where nobody says: after the script, module or command.

        >>> Subject("script", ("/a/tidebook.py", "1"), "/a", "python3").title
        'tidebook'
        """
        words = self.program
        if self.kind == "command" and _PYTHON_NAME.match(os.path.basename(words[0])):
            words = tuple(word for word in words[1:] if not word.startswith("-")) or words[:1]
            if "-c" in self.program:
                return "code"
        elif words[0] == "-m":
            return words[1]
        return Path(words[0]).stem or "program"

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
        if self.input != other.input:
            return f"input: {self.input or 'none'}, then {other.input or 'none'}"
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
    """One execution. ``ended`` says in words how it ended, ``gaps`` why it does not hold all that the program did.

    ``pair`` is the number that it shares with the run of another round that was made directly before or after it.
    """

    id: int
    kind: str
    started_unix_ns: int
    wall_ns: int
    cpu_ns: int
    exit_status: int | None
    ended: str
    gaps: tuple[Gap, ...] = ()
    answer: Answer = NO_ANSWER
    machine: Machine = UNKNOWN_MACHINE
    pair: int | None = None
    again: bool = False
    """Whether an earlier state of the code was brought back for it, to be compared with."""
    case: str = ""
    """The case it is a run of; empty for the first of its round."""
    size: str = ""

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
    """One measured state of the code: what was run of one case, in the order it was made.

    ``subject`` is that of the case, ``runs`` are those of one size of it. ``made_from`` is the number of the round whose code was
    changed to make this one, ``fate`` whether that change was kept or undone, where somebody said so.
    """

    id: int
    number: int
    name: str
    note: str
    subject: Subject
    created_unix_ns: int
    revision: str
    runs: tuple[Run, ...]
    case: str = ""
    cases: tuple[str, ...] = ()
    """All cases that were measured."""
    size: str = ""
    sizes: tuple[str, ...] = ()
    """All sizes in which this case was run."""
    made_from: int | None = None
    fate: str = ""

    @property
    def plain_ns(self) -> tuple[int, ...]:
        """Wall times of the plain runs that ended well; those made again later only where there are no others."""
        own = [run for run in self.runs if run.kind == PLAIN and run.complete]
        return tuple(run.wall_ns for run in [run for run in own if not run.again] or own)

    @property
    def again_ns(self) -> tuple[int, ...]:
        """Wall times of the plain runs for which this state was brought back later."""
        return tuple(run.wall_ns for run in self.runs if run.kind == PLAIN and run.complete and run.again)

    @property
    def sparse_runs(self) -> tuple[Run, ...]:
        """The sparse runs that ended well."""
        return tuple(run for run in self.runs if run.kind == SPARSE and run.complete)

    @property
    def answers(self) -> list[Answer]:
        """What its plain runs answered."""
        return [run.answer for run in self.runs if run.kind == PLAIN and run.answer]

    @property
    def machine(self) -> Machine:
        """Where it was measured: what its runs know of it, the latest word for each."""
        found: dict[str, Any] = {}
        for run in self.runs:
            found |= {name: value for name, value in vars(run.machine).items() if value not in ("", 0, -1.0, ())}
        loads = [run.machine.load for run in self.runs if run.machine.load >= 0]
        return Machine(**{**found, "load": sum(loads) / len(loads)} if loads else found)

    def last_run(self, *kinds: str) -> Run | None:
        """The latest run of one of these kinds, complete ones before cut ones."""
        found = [run for run in self.runs if run.kind in kinds]
        return max(found, key=lambda run: (run.complete, run.id), default=None)


def pairs_of(base: Round, new: Round) -> tuple[tuple[int, int], ...]:
    """Wall times of the plain runs of two rounds that were made as pairs, both of which ended well: [base, new]."""
    times = [
        {run.pair: run.wall_ns for run in side.runs if run.kind == PLAIN and run.complete and run.pair is not None} for side in (base, new)
    ]
    return tuple((times[0][pair], times[1][pair]) for pair in times[0] if pair in times[1])


def were_looked_at(base: Round, new: Round) -> bool:
    """Whether pairs of two rounds were made until the verdict was settled, both states brought back for it."""
    shared = {run.pair for run in base.runs if run.again and run.pair is not None}
    return any(run.again and run.pair in shared for run in new.runs)


def with_exits_judged(rounds: tuple[Round, ...]) -> tuple[Round, ...]:
    """The rounds of a study, runs that ended in another way than their program usually does marked as failed."""
    by_work: dict[tuple[str, ...], list[Round]] = {}
    for round_ in rounds:
        by_work.setdefault(round_.subject.work, []).append(round_)
    usual = {work: usual_exit_status([run.exit_status for run in round_.runs] for round_ in own) for work, own in by_work.items()}

    def judged(run: Run, status: int | None) -> Run:
        return replace(run, gaps=(*gaps_of_exit(run.exit_status, status), *run.gaps))

    return tuple(replace(round_, runs=tuple(judged(run, usual[round_.subject.work]) for run in round_.runs)) for round_ in rounds)
