"""A strip that tells how runs of two rounds in turn are getting on, and stops them."""

from __future__ import annotations

import time
import traceback
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, QThread, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QWidget

from ricerca.model.cases import WHOLE, Part
from ricerca.model.errors import RicercaError
from ricerca.report.wording import plural
from ricerca.runner.pairing import TIME_LIMIT_S, Pairing

LOOK_SECONDS = 0.3


class PairingThread(QThread):
    """Makes pairs of rounds away from the interface thread, one after the other."""

    progressed = pyqtSignal(int, str, float)
    done = pyqtSignal(int)
    failed = pyqtSignal(str)

    def __init__(self, pairings: Sequence[Pairing], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pairings = pairings
        self._at = 0
        self._stopped = False
        self._began = self._last = 0.0

    def stop(self) -> None:
        """End what runs now, and leave out what has not begun."""
        self._stopped = True
        self._pairings[self._at].stop()

    def run(self) -> None:
        self._began = time.monotonic()
        try:
            for at, pairing in enumerate(self._pairings):
                self._at = at
                if not self._stopped:
                    pairing.run(self._look)
        except RicercaError as problem:
            self.failed.emit(str(problem))
        except Exception:
            self.failed.emit("Something went wrong in Ricerca:\n" + traceback.format_exc(limit=-4))
        else:
            self.done.emit(sum(pairing.made for pairing in self._pairings))

    def _look(self) -> None:
        now = time.monotonic()
        if now - self._last > LOOK_SECONDS:
            self._last = now
            self.progressed.emit(self._at, self._pairings[self._at].step, now - self._began)


class TurnsStrip(QFrame):
    """Hidden while nothing runs."""

    finished = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("notice")
        self._thread: PairingThread | None = None
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.stop = QPushButton("Stop")
        self.stop.setObjectName("quiet")
        self.stop.setToolTip("Stop after this run; the pairs made so far are kept.")
        self.stop.clicked.connect(self.end)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 8, 16, 8)
        layout.addWidget(self.words, 1)
        layout.addWidget(self.stop)
        self.hide()

    @property
    def running(self) -> bool:
        """Whether runs are being made."""
        return self._thread is not None

    def start(self, study: Path, pairs: Sequence[tuple[int, int]], part: Part = WHOLE) -> None:
        """Run rounds in turn, by twos (base, new), each until its verdict is settled."""
        if self.running or not pairs:
            return
        self._pairs = tuple(pairs)
        self.words.setText(f"{self._words_of(0)}.")
        self.stop.setEnabled(True)
        pairings = [Pairing(study, base, new, None, own_group=True, part=part) for base, new in pairs]
        self._thread = thread = PairingThread(pairings, self)
        thread.progressed.connect(self._tell)
        thread.done.connect(self._done)
        thread.failed.connect(self._failed)
        thread.finished.connect(self._gone)
        self.show()
        thread.start()

    def end(self) -> None:
        """Stop after what runs now was ended."""
        if self._thread is not None:
            self.stop.setEnabled(False)
            self._thread.stop()

    def wait(self) -> None:
        """End, and wait for it: the window is being closed."""
        if self._thread is not None:
            self._thread.stop()
            self._thread.wait(5000)

    def _words_of(self, at: int) -> str:
        base, new = self._pairs[at]
        several = f" ({at + 1} of {len(self._pairs)})" if len(self._pairs) > 1 else ""
        minutes = f"at most {TIME_LIMIT_S / 60:.0f} minutes"
        return f"Rounds {base} and {new} are run in turn until the verdict is settled, {minutes}{several}"

    def _tell(self, at: int, step: str, seconds: float) -> None:
        self.words.setText(f"{self._words_of(at)}: {step}, {seconds:.0f} s.")

    def _done(self, made: int) -> None:
        self.words.setText(f"{plural(made, 'pair')} made.")
        self.finished.emit()

    def _failed(self, problem: str) -> None:
        self.failed.emit(problem)

    def _gone(self) -> None:
        self._thread = None
        self.hide()
