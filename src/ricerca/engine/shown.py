"""What a reading shows of a run: the profile it leaves, and all figures of it, each worked out when it is asked for."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np

from ricerca.engine.clauses import Names, names_of
from ricerca.engine.cycles import Cycle, function_cycles
from ricerca.engine.elapsed import runs_beside_itself, with_elapsed
from ricerca.engine.levels import CLASS, FUNCTION, group_numbers
from ricerca.engine.lines import LineFigures, line_figures
from ricerca.engine.neighbours import Edges, edges
from ricerca.engine.profile import FunctionTable, Profile
from ricerca.engine.ranking import FunctionFigures, function_figures
from ricerca.engine.reading import ELAPSED, EVERYTHING, WALL, Reading, charged_functions, read
from ricerca.engine.reducing import merged
from ricerca.engine.slices import Growth, counterpart, growing


@dataclass(frozen=True)
class Shown:
    """A run as a reading shows it."""

    profile: Profile
    """The part of the run that the reading shows."""
    line_profile: Profile | None
    """Of the round's line run, where there is one."""
    whole: Profile
    """The whole run."""
    reading: Reading = EVERYTHING

    def through(self, reading: Reading) -> Self:
        """The same round, read in another way; which rounds the reading names does not matter here."""
        reading = reading.of_any_round
        if reading == self.reading:
            return self
        return replace(self, profile=read(self.whole, reading), reading=reading)

    def beside(self, other: Shown) -> Self:
        """This round read as another is, to compare the two: of a stretch of time, that in which the same work was done."""
        reading = other.reading.of_another_run
        if other.reading.stretch is not None:
            reading = replace(reading, stretch=counterpart(other.whole, *other.reading.stretch, self.whole))
        return self.through(reading)

    @cached_property
    def figures(self) -> FunctionFigures:
        """Figures by function."""
        return function_figures(self.profile)

    @cached_property
    def names(self) -> Names:
        """What clauses of the whole run can name."""
        return names_of(self.whole, function_figures(self.whole))

    @cached_property
    def uncharged(self) -> Profile:
        """The same part of the run by function, with all time where it was spent."""
        if not self.reading.charged and self.reading.level == FUNCTION:
            return self.profile
        return read(self.whole, replace(self.reading, charged=(), level=FUNCTION))

    @cached_property
    def lines(self) -> LineFigures:
        """Figures by line; of the line run where there is one."""
        # A line's time is that of what it calls, charged or not; only lines whose own time is charged away go.
        shown = self.uncharged
        found = line_figures(shown, self.line_profile)
        return found.of(~charged_functions(shown, self.reading.charged)) if self.reading.charged else found

    @property
    def line_table(self) -> FunctionTable:
        """The functions that lines belong to, whatever a row of the reading stands for."""
        return self.uncharged.functions

    @cached_property
    def row_of(self) -> np.ndarray:
        """The row of the reading that each of these functions belongs to; (functions,) int array."""
        return group_numbers(self.line_table, self.reading.level)

    @cached_property
    def line_rows(self) -> np.ndarray:
        """The row of the reading that each line belongs to; (lines,) int array."""
        return self.row_of[self.lines.function]

    @cached_property
    def tree(self) -> Profile:
        """The profile with equal chains of calls put together, for the call tree."""
        return self.profile if self.reading == EVERYTHING else merged(self.profile)

    @cached_property
    def edges(self) -> Edges:
        """Callers and callees."""
        return edges(self.profile)

    @cached_property
    def cycles(self) -> tuple[Cycle, ...]:
        """Functions that are mutually recursive."""
        if self.reading.level not in (FUNCTION, CLASS):  # modules and packages nearly all call each other
            return ()
        return function_cycles(self.profile, self.edges)

    @cached_property
    def growing(self) -> dict[int, Growth]:
        """The functions whose calls became slower over the run."""
        return growing(self.profile, self.figures.self_ns)

    @property
    def what(self) -> str:
        """What shares are shares of."""
        reading = self.reading
        partly = any(
            (reading.inside, reading.without, reading.stretch, reading.threads, reading.processes, reading.clock not in (WALL, ELAPSED))
        )
        return "what is read" if partly else "the run"

    @property
    def beside_itself(self) -> bool:
        """Whether the run has several threads or processes, so that its times add up beside each other."""
        return runs_beside_itself(self.whole)

    @cached_property
    def elapsed_ns(self) -> int:
        """The run's own time, the recorder's cost deducted: each moment counted once."""
        return with_elapsed(self.whole).total_ns

    @property
    def clock_total_ns(self) -> int:
        """The whole run by the clock that is read: what ceilings and shares of the run are of."""
        return self.elapsed_ns if self.reading.clock == ELAPSED else self.whole.total_ns
