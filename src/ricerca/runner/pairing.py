"""Runs of two rounds made in turn, so that a drift of the machine falls on both."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from ricerca.measure.estimates import LOOKS, Speedup
from ricerca.measure.rounds import speedup_of
from ricerca.model.cases import WHOLE, Part
from ricerca.model.errors import InputError, RicercaError
from ricerca.model.rounds import Round, Subject, pairs_of
from ricerca.runner.quiet import Quiet
from ricerca.runner.restoring import CannotRestoreError, Restorer, State
from ricerca.study.store import Study

TIME_LIMIT_S = 120.0
Look = Callable[[], None] | None


@dataclass(frozen=True)
class Side:
    """A round, and the state of the code to run it with; None: the program as it would be started by hand."""

    round: Round
    state: State | None = None
    again: bool = False


@dataclass(frozen=True)
class Turn:
    """One plain run that is due."""

    quiet: Quiet
    side: Side
    pair: int | None
    subject: Subject

    @property
    def words(self) -> str:
        """What a step says of it besides its number."""
        return f", round {self.side.round.number} again" if self.side.again else ""

    def make(self, look: Look, wanted: Callable[[], bool]) -> bool:
        """Make the run and keep it, unless it is not wanted any more. False where it could not be written."""
        side = self.side
        run = self.quiet.plain(self.subject, side.round.id, look, side.state, self.pair, side.again)
        if not wanted():
            return True
        try:
            with Study.open(self.quiet.study) as study:
                study.add_run(side.round.id, replace(run, case=side.round.case, size=side.round.size))
        except RicercaError:
            return False
        return True


class Turns:
    """Whose run is next: A B, B A, A B, …; without a base the one side alone."""

    def __init__(self, quiet: Quiet, new: Side, base: Side | None) -> None:
        self._quiet, self._new, self._base = quiet, new, base
        self._count = 0

    def next_two(self) -> Iterator[Turn]:
        """The next pair, in the order in which it is due."""
        pair = None
        sides = [self._new]
        if self._base is not None:
            sides.insert(0, self._base)
            try:
                with Study.open(self._quiet.study) as study:
                    pair = study.new_pair()
            except RicercaError:
                pair = None
        if self._count % 2:
            sides.reverse()
        self._count += 1
        # one subject for both: what differs is the code alone
        return iter([Turn(self._quiet, side, pair, self._new.round.subject) for side in sides])

    def warm_up(self, look: Look = None) -> None:
        """A run of each side that does not count: caches fill, also those of compiled code."""
        for side in (self._new, *([self._base] if self._base else [])):
            self._quiet.plain(self._new.round.subject, side.round.id, look, side.state)


class Pairing:
    """Makes pairs of two rounds of a study. ``step`` says how it stands; any thread may call ``stop``."""

    def __init__(
        self, study: Path, base: int, new: int, pairs: int | None, time_limit_s: float = TIME_LIMIT_S, own_group: bool = False,
        part: Part = WHOLE,
    ) -> None:  # fmt: skip
        self.study, self.base, self.new = study, base, new
        self.pairs = pairs
        self.part = part
        self.time_limit_s = time_limit_s
        self.step = ""
        self.made = 0
        self._stopped = False
        self._quiet = Quiet(study, None, own_group)

    def stop(self, number: int = 15) -> None:
        """No more pairs; those that were made stay."""
        self._stopped = True
        if self._quiet.execution is not None:
            self._quiet.execution.signal(number)

    @property
    def _going_on(self) -> bool:
        return not self._stopped and not self._quiet.interrupted

    def run(self, look: Look = None) -> Speedup:
        """Make pairs until there are enough, the verdict is settled, the time is over, or somebody stops it.

        Raises
        ------
        InputError
            The rounds are of different work, or the same round.
        CannotRestoreError
            The code of one of them cannot be brought back.
        """
        with Study.open(self.study, part=self.part) as study:
            base, new = study.round(self.base), study.round(self.new)
            if base.number == new.number:
                raise InputError("A round cannot be compared with itself.")
            different = base.subject.other_work(new.subject)
            if different:
                raise InputError(f"The rounds are of different work ({different}).", "Compare rounds of the same program and arguments.")
            before = len(pairs_of(base, new))
            with Restorer() as restorer:
                sides = Side(base, restorer.of_round(study, base), True), Side(new, restorer.of_round(study, new), True)
                return self._turns(Turns(self._quiet, sides[1], sides[0]), before, look)

    def _turns(self, turns: Turns, before: int, look: Look) -> Speedup:
        began = time.monotonic()
        self.step = "warming up"
        turns.warm_up(look)
        if time.monotonic() - began > self.time_limit_s and self.pairs is None:
            raise CannotRestoreError(
                f"One pair takes longer than the time limit of {self.time_limit_s:.0f} s.", "Say how many pairs to make: --pairs 5"
            )
        found = self._judged()
        while self._going_on and (self.pairs is None or self.made < self.pairs):
            if self.pairs is None and time.monotonic() - began > self.time_limit_s:
                break
            self.step = f"pair {self.made + 1}" + (f" of {self.pairs}" if self.pairs is not None else f", {found.verdict} so far")
            for turn in turns.next_two():
                if self._going_on and not turn.make(look, lambda: self._going_on):
                    raise InputError(f"{self.study.name} cannot be written to.")
            self.made += self._going_on
            if self.pairs is None and before + self.made in LOOKS:
                found = self._judged()
                if found.settled:
                    break
        return self._judged()

    def _judged(self) -> Speedup:
        with Study.open(self.study, part=self.part) as study:
            base, new = study.round(self.base), study.round(self.new)
        return speedup_of(base, new)
