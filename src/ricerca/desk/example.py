"""Opens the harbour example, or records it anew, away from the interface thread."""

from __future__ import annotations

import traceback
from pathlib import Path

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from ricerca.examples.harbour import Harbour, default_folder, recorded_folder
from ricerca.examples.shipped import open_nightly, open_shipped
from ricerca.model.errors import RicercaError


class ExampleThread(QThread):
    """Puts the shipped example in its place, or records all its rounds that are not there; tells the step it is at."""

    told = pyqtSignal(str)
    ready = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, record: bool = False, nightly: bool = False, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._record, self._nightly = record, nightly
        self._harbour = Harbour(recorded_folder())

    def run(self) -> None:
        try:
            if self._nightly:
                path: Path | None = open_nightly(default_folder().with_name("nightly"))
            else:
                path = self._harbour.make(self.told.emit) if self._record else open_shipped(default_folder())
        except RicercaError as problem:
            self.failed.emit(str(problem))
        except Exception:
            self.failed.emit("Something went wrong in Ricerca:\n" + traceback.format_exc(limit=-4))
        else:
            if path is not None:
                self.ready.emit(path)

    def give_up(self) -> None:
        """End what is recorded; the rounds that are done stay, and are not made again next time."""
        self._harbour.stop()

    def stop(self) -> None:
        """End it at closing time."""
        self.give_up()
        self.wait(20_000)
