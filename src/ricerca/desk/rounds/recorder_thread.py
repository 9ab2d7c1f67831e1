"""Makes a round away from the interface thread, and tells how it goes."""

from __future__ import annotations

import os
import signal
import subprocess
import tempfile
import time
import traceback
from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from ricerca.model.errors import RicercaError
from ricerca.recording.live import Glance, glance
from ricerca.recording.reader import open_recording
from ricerca.runner.series import Series
from ricerca.runner.session import Plan, Streams

LOOK_SECONDS = 0.4
MOST_OUTPUT = 200_000


@dataclass(frozen=True)
class Progress:
    """How a round stands."""

    step: str
    elapsed_s: float
    glance: Glance | None
    output: str
    """What the program wrote since the last progress."""


class RecorderThread(QThread):
    """Runs the plans of one round. The programs' output goes to a file that is read along."""

    progressed = pyqtSignal(object)
    done = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, plans: Sequence[Plan], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.plan = plans[0]
        self._output = tempfile.TemporaryFile()
        streams = Streams(
            stdin=subprocess.DEVNULL,
            stdout=self._output.fileno(),
            stderr=self._output.fileno(),
            own_group=True,
        )
        self.series = Series(plans, streams)
        self._read = 0
        self._last = 0.0
        self._began = 0.0

    def run(self) -> None:
        self._began = time.monotonic()
        try:
            outcomes = self.series.run(self._look)
        except RicercaError as problem:
            self.failed.emit(str(problem))
        except Exception:
            self.failed.emit("Something went wrong in Ricerca:\n" + traceback.format_exc(limit=-4))
        else:
            self._tell()
            self.done.emit(next((outcome for outcome in outcomes if outcome.run_id is None), outcomes[-1]))
        finally:
            self._output.close()

    def finish_now(self, by_force: bool = False) -> None:
        """Ask the program to end, or make it; what was recorded so far is kept."""
        self.series.finish_now(signal.SIGKILL if by_force else signal.SIGTERM)

    def pause(self, paused: bool) -> None:
        """Leave out what happens from now on, or count it again."""
        self.series.pause(paused)

    def finish_recording(self) -> None:
        """End the recording and let the program run on."""
        self.series.finish_recording()

    def _look(self) -> None:
        if time.monotonic() - self._last > LOOK_SECONDS:
            self._tell()

    def _tell(self) -> None:
        self._last = time.monotonic()
        self.progressed.emit(Progress(self.series.step, self._last - self._began, self._glance(), self._new_output()))

    def _glance(self) -> Glance | None:
        recording = self.series.session.recording
        if recording is None or not recording.exists():
            return None
        try:
            return glance(open_recording(recording, check=False))
        except (RicercaError, ValueError, OSError):
            return None  # it has not begun, or is just being finished

    def _new_output(self) -> str:
        size = os.fstat(self._output.fileno()).st_size
        start = max(self._read, size - MOST_OUTPUT)
        text = os.pread(self._output.fileno(), size - start, start)
        self._read = size
        return text.decode("utf-8", "replace")
