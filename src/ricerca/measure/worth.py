"""Whether more work is worth it: what a case costs in a week, what was saved, and what could still be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ricerca.measure.estimates import median_ns
from ricerca.model.cases import DAYS_A_WEEK, Case
from ricerca.model.rounds import RECORDED, UNDONE, Round

LEAST_SHARE = 0.02
"""A part that takes less can hardly be told from chance."""
LEAST_WEEK_NS = 60 * 10**9


@dataclass(frozen=True)
class Worth:
    """What a case costs; None where it is not known. ``lead_share`` is the part of a run that the best lead could save at most."""

    runs_per_day: float | None
    run_ns: int | None
    baseline_ns: int | None
    lead_share: float | None = None

    def _week(self, a_run_ns: float | None) -> int | None:
        if a_run_ns is None or self.runs_per_day is None:
            return None
        return round(a_run_ns * self.runs_per_day * DAYS_A_WEEK)

    @property
    def week_ns(self) -> int | None:
        """What all runs of a week take."""
        return self._week(self.run_ns)

    @property
    def saved_week_ns(self) -> int | None:
        """How much less that is than it was at the baseline."""
        if self.run_ns is None or self.baseline_ns is None:
            return None
        return self._week(self.baseline_ns - self.run_ns)

    @property
    def lead_week_ns(self) -> int | None:
        """What the best lead could save at most in a week."""
        if self.run_ns is None or self.lead_share is None:
            return None
        return self._week(self.run_ns * self.lead_share)

    @property
    def enough(self) -> bool:
        """Whether this is the place to stop: what is left is under 2 %, or under a minute a week."""
        if self.lead_share is None:
            return False
        return self.lead_share < LEAST_SHARE or (self.lead_week_ns is not None and self.lead_week_ns < LEAST_WEEK_NS)


def run_ns(round_: Round) -> int | None:
    """What a run of a round takes: plain where that was measured, else as recorded."""
    recorded = round_.last_run(RECORDED)
    return median_ns(round_.plain_ns) or (recorded.wall_ns if recorded is not None and recorded.complete else None)


def worth_of(case: Case, rounds: Sequence[Round]) -> Worth:
    """What a case costs in its latest round, against the first that measured it; rounds that were undone do not count."""
    times = [found for found in (run_ns(round_) for round_ in rounds if round_.fate != UNDONE) if found]
    return Worth(case.runs_per_day, times[-1] if times else None, times[0] if times else None)
