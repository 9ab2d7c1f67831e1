"""Keeps what shells and writers write within its limit: they know none themselves."""

from __future__ import annotations

import os
import threading
from contextlib import suppress
from pathlib import Path

from ricerca.model.languages import FULL, GROWING

LOOK_SECONDS = 0.5


class TraceLimit(threading.Thread):
    """Cuts the files beside a recording back to their limit again and again while the program runs, and notes that it did."""

    def __init__(self, recording: Path, limit_bytes: int) -> None:
        super().__init__(daemon=True)
        self._recording, self._limit_bytes = recording, limit_bytes
        self._over = threading.Event()

    def run(self) -> None:
        """Look now and then until the program has ended."""
        while not self._over.wait(LOOK_SECONDS):
            self.look()

    def look(self) -> None:
        """Cut what is too long now."""
        for file in self._recording.parent.glob(f"{self._recording.name}.*"):
            if not file.name.endswith(GROWING):
                continue
            with suppress(OSError):
                if file.stat().st_size > self._limit_bytes:
                    os.truncate(file, self._limit_bytes)
                    file.with_name(file.name + FULL).touch()

    def end(self) -> None:
        """Look once more, then no longer."""
        self._over.set()
        self.look()
