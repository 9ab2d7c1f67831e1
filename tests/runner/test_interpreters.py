"""Interpreters near a program, and what is recorded with where nothing can be compiled."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from conftest import python_of, ricerca

from ricerca.runner.interpreters import environments_near, installed_interpreters, offered


def environment(folder: Path) -> str:
    (folder / "bin").mkdir(parents=True)
    (folder / "pyvenv.cfg").write_text("home = /usr\n")
    python = folder / "bin" / "python"
    python.symlink_to(sys.executable)
    return str(python)


def test_environments_near_the_program_come_nearest_first(tmp_path, monkeypatch):
    monkeypatch.delenv("VIRTUAL_ENV", raising=False)
    project = tmp_path / "project" / "scripts"
    project.mkdir(parents=True)
    far, near = environment(tmp_path / "old-env"), environment(tmp_path / "project" / ".venv")
    (tmp_path / "project" / "no-env" / "bin").mkdir(parents=True)
    found = environments_near(project)
    assert found[:2] == [near, far]
    assert [path for path, where in offered(project) if "near" in where][:2] == [near, far]
    assert environments_near(tmp_path / "not there")[:1] in ([], [far])


def test_installed_interpreters_are_each_named_once():
    found = installed_interpreters()
    assert len(found) == len(set(found))
    assert all(Path(python).exists() for python in found)


def test_without_a_compiler_the_recorder_in_python_stands_in(tmp_path, monkeypatch):
    other = python_of("3.12")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setenv("CC", "/bin/false")
    (tmp_path / "program.py").write_text("def f(): pass\nfor _ in range(12): f()\n")
    done = ricerca("record", "--python", other, "--study", tmp_path / "s.ricerca", "program.py", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    facts = json.loads(ricerca("rank", tmp_path / "s.ricerca", "--json").stdout)
    assert facts["hook"] == "python"
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 12
