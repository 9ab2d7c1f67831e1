"""What a quiet run writes, looked at as it comes: digests, and the beginning to show a difference with."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable
from pathlib import Path

from ricerca.model.answers import HEAD_BYTES, STDERR, STDOUT, Answer, Output, piece_digest

PATIENCE_S = 1.0
"""So long we wait, when a program is gone, for others that still hold its output."""


class _Reader(threading.Thread):
    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.source, self.sink = os.pipe()
        self._head = b""
        self._pieces: list[str] = []
        self._bytes = 0
        self._rest = b""
        self._guard = threading.Lock()

    def run(self) -> None:
        try:
            while block := os.read(self.source, HEAD_BYTES):
                with self._guard:
                    self._take(block)
        finally:
            os.close(self.source)

    def _take(self, block: bytes) -> None:
        self._bytes += len(block)
        if len(self._head) < HEAD_BYTES:
            self._head = (self._head + block)[:HEAD_BYTES]
        self._rest += block
        while len(self._rest) >= HEAD_BYTES:
            self._pieces.append(piece_digest(self._rest[:HEAD_BYTES]))
            self._rest = self._rest[HEAD_BYTES:]

    def output(self) -> Output:
        """What came until now."""
        with self._guard:
            last = (piece_digest(self._rest),) if self._rest else ()
            return Output(self._bytes, (*self._pieces, *last), self._head)


class Watched:
    """Standard output and error of one run: give ``stdout`` and ``stderr`` to it, call ``started``, ask for the answer after its end."""

    def __init__(self) -> None:
        self._readers = {STDOUT: _Reader(), STDERR: _Reader()}
        self.stdout, self.stderr = (reader.sink for reader in self._readers.values())

    def started(self) -> None:
        """The program has its ends; ours are closed, and reading begins."""
        for reader in self._readers.values():
            os.close(reader.sink)
            reader.start()

    def answer(self, cwd: str, files: Iterable[str]) -> Answer:
        """All that was written, and the files that hold the answer."""
        for reader in self._readers.values():
            reader.join(PATIENCE_S)
        written = [(name, reader.output()) for name, reader in self._readers.items()]
        return Answer((*written, *((file, _of_file(Path(cwd, file))) for file in files)))


def _of_file(file: Path) -> Output | None:
    pieces, count, head = [], 0, b""
    try:
        with file.open("rb") as content:
            while block := content.read(HEAD_BYTES):
                head = head or block
                count += len(block)
                pieces.append(piece_digest(block))
    except OSError:
        return None
    return Output(count, tuple(pieces), head)
