"""The core works with PyQt6 blocked."""

from __future__ import annotations

import subprocess
import sys

BLOCK = """
import sys
class Block:
    def find_spec(self, name, path=None, target=None):
        if name.split('.')[0] == 'PyQt6':
            raise ImportError('blocked: ' + name)
sys.meta_path.insert(0, Block())
"""


def test_core_records_ranks_and_compares_without_qt(tmp_path):
    (tmp_path / "p.py").write_text("def f(): pass\nfor _ in range(9): f()\n")
    code = BLOCK + (
        "import ricerca.engine.view, ricerca.report.export, ricerca.runner.selfcheck\n"
        "from pathlib import Path\n"
        "from ricerca.cli import main\n"
        "from ricerca.runner.program import describe\n"
        "from ricerca.runner.session import Plan, Session\n"
        "for _ in range(2):\n"
        "    Session(Plan(describe(['p.py'], None, None), Path('s.ricerca').absolute(), plain_runs=1)).run()\n"
        "main(['compare', 's.ricerca'], standalone_mode=False)\n"
        "assert 'PyQt6' not in sys.modules\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr
    assert "Round 2" in done.stdout


def test_recording_starts_without_loading_numpy(tmp_path):
    code = (
        "import sys, ricerca.cli, ricerca.runner.session, ricerca.study.store\n"
        "assert 'numpy' not in sys.modules and 'scipy' not in sys.modules and 'PyQt6' not in sys.modules\n"
    )
    subprocess.run([sys.executable, "-c", code], check=True, timeout=60)
