"""Watches the sources of a study and says which differ from what was recorded last."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, QTimer, pyqtSignal

from ricerca.desk.state import DeskState
from ricerca.engine.layers import MINE, layers_of
from ricerca.model.marks import KIND_PYTHON
from ricerca.model.rounds import LINE, RECORDED
from ricerca.study.store import Study

SETTLE_MS = 300


def recorded_sources(path: Path) -> dict[str, str]:
    """Full path and recorded text of the person's own sources, as of the last recorded round."""
    with Study.open(path) as study:
        rounds = [round_ for round_ in study.rounds() if round_.last_run(RECORDED, LINE)]
        if not rounds:
            return {}
        latest = rounds[-1]
        hashes = study.sources(latest.last_run(RECORDED, LINE).id)
        names = list(hashes)
        layers = layers_of(names, [""] * len(names), [KIND_PYTHON] * len(names), latest.subject.roots)
        return {
            str(Path(latest.subject.cwd, name)): study.source_text(hashes[name])
            for name, layer in zip(names, layers, strict=True)
            if layer == MINE
        }


def differing(recorded: dict[str, str]) -> list[str]:
    """The files whose text is no longer the recorded one."""
    changed = []
    for file, text in recorded.items():
        try:
            now = Path(file).read_bytes().decode("utf-8", "replace")
        except OSError:
            continue  # gone, or moved away for a moment by an editor
        if now != text:
            changed.append(file)
    return sorted(changed)


class Watcher(QObject):
    """Emits the changed files, again whenever one of them is written."""

    changed = pyqtSignal(list)

    def __init__(self, state: DeskState, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._recorded: dict[str, str] = {}
        self._files = QFileSystemWatcher(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(SETTLE_MS)
        self._timer.timeout.connect(self._look)
        self._files.fileChanged.connect(lambda _file: self._timer.start())
        self._files.directoryChanged.connect(lambda _folder: self._timer.start())
        state.rounds_changed.connect(self._begin)
        self._for: tuple[object, int] | None = None

    def _begin(self) -> None:
        path = self._state.path
        key = (path, len(self._state.measured()))
        if path is None or key == self._for:
            return
        self._for = key

        def then(recorded: dict[str, str]) -> None:
            self._recorded = recorded
            if self._files.files():
                self._files.removePaths(self._files.files())
            if self._files.directories():
                self._files.removePaths(self._files.directories())
            files = [file for file in recorded if Path(file).exists()]
            if files:
                self._files.addPaths(files)
                self._files.addPaths(sorted({str(Path(file).parent) for file in files}))
            self._look()

        self._state.workers.request("watch", lambda: recorded_sources(path), then)

    def _look(self) -> None:
        recorded = self._recorded

        def then(changed: list[str]) -> None:
            # an editor that writes a new file in place of the old one ends the watch on it
            missing = [file for file in recorded if file not in self._files.files() and Path(file).exists()]
            if missing:
                self._files.addPaths(missing)
            self.changed.emit(changed)

        self._state.workers.request("look", lambda: differing(recorded), then)
