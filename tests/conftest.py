"""Shared by all tests: a study made by the real recorder from a piece of text."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from forking import forked_commands

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@pytest.fixture(autouse=True)
def own_cache(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Recordings lie in a folder of the test's own; what is compiled is kept for all tests."""
    folder = tmp_path_factory.mktemp("cache")
    base = tmp_path_factory.getbasetemp()
    shared = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "native"
    shared.mkdir(exist_ok=True)
    (folder / "ricerca").mkdir()
    (folder / "ricerca" / "native").symlink_to(shared)
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder))
    return folder / "ricerca" / "recordings"


from ricerca.cli import main  # noqa: E402 - Qt is told first where to draw

RICERCA = [sys.executable, "-m", "ricerca.cli"]


def ricerca(*words: object, cwd: Path | None = None, text: bool = True, **options: Any) -> subprocess.CompletedProcess:
    """Run the real program from outside."""
    if text and not options:
        return forked_commands().run([str(word) for word in words], cwd or Path.cwd())
    return subprocess.run([*RICERCA, *map(str, words)], cwd=cwd, capture_output=True, text=text, timeout=400, **options)


class Counts:
    """What `rank --json` says of a program."""

    def __init__(self, facts: dict[str, Any]) -> None:
        self.facts = facts
        self.rows = {row["function"]: row for row in facts["functions"]}

    def calls(self, name: str) -> int:
        return self.rows[name]["calls"] if name in self.rows else 0

    def first(self, name: str) -> int:
        return self.rows[name]["first_entry_calls"]

    def resumes(self, name: str) -> int:
        return self.rows[name]["resumes"]

    def edge(self, caller: str, callee: str, line: int | None = None) -> int:
        return sum(
            edge["calls"]
            for edge in self.facts["edges"]
            if edge["caller"]["function"] == caller and edge["callee"]["function"] == callee and line in (None, edge["line"])
        )


Recorder = Callable[..., Counts]


def facts_of(study: Path, *options: str) -> dict[str, Any]:
    """What `rank --json` says of a study."""
    done = ricerca("rank", study, "--json", *options)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


VERSIONS = ("3.9", "3.10", "3.11", "3.12", "3.13")


def python_of(version: str) -> str:
    """Path of an interpreter of this version; skips the test where there is none."""
    if version == f"{sys.version_info[0]}.{sys.version_info[1]}":
        return sys.executable
    root = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv"), "versions")
    found = sorted(root.glob(f"{version}.*/bin/python{version}")) or [shutil.which(f"python{version}")]
    if not found[-1]:
        pytest.skip(f"no Python {version} on this machine")
    return str(found[-1])


@pytest.fixture(params=VERSIONS)
def interpreter(request: pytest.FixtureRequest) -> str:
    """Each interpreter that can be recorded, where it is there."""
    return python_of(request.param)


@pytest.fixture
def version(interpreter: str) -> tuple[int, int]:
    """Version of the interpreter."""
    major, minor = interpreter.rsplit("python", 1)[-1].split(".") if interpreter != sys.executable else sys.version_info[:2]
    return int(major), int(minor)


PACKAGES = Path(__file__).parents[1] / "build" / "packages"


@pytest.fixture
def packages(version: tuple[int, int]) -> str:
    """A folder with packages for the interpreter that is recorded, put there by the set-up; skips the test where there is none."""
    folder = PACKAGES / f"{version[0]}.{version[1]}"
    if not (folder / "greenlet").is_dir():
        pytest.skip(f"no packages for Python {version[0]}.{version[1]} in {folder}")
    return str(folder)


@pytest.fixture(params=["native", "python"])
def hook(request: pytest.FixtureRequest) -> str:
    """The recorder in C, and the one in Python that stands in for it."""
    return request.param


@pytest.fixture
def counted(tmp_path: Path, interpreter: str, hook: str) -> Recorder:
    """Records a program text with each interpreter and each kind of hook, and gives its counts."""

    def record(text: str, *options: str, arguments: tuple[str, ...] = ()) -> Counts:
        script = tmp_path / "program.py"
        script.write_text(text)
        study = tmp_path / "study.ricerca"
        study.unlink(missing_ok=True)
        words = ["record", "--hook", hook, "--python", interpreter, "--study", study, *options, "--", script, *arguments]
        done = forked_commands().run([str(word) for word in words], tmp_path)
        assert study.exists(), done.stderr
        # What is tested is the recorder: reading its counts needs no process of its own each time.
        ranked = CliRunner().invoke(main, ["rank", str(study), "--json", "--edges", "--lines"])
        assert ranked.exit_code == 0, ranked.output
        return Counts(json.loads(ranked.stdout))

    return record
