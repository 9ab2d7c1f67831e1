"""Cases as rows of the study file."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from ricerca.model.cases import Case
from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject

if TYPE_CHECKING:
    from ricerca.study.store import Study


def case_values(case: Case, subject_id: int) -> tuple[object, ...]:
    """Name, subject, runs a day, sizes and command of a case."""
    return case.name, subject_id, case.runs_per_day, json.dumps(case.sizes), case.prepare


def cases_from(rows: Sequence[tuple], subjects: Mapping[int, Subject]) -> list[tuple[Case, bool]]:
    """Cases, and whether each was dropped.

    Raises
    ------
    KeyError, TypeError, ValueError
        They contradict each other.
    """
    return [
        (
            Case(
                name=str(name),
                subject=subjects[int(subject_id)],
                runs_per_day=None if runs_per_day is None else float(runs_per_day),
                sizes=tuple((str(size), tuple(str(value) for value in values)) for size, values in json.loads(sizes)),
                prepare=str(prepare),
                id=int(number),
            ),
            bool(dropped),
        )
        for number, name, subject_id, runs_per_day, sizes, prepare, dropped in rows
    ]


def known_case(study: Study, name: str, subject: Subject) -> Case | None:
    """The case of a name, None where it is new; what it runs is the same work as the subject.

    Raises
    ------
    InputError
        The case of that name is of other work.
    """
    known = next((case for case in study.cases() if case.name == name), None)
    differs = known.subject.other_work(subject) if known is not None else ""
    if differs:
        raise InputError(f"The case “{name}” is of something else ({differs}).",
                         f"Give another name, or change it: ricerca cases {study.path.name} --add {name} -- PROGRAM")  # fmt: skip
    return known
