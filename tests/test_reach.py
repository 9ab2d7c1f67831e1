"""Ricerca itself on each Python it runs on: installed from its wheel, it records, ranks and opens its window."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from test_package import ROOT, copied_sources

ENVIRONMENTS = ROOT / "build" / "environments"

PAGES = """
import sys
from pathlib import Path
from PyQt6.QtCore import QSettings
from PyQt6.QtTest import QTest
from ricerca.desk.application import make_application
from ricerca.desk.window import Window

app = make_application()
window = Window(QSettings("settings.ini", QSettings.Format.IniFormat), Path("s.ricerca"))
window.resize(1280, 800)
window.show()
QTest.qWait(100)
while window.workers.busy:
    QTest.qWait(50)
for page in range(window.pages.count()):
    window.show_page(page)
    QTest.qWait(100)
    while window.workers.busy:
        QTest.qWait(50)
    assert not window.grab().isNull()
print(window.pages.count(), window.state.view.loaded.profile.total_calls)
window.close()
"""


@pytest.mark.parametrize("version", ["3.11", "3.12", "3.13"])
def test_it_is_installed_records_ranks_and_shows_its_pages(version, tmp_path):
    if version == f"{sys.version_info[0]}.{sys.version_info[1]}":
        pytest.skip(f"all other tests run on Python {version}")
    env = ENVIRONMENTS / version
    if not (env / "needed").is_file():
        pytest.skip(f"no environment with what Ricerca needs for Python {version} in {env}")
    python = str(env / "bin" / "python")
    source = copied_sources(tmp_path)
    words = ["-m", "pip", "install", "-q", "--disable-pip-version-check", "--no-deps", "--no-build-isolation", "--force-reinstall"]
    subprocess.run([python, *words, str(source)], check=True)
    (tmp_path / "p.py").write_text("def f(n):\n    return n\nprint(sum(f(n) for n in range(1000)))\n")

    def run(*words):
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        done = subprocess.run([python, *words], cwd=tmp_path, env=environment, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert run("-c", "import ricerca; print(ricerca.__file__)").startswith(str(env))
    assert run("-m", "ricerca.cli", "record", "--study", "s.ricerca", "p.py") == "499500\n"
    facts = json.loads(run("-m", "ricerca.cli", "rank", "s.ricerca", "--json"))
    assert facts["python"].startswith(version)
    assert facts["hook"] == ("profile" if version == "3.11" else "monitoring")
    assert {row["function"]: row["calls"] for row in facts["functions"]}["f"] == 1000
    pages, calls = map(int, run("-c", PAGES).split())
    assert pages >= 6
    assert calls == facts["calls"]
    run("-m", "ricerca.cli", "export", "s.ricerca", "--to", "report.html")
    assert Path(tmp_path, "report.html").stat().st_size > 10000
