"""Whether one round is faster than another, and what the evidence is worth."""

from __future__ import annotations

import math
from dataclasses import replace

from ricerca.measure.estimates import BY_PAIRS, DRIFT, MARGIN, UNDECIDED, Speedup, median_ns, ratio_of_pairs, ratio_of_runs
from ricerca.model.answers import AnswerVerdict, compare_answers
from ricerca.model.completeness import FAILED
from ricerca.model.rounds import PLAIN, Round, pairs_of, were_looked_at


def speedup_of(base: Round, new: Round, margin: float = MARGIN) -> Speedup:
    """From pairs where there are enough, else from runs made apart; of different work there is no verdict."""
    different = base.subject.other_work(new.subject)
    if different:
        return Speedup(float("nan"), None, UNDECIDED, f"the rounds are of different work ({different})")
    for round_ in (base, new):
        failed = next((run for run in round_.runs if any(gap.kind == FAILED for gap in run.gaps)), None)
        if failed is not None and not round_.plain_ns:
            return Speedup(float("nan"), None, UNDECIDED, f"the runs of round {round_.number} are no measure: {failed.because[0]}")
    by_pairs = ratio_of_pairs(pairs_of(base, new), were_looked_at(base, new), margin)
    if by_pairs.interval is not None:
        return by_pairs
    by_runs = ratio_of_runs(base.plain_ns, new.plain_ns, margin)
    if by_runs.ratio != by_runs.ratio:
        return by_pairs if by_pairs.evidence == BY_PAIRS else by_runs
    return replace(by_runs, pairs=by_pairs.pairs)


def times_in_turn(base: Round, new: Round) -> tuple[int, int] | None:
    """What two rounds took in ns when they were run in turn, on the same machine at the same time; None where they were not."""
    pairs = pairs_of(base, new)
    times = median_ns([before for before, _after in pairs]), median_ns([after for _before, after in pairs])
    return (times[0], times[1]) if times[0] and times[1] else None


def drift_between(base: Round, new: Round) -> tuple[float, float]:
    """How many times as long the base took when it was run again beside the new round as when it was measured itself.

    Returns
    -------
    factor, uncertainty : float
        1 and what a machine may drift by where it was not run again.
    """
    beside = {run.pair for run in new.runs if run.pair is not None}
    again = [run.wall_ns for run in base.runs if run.again and run.complete and run.pair in beside]
    if not again:
        return 1.0, DRIFT
    back = ratio_of_runs(again, [run.wall_ns for run in base.runs if run.kind == PLAIN and run.complete and not run.again])
    if back.interval is None:
        return 1.0, DRIFT
    half = math.log(back.interval[1] / back.interval[0]) / 2
    return back.ratio, math.sqrt(max(half**2 - DRIFT**2, 0.0))


def same_answer(base: Round, new: Round) -> AnswerVerdict:
    """Whether both rounds answer the same."""
    return compare_answers(base.answers, new.answers)


def what_differs(base: Round, new: Round) -> list[str]:
    """What else than the code differs between two rounds, in words."""
    different = base.subject.other_work(new.subject)
    found = [different] if different else []
    if base.subject.env != new.subject.env:
        found.append("environment")
    return found + base.machine.differences(new.machine)
