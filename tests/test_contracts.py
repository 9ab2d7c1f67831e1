"""The arrows between the rooms point one way."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path


def test_import_contracts_are_kept():
    done = subprocess.run([Path(sys.executable).with_name("lint-imports")], cwd=Path(__file__).parents[1], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_contracts_name_every_package():
    import tomllib

    root = Path(__file__).parents[1]
    contracts = tomllib.loads((root / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]["contracts"]
    named = {name.strip() for contract in contracts for part in ("layers", "source_modules", "forbidden_modules")
             for entry in contract.get(part, ()) for name in entry.split("|")}  # fmt: skip
    there = {
        f"ricerca.{path.stem}" for path in (root / "src" / "ricerca").iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()
    }
    assert there - {"ricerca.__init__"} <= named
