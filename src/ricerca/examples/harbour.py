"""Records the tidebook example, state by state, as a real investigation would have gone."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tomllib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from platformdirs import user_data_path

from ricerca.model.cases import Case, Part
from ricerca.model.errors import EnvironmentProblem
from ricerca.model.rounds import RECORDED, Subject
from ricerca.runner.program import describe
from ricerca.runner.series import Series, plans_of
from ricerca.runner.session import Plan, Streams
from ricerca.study.store import Study

STATES = Path(__file__).parent / "tidebook"
READINGS = "readings.csv"
YEAR, MONTH, GROWING = "a year", "a month", "growing"
MONTH_DAYS, SIZES = 30, ("20", "40", "80", "160")
RUNS_PER_DAY = {YEAR: 4.0, MONTH: 60.0}
QUARTERS_A_DAY = 96
MOST_PLAIN_OF_MONTH = 3


def default_folder() -> Path:
    """Where the shipped example is put when nobody says otherwise."""
    return user_data_path("ricerca") / "harbour"


def recorded_folder() -> Path:
    """Where the example is recorded anew on this machine."""
    return user_data_path("ricerca") / "harbour-recorded-here"


class Harbour:
    """The example in a folder of its own: sources, readings and the study ``harbour.ricerca``."""

    def __init__(self, folder: Path, plain_runs: int = 5, line_run: bool = True) -> None:
        self.folder = folder
        self.study = folder / "harbour.ricerca"
        self._plain_runs = plain_runs
        self._line_run = line_run
        self._series: Series | None = None
        self._stopped = False

    def stop(self) -> None:
        """Give up; rounds already made stay."""
        self._stopped = True
        if self._series is not None:
            self._series.finish_now()

    def complete(self) -> bool:
        """Whether all rounds are there."""
        if not self.study.exists():
            return False
        with Study.open(self.study) as study:
            made = [round_ for round_ in study.of(Part(YEAR)).rounds() if round_.last_run(RECORDED)]
        return len(made) >= len(self._states())

    @staticmethod
    def _states() -> list[dict[str, str]]:
        return tomllib.loads((STATES / "states.toml").read_text())["state"]

    def make(self, tell: Callable[[str], None]) -> Path | None:
        """Record what is missing, telling each step. Returns the study, None when it was stopped.

        Raises
        ------
        RicercaError
            Something could not be written or recorded.
        """
        if self.complete():
            return self.study
        self.prepare()
        states = self._states()
        for number, state in enumerate(states, 1):
            self._put(state["folder"])
            if self._made(number):
                continue
            self._record(state, number, len(states), tell)
            if self._stopped:
                return None
        return self.study

    def _made(self, number: int) -> bool:
        if not self.study.exists():
            return False
        with Study.open(self.study) as study:
            return any(round_.number == number and round_.last_run(RECORDED) for round_ in study.of(Part(YEAR)).rounds())

    def prepare(self, last: bool = False) -> None:
        """Put the first state of the code (or the last) and the readings into the folder.

        Raises
        ------
        EnvironmentProblem
            They cannot be made there.
        """
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            for state in self._states()[: None if last else 1]:  # each state holds the files that it changes
                self._put(state["folder"])
            subprocess.run([sys.executable, "make_readings.py", READINGS], cwd=self.folder, check=True, timeout=120)
            head, *rows = (self.folder / READINGS).read_text().splitlines(keepends=True)
            for days in {*map(int, SIZES), MONTH_DAYS}:
                (self.folder / f"readings-{days}.csv").write_text("".join([head, *rows[: days * QUARTERS_A_DAY]]))
        except (OSError, subprocess.SubprocessError) as problem:
            raise EnvironmentProblem(f"The example could not be made in {self.folder}: {problem}.") from None

    def _put(self, state: str) -> None:
        try:
            for file in (STATES / state).glob("*.py"):
                shutil.copy(file, self.folder / file.name)
        except OSError as problem:
            raise EnvironmentProblem(f"The example could not be written to {self.folder}: {problem}.") from None

    def _record(self, state: dict[str, str], number: int, count: int, tell: Callable[[str], None]) -> None:
        program = ["tidebook.py", READINGS, "table.txt"]
        quiet = Streams(subprocess.DEVNULL, subprocess.DEVNULL, subprocess.DEVNULL, True)
        follow = self._line_run and number in (1, count)
        year = Plan(describe(program, str(self.folder), None), self.study, state["name"], state["note"], self._plain_runs, follow=follow,
                    case=YEAR)  # fmt: skip
        month = replace(year, subject=self._case(f"readings-{MONTH_DAYS}.csv"), case=MONTH, follow=False,
                        plain_runs=min(self._plain_runs, MOST_PLAIN_OF_MONTH))  # fmt: skip
        plans = [month, year]  # the year comes last: a round is whole when it is there
        if number == count:
            growing = Case(GROWING, self._case("readings-{days}.csv"), sizes=(("days", SIZES),))
            with Study.open(self.study, create=True) as study:
                study.keep_case(growing)
            plans[1:1] = plans_of(growing, replace(year, plain_runs=0, follow=False))
        if number == 1:
            with Study.open(self.study, create=True) as study:
                for plan in (year, month):
                    study.keep_case(Case(plan.case, plan.subject, RUNS_PER_DAY[plan.case]))
        self._series = Series(plans, quiet)
        last = ""

        def look() -> None:
            nonlocal last
            if self._series is not None and self._series.step != last:
                last = self._series.step
                tell(f"Round {number} of {count}, “{state['name']}”: {last}")

        self._series.run(look)

    def _case(self, readings: str) -> Subject:
        return describe(["tidebook.py", readings, "table.txt"], str(self.folder), None)
