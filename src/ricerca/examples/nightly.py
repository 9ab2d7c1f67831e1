"""Records the nightly example: a shell script that starts helpers, a compiled kernel and the tide book, before and after a change."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from ricerca.examples.harbour import Harbour
from ricerca.model.errors import EnvironmentProblem
from ricerca.model.rounds import RECORDED
from ricerca.runner.compiled import FLAGS
from ricerca.runner.program import describe
from ricerca.runner.session import Plan, Session, Streams
from ricerca.study.store import Study

STATES = Path(__file__).parent / "nightly"
ROUNDS = (
    ("1-as-it-was", "as it was", "The nightly run as it came; it starts several helpers for each gauge."),
    ("2-no-helpers", "no helpers", "The shell now counts lines, cuts names and adds up by itself."),
)
GAUGES, READINGS = 40, 96
PLAIN_RUNS = 5


class Nightly:
    """The example in a folder of its own: scripts, kernel, gauges and the study ``nightly.ricerca``."""

    def __init__(self, folder: Path, plain_runs: int = PLAIN_RUNS) -> None:
        self.folder = folder
        self.study = folder / "nightly.ricerca"
        self._plain_runs = plain_runs

    @staticmethod
    def why_not() -> str:
        """What is missing for it on this machine; empty where nothing is."""
        missing = [name for name in ("bash", "gcc") if shutil.which(name) is None]
        return f"there is no {' and no '.join(missing)} here" if missing else ""

    def complete(self) -> bool:
        """Whether both rounds are there."""
        if not self.study.exists():
            return False
        with Study.open(self.study) as study:
            return sum(round_.last_run(RECORDED) is not None for round_ in study.rounds()) >= len(ROUNDS)

    def prepare(self) -> None:
        """Put the tide book, the gauges and the first state into the folder, and build the kernel.

        Raises
        ------
        EnvironmentProblem
            That cannot be done here.
        """
        Harbour(self.folder).prepare(last=True)
        try:
            (self.folder / "gauges").mkdir(exist_ok=True)
            for gauge in range(GAUGES):
                rows = READINGS - (gauge % 10 == 3)  # a few have lost a reading
                text = "".join(f"{row * 15} {(gauge * 37 + row * 11) % 400 / 100:.2f}\n" for row in range(rows))
                (self.folder / "gauges" / f"gauge-{gauge:02d}.txt").write_text(text)
            self._put(ROUNDS[0][0])
            kernel = ["gcc", "-O2", *FLAGS.split(), "-o", "surge", "surge.c"]
            subprocess.run(kernel, cwd=self.folder, check=True, capture_output=True, timeout=120)
            python = self.folder / "bin" / "python3"
            python.parent.mkdir(exist_ok=True)
            python.unlink(missing_ok=True)
            python.symlink_to(sys.executable)
        except (OSError, subprocess.SubprocessError) as problem:
            raise EnvironmentProblem(f"The nightly example could not be made in {self.folder}: {problem}.") from None

    def _put(self, state: str) -> None:
        for file in (STATES / state).iterdir():
            shutil.copy(file, self.folder / file.name)
        (self.folder / "nightly.sh").chmod(0o755)

    def make(self, tell: Callable[[str], None]) -> Path:
        """Record what is missing, telling each step. Returns the study.

        Raises
        ------
        RicercaError
            Something could not be built, written or recorded.
        """
        if self.complete():
            return self.study
        self.prepare()
        quiet = Streams(subprocess.DEVNULL, subprocess.DEVNULL, subprocess.DEVNULL, True)
        path = f"{self.folder / 'bin'}:/usr/local/bin:/usr/bin:/bin"
        for number, (state, name, note) in enumerate(ROUNDS, 1):
            self._put(state)
            subject = describe(["./nightly.sh"], str(self.folder), None, env=(("PATH", path),))
            session = Session(Plan(subject, self.study, name, note, self._plain_runs), quiet)
            tell(f"Nightly run, round {number} of {len(ROUNDS)}, “{name}”")
            session.run()
        return self.study
