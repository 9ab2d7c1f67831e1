"""Several rounds beside each other, and several cases: a verdict between each two, without reading their calls."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Any

from ricerca.loading import judge
from ricerca.measure.estimates import Speedup
from ricerca.measure.rounds import same_answer, what_differs
from ricerca.measure.worth import run_ns
from ricerca.model.answers import AnswerVerdict
from ricerca.model.cases import Part
from ricerca.model.errors import InputError
from ricerca.model.rounds import Round
from ricerca.report.facts import speedup_facts
from ricerca.report.tables import terminal, terminal_table
from ricerca.report.wording import printable, time_text, verdict_text
from ricerca.study.store import Study


@dataclass(frozen=True)
class Judged:
    """Two rounds of one case, and what can be said of the second against the first."""

    base: Round
    new: Round
    speedup: Speedup
    answer: AnswerVerdict
    differs: tuple[str, ...]

    @property
    def text(self) -> str:
        """The verdict in a phrase, with an answer that changed."""
        other = "; another answer" if self.answer.same is False else ""
        return f"{verdict_text(self.speedup)}{other}"


def judged(base: Round, new: Round) -> Judged:
    """What can be said of one round against another; from what the recorded runs took where there are no plain ones."""
    times = run_ns(base), run_ns(new)
    recorded = (times[0], times[1]) if times[0] and times[1] else None
    return Judged(base, new, judge(base, new, recorded), same_answer(base, new), tuple(what_differs(base, new)))


def between_all(study: Study, numbers: Sequence[int]) -> list[Judged]:
    """A verdict between each two of several rounds, the earlier named always as the base.

    Raises
    ------
    InputError
        One of them is not there, or is named twice.
    """
    if len(set(numbers)) < len(numbers):
        raise InputError("A round cannot be compared with itself.")
    rounds = [study.round(number) for number in numbers]
    return [judged(base, new) for base, new in combinations(rounds, 2)]


def of_other_cases(study: Study, base: int, new: int, case: str) -> list[Judged]:
    """Verdicts of the other cases that both rounds have measured."""
    cases = [name for name in study.round(new).cases if name != case and name in study.round(base).cases]
    views = [study.of(Part(name)) for name in cases]
    return [judged(view.round(base), view.round(new)) for view in views]


def judged_facts(found: Judged) -> dict[str, Any]:
    """A verdict as JSON."""
    return {
        "case": found.new.case,
        "base": found.base.number,
        "new": found.new.number,
        "base_ns": run_ns(found.base),
        "new_ns": run_ns(found.new),
        **speedup_facts(found.speedup),
        "same_output": found.answer.same,
        "differs": list(found.differs),
    }


def show_between(found: Sequence[Judged], rounds: Sequence[Round]) -> None:
    """Several rounds in one table: what each takes, and how each compares with those before it."""
    console = terminal()
    table = terminal_table("round", "name", "made from", "takes", *(f"against {round_.number}" for round_ in rounds[:-1]), left=("name",))
    verdicts = {(judged.base.number, judged.new.number): judged.text for judged in found}
    for round_ in rounds:
        against = [verdicts.get((base.number, round_.number), "") for base in rounds[:-1]]
        table.add_row(
            str(round_.number), printable(round_.name) + (f" ({round_.fate})" if round_.fate else ""),
            str(round_.made_from or ""), time_text(run_ns(round_) or 0), *against,
        )  # fmt: skip
    for column in table.columns[4:]:
        column.no_wrap = False
    console.print(table)


def show_cases_between(found: Sequence[Judged]) -> None:
    """What the change did to the other cases."""
    console = terminal()
    for judged in found:
        times = [time_text(run_ns(side) or 0) for side in (judged.base, judged.new)]
        console.print(f"Case {printable(judged.new.case)}: {times[0]} → {times[1]}, {judged.text}", markup=False, style="bold")
