"""Takes a picture of each main view, from the harbour example: python tools/shots.py STUDY FOLDER [NAME]..."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QSettings
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from ricerca.desk.application import make_application
from ricerca.desk.look import theme
from ricerca.desk.window import Window
from ricerca.engine.reading import parse
from ricerca.model.cases import Part

SIZE = (1280, 800)


def settle(window: Window, until: Callable[[], bool] = lambda: True, seconds: float = 30) -> None:
    """Let the window work until nothing is awaited any more."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QTest.qWait(50)
        if not window.workers.busy and until():
            break
    QTest.qWait(150)


def choose(window: Window, name: str) -> None:
    """Select a function by its name."""
    window.state.select(window.state.view.loaded.profile.functions.name.index(name))


def take(study: Path, folder: Path, wanted: set[str]) -> None:
    """Make the pictures whose names are wanted; all where none is."""
    app = make_application()
    folder.mkdir(parents=True, exist_ok=True)
    for dark in (False, True):
        theme.apply(app, theme.DARK if dark else theme.LIGHT)
        with tempfile.TemporaryDirectory() as scratch:
            settings = QSettings(str(Path(scratch, "settings.ini")), QSettings.Format.IniFormat)
            settings.setValue("window/theme", "dark" if dark else "light")
            _round_of_views(app, settings, study, folder, "-dark" if dark else "", wanted)


def _while_recording(window: Window, study: Path) -> None:
    """Start a round of the example in a study that is thrown away, and wait until leaders show."""
    sheet = window.sheet
    sheet._study = Path(tempfile.mkdtemp(), "trial.ricerca")
    sheet.cwd.setText(str(study.parent))
    sheet.plain.setValue(0)
    sheet.record.click()
    settle(window, lambda: sheet.leaders._glance is not None and len(sheet.leaders._glance.leaders) > 6)


def _nightly(window: Window, study: Path, shoot: Callable[[], None]) -> None:
    """The nightly script's first round as a graph, where it was recorded."""
    nightly = study.parent / "nightly" / "nightly.ricerca"
    if nightly.exists():
        window.open_study(nightly)
        settle(window, lambda: window.state.view is not None and window.state.path == nightly)
        window.state.set_reading(parse("round 1; elapsed time; imports folded"))
        window.show_named_page("Graph")
        settle(window)
        choose(window, "check_gauges")
        settle(window)
        shoot()
        window.open_study(study)
        settle(window, lambda: window.state.path == study)


def _time_snippets(window: Window) -> None:
    """Time ways to add up the squares of readings; nothing of it stays in the study."""
    page = window.snippets
    page.setup.setPlainText("heights = [n * 7919 % 1000 for n in range(96)]")
    page.fields[0].setPlainText("total = 0\nfor height in heights:\n    total += height ** 2")
    page.fields[1].setPlainText("total = sum(height * height for height in heights)")
    page._add_field().setPlainText("total = sum([height * height for height in heights])")
    page.pythons.setText(sys.executable)
    page.seconds.setValue(1.0)
    page.calls.setChecked(True)
    window.show_named_page("Snippets")
    path, window.state.path = window.state.path, None
    page.start()
    settle(window, lambda: page.facts is not None)
    window.state.path = path


def _round_of_views(app: QApplication, settings: QSettings, study: Path, folder: Path, suffix: str, wanted: set[str]) -> None:
    def shot(window: Window, name: str) -> None:
        if not wanted or name + suffix in wanted:
            window.grab().save(str(folder / f"{name}{suffix}.png"))

    window = Window(settings, study)
    window.resize(*SIZE)
    window.show()
    settle(window, lambda: window.state.view is not None)
    window.show_named_page("Leads")
    choose(window, "nearest_reading")
    settle(window)
    shot(window, "leads")
    if not suffix:
        window.show_named_page("Functions")
        settle(window)
        shot(window, "functions")
        choose(window, "rolling_mid")
        window.details.difference.setChecked(True)
        settle(window)
        shot(window, "edited")
        window.details.difference.setChecked(False)
    choose(window, "nearest_reading")
    window.show_named_page("Lines")
    settle(window)
    shot(window, "lines")
    if not suffix:
        choose(window, "angle_at")
        window.show_named_page("Call tree")
        settle(window)
        shot(window, "call-tree")
    window.show_named_page("Graph")
    settle(window)
    shot(window, "graph")
    if not suffix:
        window.state.set_reading(parse("imports folded"))
        window.show_named_page("Timeline")
        settle(window)
        shot(window, "timeline")
        window.state.back()
        settle(window)
        window.show_named_page("History")
        choose(window, "nearest_reading")
        settle(window)
        window.follow_selected()
        settle(window)
        shot(window, "history")
        window.history.follow_selected()
        window.state.look_at_part(Part("growing"))
        settle(window)
        choose(window, "nearest_reading")
        window.show_named_page("Functions")
        settle(window)
        shot(window, "growth")
        window.state.look_at_part(Part("a year"))
        settle(window)
        _time_snippets(window)
        shot(window, "snippets")
        window.show_keys()
        shot(window, "keys")
        window._keys.hide()
    if not suffix:
        window.state.read(1, None)
        settle(window)
        choose(window, "speed_of")
        window.show_named_page("Functions")
        settle(window)
        shot(window, "functions-one-round")
        window.new_round()
        settle(window)
        shot(window, "run-sheet")
        _while_recording(window, study)
        shot(window, "recording")
        window.sheet.stop()
        window.sheet.closed.emit()
        _nightly(window, study, lambda: shot(window, "nightly"))
        window.to_start()
        settle(window)
        shot(window, "start")
    window.close()
    window.deleteLater()
    app.processEvents()


if __name__ == "__main__":
    take(Path(sys.argv[1]), Path(sys.argv[2]), set(sys.argv[3:]))
