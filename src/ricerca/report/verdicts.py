"""Several rounds beside each other, and several cases: a verdict between each two, without reading their calls."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations
from typing import Any

from ricerca.loading import judge
from ricerca.measure.estimates import BY_PAIRS, Speedup
from ricerca.measure.rounds import same_answer, times_in_turn, what_differs
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
    def base_ns(self) -> int | None:
        """What the base takes: beside the new round where both were run in turn, else as it was measured."""
        return self._in_turn_ns[0] if self._in_turn_ns is not None else run_ns(self.base)

    @property
    def new_ns(self) -> int | None:
        """What the new round takes, likewise."""
        return self._in_turn_ns[1] if self._in_turn_ns is not None else run_ns(self.new)

    @cached_property
    def _in_turn_ns(self) -> tuple[int, int] | None:
        return times_in_turn(self.base, self.new)

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
        "base_ns": found.base_ns,
        "new_ns": found.new_ns,
        **speedup_facts(found.speedup),
        "same_output": found.answer.same,
        "differs": list(found.differs),
    }


def show_between(found: Sequence[Judged], rounds: Sequence[Round]) -> None:
    """Several rounds in one table: what each takes, and how each compares with those before it."""
    console = terminal()
    table = terminal_table("round", "name", "made from", "takes", *(f"against {round_.number}" for round_ in rounds[:-1]), left=("name",))
    verdicts = {(verdict.base.number, verdict.new.number): verdict.text for verdict in found}
    for round_ in rounds:
        against = [verdicts.get((base.number, round_.number), "") for base in rounds[:-1]]
        table.add_row(
            str(round_.number), printable(round_.name) + (f" ({round_.fate})" if round_.fate else ""),
            str(round_.made_from or ""), time_text(run_ns(round_) or 0), *against,
        )  # fmt: skip
    for column in table.columns[4:]:
        column.no_wrap = False
    console.print(table)
    if any(verdict.speedup.evidence == BY_PAIRS for verdict in found):
        console.print(
            "Times are as each round was measured; the comparisons are from runs made in turn, where the machine is the same for both."
        )


def show_cases_between(found: Sequence[Judged]) -> None:
    """What the change did to the other cases."""
    console = terminal()
    for verdict in found:
        times = f"{time_text(verdict.base_ns or 0)} → {time_text(verdict.new_ns or 0)}"
        console.print(f"Case {printable(verdict.new.case)}: {times}, {verdict.text}", markup=False, style="bold")
