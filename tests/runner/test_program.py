"""From what a person names to what is started."""

from __future__ import annotations

import os
import sys

import pytest

from ricerca.model.errors import InputError
from ricerca.runner.program import command_of, describe
from ricerca.runner.sources import gather, revision


def test_a_script_runs_with_the_own_interpreter_unless_another_is_named(tmp_path):
    (tmp_path / "a b.py").touch()
    subject = describe(["a b.py", "x"], str(tmp_path), None)
    assert (subject.kind, subject.python) == ("script", sys.executable)
    assert command_of(subject) == [sys.executable, "a b.py", "x"]
    assert str(tmp_path) in subject.roots
    assert describe(["a b.py"], str(tmp_path), "/bin/sh").python == "/bin/sh"


def test_a_folder_with_a_main_module_is_a_script(tmp_path):
    (tmp_path / "app").mkdir()
    with pytest.raises(InputError):
        describe(["app"], str(tmp_path), None)
    (tmp_path / "app" / "__main__.py").touch()
    assert describe(["app"], str(tmp_path), None).kind == "script"


def test_a_module_is_started_with_m(tmp_path):
    subject = describe(["-m", "json.tool", "--help"], str(tmp_path), None)
    assert command_of(subject) == [sys.executable, "-m", "json.tool", "--help"]


def test_a_script_without_suffix_brings_its_interpreter(tmp_path):
    tool = tmp_path / "tool"
    tool.write_text(f"#!/usr/bin/env {os.path.basename(sys.executable)}\n")
    subject = describe(["tool"], str(tmp_path), None)
    assert subject.kind == "script"
    assert os.path.basename(subject.python).startswith("python")
    tool.write_text("#!/bin/sh\n")
    with pytest.raises(InputError, match="not a Python program"):
        describe(["tool"], str(tmp_path), None)


def test_equal_subjects_are_equal(tmp_path):
    (tmp_path / "p.py").touch()
    assert describe(["p.py"], str(tmp_path), None) == describe(["p.py"], str(tmp_path), None)
    assert describe(["p.py"], str(tmp_path), None) != describe(["p.py"], str(tmp_path), None, inside=["f"])


def test_sources_that_are_no_files_are_passed_over(tmp_path):
    (tmp_path / "x.py").write_text("x")
    found = gather(["x.py", "<string>", "", "gone.py", str(tmp_path), "nul\0"], str(tmp_path))
    assert found == {"x.py": b"x"}


def test_revision_is_empty_outside_version_control(tmp_path):
    assert revision(str(tmp_path)) == ""
    assert revision("/no/such/folder") == ""
