"""Opens the window on a study, uses it, and prints: seconds to the first page, longest block in ms, most memory in MB."""

from __future__ import annotations

import os
import re
import sys
import tempfile
import time
from pathlib import Path

began = time.perf_counter()
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtTest import QTest

from ricerca.desk.application import make_application
from ricerca.desk.look import theme
from ricerca.desk.window import Window


def wait(window: Window, seconds: float = 20) -> None:
    end = time.perf_counter() + seconds
    while time.perf_counter() < end and (window.workers.busy or window.state.view is None):
        QTest.qWait(5)


def most_memory_mb() -> float:
    """Of this program itself; what the kernel says of a process as such counts the one it was started from too."""
    return int(re.findall(r"VmHWM:\s*(\d+)", Path("/proc/self/status").read_text())[0]) / 1024


def main(study: Path) -> None:
    app = make_application()
    theme.apply(app, theme.LIGHT)
    with tempfile.TemporaryDirectory() as folder:
        window = Window(QSettings(str(Path(folder, "s.ini")), QSettings.Format.IniFormat), study)
        window.resize(1280, 800)
        window.show()
        while not window.leads.cards:
            QTest.qWait(2)
        window.grab()
        first = time.perf_counter() - began
        longest = 0.0
        last = time.perf_counter()

        def beat() -> None:
            nonlocal longest, last
            now = time.perf_counter()
            longest, last = max(longest, now - last), now

        timer = QTimer()
        timer.timeout.connect(beat)
        timer.start(0)
        wait(window)
        for action in (
            lambda: window.show_named_page("Lines"),
            lambda: window.show_named_page("Call tree"),
            lambda: window.state.read(window.state.rounds[0].number, None),
            lambda: window.state.read(window.state.rounds[-1].number, window.state.rounds[0].number),
            lambda: window.show_named_page("Graph"),
            lambda: window.show_named_page("Timeline"),
            lambda: window.show_named_page("Functions"),
            lambda: window.functions.table._on_head(1),
            lambda: window.functions.table.filter.setText("read"),
            *[lambda n=n: window.state.select(n) for n in range(1, 40)],
            lambda: window.new_round(),
        ):
            before = longest
            action()
            QTest.qWait(20)
            wait(window)
            if longest > before and "--tell" in sys.argv:
                print(action.__code__.co_firstlineno, longest * 1000, file=sys.stderr)
        print(first, longest * 1000, most_memory_mb())
        window.close()


main(Path(sys.argv[1]))
