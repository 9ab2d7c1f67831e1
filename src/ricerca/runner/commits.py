"""Measures the commits of a range, each as a round, and searches the one that made the program slow."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ricerca.engine.profile import build_profile
from ricerca.engine.waits import worked_ns
from ricerca.measure.bisection import Counted, Culprit, Key, find_culprit
from ricerca.measure.estimates import FASTER, SLOWER
from ricerca.model.cases import Part
from ricerca.model.errors import RicercaError
from ricerca.model.marks import KIND_COLLECTION, KIND_IMPORT
from ricerca.model.rounds import RECORDED, Round
from ricerca.runner.pairing import Pairing
from ricerca.runner.series import Series
from ricerca.runner.session import Plan, Streams
from ricerca.study.store import Study

PAIRS_LIMIT_S = 60.0


@dataclass(frozen=True)
class Skipped:
    """A commit that could not be measured, and why."""

    revision: str
    why: str


class Commits:
    """Measures commits of a working copy, those that a study has not measured yet. Any thread may call ``finish_now``.

    ``plans`` say what is measured of each; the first is what commits are compared by.
    """

    def __init__(self, study: Path, plans: Sequence[Plan], revisions: Sequence[str], streams: Streams | None = None) -> None:
        self.study, self.plans, self.revisions = study, list(plans), list(revisions)
        self.made = 0
        self.skipped: list[Skipped] = []
        self.stopped = False
        self.step = ""
        self._streams = streams
        self._series: Series | None = None
        self._pairing: Pairing | None = None
        self._counted: dict[int, Counted | None] = {}

    def finish_now(self, number: int = 15) -> None:
        """End it; the rounds that were made stay, and are not made again next time."""
        self.stopped = True
        if self._series is not None:
            self._series.finish_now(number)
        if self._pairing is not None:
            self._pairing.stop(number)

    def known(self, revision: str) -> Round | None:
        """The round that has measured a commit, in the first plan's case."""
        with Study.open(self.study, part=self._part) as study:
            return next((round_ for round_ in study.rounds() if round_.revision == revision and round_.last_run(RECORDED)), None)

    @property
    def _part(self) -> Part:
        return Part(self.plans[0].case)

    def measure(self, revision: str, look: Callable[[], None] | None = None) -> Round | None:
        """The round of a commit, made where there is none yet; None where it failed, the reason among ``skipped``."""
        there = self.known(revision)
        if there is None and not self.stopped:
            self.step = f"commit {revision}"
            plans = [replace(plan, at=revision, round_name=plan.round_name or revision) for plan in self.plans]
            self._series = Series(plans, self._streams)
            try:
                outcomes = self._series.run(look)
            except RicercaError as problem:
                self._skip(revision, str(problem))
                return None
            self.made += 1
            failed = next((outcome for outcome in outcomes if outcome.recorded is None or outcome.run_id is None), None)
            if failed is not None:
                self._skip(revision, failed.problem or "nothing was recorded")
                return None
            there = self.known(revision)
        if there is None:
            return None
        run = there.last_run(RECORDED)
        if run is not None and not run.complete:
            self._skip(revision, "; ".join(run.because))
            return None
        if run is not None and run.exit_status:
            self._skip(revision, f"the program ended with {run.ended}")
            return None
        return there

    def _skip(self, revision: str, why: str) -> None:
        if revision not in {skip.revision for skip in self.skipped}:
            self.skipped.append(Skipped(revision, why))

    def measure_all(self, look: Callable[[], None] | None = None) -> None:
        """A round for each commit, oldest first."""
        for revision in self.revisions:
            if self.stopped:
                return
            self.measure(revision, look)

    def bisect(self, look: Callable[[], None] | None = None) -> Culprit:
        """Search the commit that changed the cost, with few rounds."""

        def counted(place: int) -> Counted | None:
            if place not in self._counted:
                round_ = self.measure(self.revisions[place], look)
                self._counted[place] = self._counts(round_) if round_ is not None else None
            return self._counted[place]

        def differ(first: int, second: int) -> bool | None:
            rounds = [self.measure(self.revisions[place], look) for place in (first, second)]
            if rounds[0] is None or rounds[1] is None or self.stopped:
                return None
            self.step = f"commits {self.revisions[first]} and {self.revisions[second]} in turn"
            self._pairing = Pairing(self.study, rounds[0].number, rounds[1].number, None, PAIRS_LIMIT_S, True, self._part)
            try:
                return self._pairing.run(look).verdict in (FASTER, SLOWER)
            except RicercaError as problem:
                self._skip(self.revisions[first], problem.what)
                return None

        return find_culprit(len(self.revisions), counted, differ)

    def _counts(self, round_: Round) -> Counted:
        with Study.open(self.study, part=self._part) as study:
            run = round_.last_run(RECORDED)
            assert run is not None
            profile = build_profile(study.tables(run.id))
        calls: dict[Key, int] = {}
        times: dict[Key, float] = {}
        table = profile.functions
        there = profile.parent >= 0
        by_function = np.bincount(profile.function[there], profile.calls[there], len(table))
        self_ns = np.bincount(profile.function[there], worked_ns(profile)[there], len(table))
        for n in np.flatnonzero(by_function):
            if table.kind[n] in (KIND_COLLECTION, KIND_IMPORT) or table.file[n].startswith("<frozen importlib"):
                continue  # how often these run depends on more than the code
            key = table.module[n], table.name[n]
            calls[key] = calls.get(key, 0) + int(by_function[n])
            times[key] = times.get(key, 0.0) + float(self_ns[n])
        return Counted(calls, {key: times[key] / count for key, count in calls.items()})
