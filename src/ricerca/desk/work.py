"""Work away from the interface thread: a request gives an answer, a newer request drops an older one."""

from __future__ import annotations

import traceback
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal

from ricerca.model.errors import RicercaError


class _Signals(QObject):
    done = pyqtSignal(str, int, object)
    failed = pyqtSignal(str, int, str)


class _Job(QRunnable):
    def __init__(self, topic: str, number: int, call: Callable[[], Any], signals: _Signals) -> None:
        super().__init__()
        self._topic, self._number, self._call, self._signals = topic, number, call, signals

    def run(self) -> None:
        try:
            answer = self._call()
        except RicercaError as problem:
            self._emit(self._signals.failed, str(problem))
        except Exception:
            self._emit(self._signals.failed, "Something went wrong in Ricerca:\n" + traceback.format_exc(limit=-4))
        else:
            self._emit(self._signals.done, answer)

    def _emit(self, signal: Any, value: object) -> None:
        try:
            signal.emit(self._topic, self._number, value)
        except RuntimeError:  # the window has gone meanwhile
            return


class Workers(QObject):
    """Runs calls in a pool. Per topic only the answer to the latest request arrives."""

    failed = pyqtSignal(str)
    idle = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(3)
        self._signals = _Signals()
        self._signals.done.connect(self._on_done)
        self._signals.failed.connect(self._on_failed)
        self._latest: dict[str, int] = {}
        self._then: dict[tuple[str, int], Callable[[Any], None]] = {}

    def request(self, topic: str, call: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Run call in the pool; then gets its answer on the interface thread unless a newer request came."""
        number = self._latest.get(topic, 0) + 1
        self._latest[topic] = number
        self._then[topic, number] = then
        self._pool.start(_Job(topic, number, call, self._signals))

    def forget(self, topic: str) -> None:
        """Drop the answer that is still awaited, and what may have gone wrong with it."""
        self._latest[topic] = self._latest.get(topic, 0) + 1

    def wait(self) -> None:
        """Let running work end, at closing time."""
        self._then.clear()
        self._pool.clear()
        self._pool.waitForDone(5000)

    @property
    def busy(self) -> bool:
        """Whether an answer is still awaited."""
        return bool(self._then)

    def _take(self, topic: str, number: int) -> Callable[[Any], None] | None:
        then = self._then.pop((topic, number), None)
        return then if self._latest.get(topic) == number else None

    def _on_done(self, topic: str, number: int, answer: object) -> None:
        then = self._take(topic, number)
        if then is not None:
            then(answer)
        if not self._then:
            self.idle.emit()

    def _on_failed(self, topic: str, number: int, text: str) -> None:
        if self._take(topic, number) is not None:
            self.failed.emit(text)
        if not self._then:
            self.idle.emit()
