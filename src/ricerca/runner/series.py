"""One round of several cases and sizes: a session for each of them, one after the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from ricerca.model.cases import Case, size_text
from ricerca.model.errors import InputError
from ricerca.model.rounds import LINE, PLAIN, Round, Run
from ricerca.runner.session import Outcome, Plan, Session, Streams


def plans_of(case: Case, plan: Plan) -> list[Plan]:
    """What is to be done for a case, one plan a size; ``plan`` says all the rest."""
    return [replace(plan, subject=case.subject, case=case.name, size=size, prepare=case.prepare) for size in case.all_sizes]


def as_before(plan: Plan, runs: Sequence[Run]) -> Plan:
    """The same plan with as many plain runs as were made before, and the lines followed if they were."""
    plain = sum(run.kind == PLAIN and not run.again for run in runs)
    return replace(plan, plain_runs=plain, follow=any(run.kind == LINE for run in runs))


class Series:
    """Makes one round of several plans. Any thread may signal it, as a ``Session``."""

    def __init__(self, plans: Sequence[Plan], streams: Streams | None = None) -> None:
        if not plans:
            raise InputError("There is no case to measure.", "Add one with: ricerca cases FILE --add NAME -- PROGRAM")
        self.plans = list(plans)
        self._streams = streams
        self.session = Session(self.plans[0], streams)
        self._stopped = False

    @property
    def paused(self) -> bool:
        """Whether the recording stands still."""
        return self.session.paused

    @property
    def step(self) -> str:
        """What is done now, in words."""
        plan = self.session.plan
        which = " ".join(filter(None, [plan.case, size_text(plan.size)])) if len(self.plans) > 1 else ""
        return f"{which}, {self.session.step}" if which else self.session.step

    def finish_now(self, number: int = 15) -> None:
        """End what runs; what was recorded so far is kept, and no other case is begun."""
        self._stopped = True
        self.session.finish_now(number)

    def pause(self, paused: bool) -> None:
        """Leave out what happens from now on, or count it again."""
        self.session.pause(paused)

    def finish_recording(self) -> None:
        """End the recording of what runs now."""
        self.session.finish_recording()

    def run(self, look: Callable[[], None] | None = None) -> list[Outcome]:
        """Make the round; what was measured stays when a later case cannot be.

        Raises
        ------
        RicercaError
            A case cannot be measured.
        """
        outcomes: list[Outcome] = []
        for number, plan in enumerate(self.plans):
            if outcomes:
                plan = replace(plan, round_number=outcomes[0].round_number)
            if number:
                self.session = Session(plan, self._streams)
            outcome = self.session.run(look)
            outcomes.append(outcome)
            if self._stopped or not self.session.going_on or outcome.kept_at is not None:
                break
        return outcomes


def status_of(outcomes: Sequence[Outcome]) -> int:
    """The exit status of the first program that did not end with 0."""
    return next((outcome.recorded.exit_status for outcome in outcomes if outcome.recorded and outcome.recorded.exit_status), 0)


def last_of(rounds: Sequence[Round]) -> tuple[Run, ...]:
    """The runs of the latest round that holds any."""
    return next((round_.runs for round_ in reversed(rounds) if round_.runs), ())
