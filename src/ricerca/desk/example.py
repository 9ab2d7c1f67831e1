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


class Examples(QObject):
    """Opens one example at a time, and tells how that is getting on."""

    told = pyqtSignal(str)
    """What is being done; empty when it is over."""
    ready = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._thread: ExampleThread | None = None

    def open(self, record: bool = False, nightly: bool = False) -> None:
        """Open the harbour example, or the nightly script; with ``record`` the harbour is recorded anew."""
        if self._thread is not None and self._thread.isRunning():
            return
        self.told.emit("Recording the example …" if record else "Opening the example …")
        self._thread = ExampleThread(record, nightly, self)
        self._thread.told.connect(self.told)
        self._thread.ready.connect(self._ready)
        self._thread.failed.connect(self._failed)
        self._thread.finished.connect(lambda: self.told.emit(""))
        self._thread.start()

    def give_up(self) -> None:
        """End what is recorded; the rounds that are done stay."""
        if self._thread is not None:
            self._thread.give_up()

    def stop(self) -> None:
        """End it at closing time."""
        if self._thread is not None:
            self._thread.stop()

    def _ready(self, path: Path) -> None:
        self.told.emit("")
        self.ready.emit(path)

    def _failed(self, text: str) -> None:
        self.told.emit("")
        self.failed.emit(text)
