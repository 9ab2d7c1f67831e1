"""Makes the harbour example away from the interface thread."""

from __future__ import annotations

import traceback

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from ricerca.examples.harbour import Harbour, default_folder
from ricerca.model.errors import RicercaError


class ExampleThread(QThread):
    """Records the example's rounds unless they are there; tells the step it is at."""

    told = pyqtSignal(str)
    ready = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._harbour = Harbour(default_folder())

    def run(self) -> None:
        try:
            path = self._harbour.make(self.told.emit)
        except RicercaError as problem:
            self.failed.emit(str(problem))
        except Exception:
            self.failed.emit("Something went wrong in Ricerca:\n" + traceback.format_exc(limit=-4))
        else:
            if path is not None:
                self.ready.emit(path)

    def stop(self) -> None:
        """End it at closing time."""
        self._harbour.stop()
        self.wait(20_000)
