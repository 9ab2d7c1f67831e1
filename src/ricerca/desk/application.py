"""Starts the window."""

from __future__ import annotations

import signal
import sys
import traceback
from functools import partial
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QCoreApplication, QSettings, QTimer
from PyQt6.QtWidgets import QApplication

from ricerca.desk.look import theme
from ricerca.desk.window import Window
from ricerca.memory import keep_freed_memory

# Work in the background gives way to the interface this fast.
SWITCH_SECONDS = 0.0005


def make_application() -> QApplication:
    """The one application, dressed."""
    keep_freed_memory()
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    QCoreApplication.setOrganizationName("ricerca")
    QCoreApplication.setApplicationName("ricerca")
    app.setApplicationDisplayName("Ricerca")
    theme.load_fonts()
    sys.setswitchinterval(SWITCH_SECONDS)
    return app


def dress(app: QApplication, settings: QSettings) -> None:
    """The theme the person chose, else the system's, followed when it changes."""
    choice = settings.value("window/theme", "system")
    themes = {"light": theme.LIGHT, "dark": theme.DARK}
    theme.apply(app, themes.get(str(choice)) or theme.system_theme(app))


def _say_mistake(window: Window, kind: type[BaseException], problem: BaseException, trace: TracebackType | None) -> None:
    """Our own mistake in the interface must not end the window, where a round may be under way."""
    text = "".join(traceback.format_exception(kind, problem, trace))
    sys.stderr.write(text)
    window.say(f"Something went wrong in Ricerca; Your studies are safe. Please report this: {text[-600:]}")


def run_desk(path: Path | None) -> int:
    """Show the window until it is closed. Returns the exit status."""
    app = make_application()
    settings = QSettings()
    dress(app, settings)
    window = Window(settings, path.absolute() if path else None)
    hints = app.styleHints()
    if hints is not None:
        hints.colorSchemeChanged.connect(
            lambda _scheme: window.wear("system") if settings.value("window/theme", "system") == "system" else None
        )
    window.show()
    sys.excepthook = partial(_say_mistake, window)
    # Python handles signals only while it runs: a slow timer gives it the chance, so that Ctrl+C ends the window.
    signal.signal(signal.SIGINT, lambda *_: window.close())
    heartbeat = QTimer(window)
    heartbeat.start(250)
    heartbeat.timeout.connect(lambda: None)
    return app.exec()
