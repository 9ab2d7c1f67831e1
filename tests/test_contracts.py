"""The arrows between the rooms point one way."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path


def test_import_contracts_are_kept():
    done = subprocess.run([Path(sys.executable).with_name("lint-imports")], cwd=Path(__file__).parents[1], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout
