"""The native part: the installed one, one compiled on first use, and what is said where there is none."""

from __future__ import annotations

import re
import sys
from dataclasses import replace
from importlib.machinery import EXTENSION_SUFFIXES

import pytest
from conftest import python_of

from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.runner import native


def test_the_own_interpreter_uses_the_installed_build():
    tag, path = native.native_setting(sys.executable).split("=")
    assert tag == EXTENSION_SUFFIXES[0]
    assert "_native" in path


def test_every_part_is_in_what_is_built():
    included = re.findall(r'#include "(\w+\.c)"', (native.SOURCES / "whole.c").read_text())
    assert sorted([*included, *native.UNITS]) == sorted(file.name for file in native.SOURCES.glob("*.c"))


@pytest.mark.parametrize("version", ["3.12"])
def test_others_are_compiled_once_and_kept(version, tmp_path, monkeypatch):
    python = python_of(version)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    first = native.native_for(python)
    assert first.startswith(str(tmp_path))
    monkeypatch.setenv("CC", "/no/compiler")
    assert native.native_for(python) == first


def test_an_interpreter_says_what_it_is():
    found = native.ask(sys.executable)
    assert found.version == sys.version_info[:3]
    assert found.tag == EXTENSION_SUFFIXES[0]
    assert not found.free_threaded


def test_a_version_that_is_too_old_is_named(monkeypatch):
    monkeypatch.setattr(native, "_is_own", lambda _python: False)
    monkeypatch.setattr(native, "OLDEST", (3, 20))
    with pytest.raises(InputError, match=r"cannot be recorded\. Use a Python 3\.20 or later"):
        native.native_for(sys.executable)


def test_a_missing_or_failing_compiler_is_said(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setenv("PATH", str(tmp_path))
    monkeypatch.delenv("CC", raising=False)
    found = native.ask(sys.executable)
    with pytest.raises(EnvironmentProblem, match="no C compiler"):
        native.compile_native(found)
    monkeypatch.setenv("CC", "/bin/false")
    with pytest.raises(EnvironmentProblem, match="could not be compiled"):
        native.compile_native(found)
    assert list((tmp_path / "ricerca" / "native").iterdir()) == []


@pytest.mark.parametrize("program", ["/bin/true", "/bin/cat", "/no/such"])
def test_what_is_no_python_is_refused(program):
    with pytest.raises(InputError, match="does not answer like a Python"):
        native.ask(program)


def test_a_free_threaded_build_is_refused_and_never_given_the_other_one(monkeypatch):
    own = native.ask(sys.executable)
    monkeypatch.setattr(native, "_is_own", lambda _python: False)
    monkeypatch.setattr(native, "ask", lambda _python: replace(own, version=(3, 13, 0), free_threaded=True))
    with pytest.raises(InputError, match=r"free-threaded build of Python 3\.13\.0, which cannot be recorded"):
        native.hook_setting(sys.executable)


def test_a_build_is_kept_under_what_its_interpreter_loads(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    folder = tmp_path / "ricerca" / "native"
    folder.mkdir(parents=True)
    mark = native._fingerprint()
    for tag in (".cpython-313-x86_64-linux-gnu.so", ".cpython-313t-x86_64-linux-gnu.so"):
        (folder / f"{mark}{tag}").touch()
    (folder / "0000000000000000.cpython-312-x86_64-linux-gnu.so").touch()
    assert set(native._cached()) == {".cpython-313-x86_64-linux-gnu.so", ".cpython-313t-x86_64-linux-gnu.so"}
