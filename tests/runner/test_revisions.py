"""A revision is checked out beside the person's files, with what is not under version control linked, and gone afterwards."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from ricerca.model.errors import EnvironmentProblem, InputError
from ricerca.model.rounds import Subject
from ricerca.runner import revisions
from ricerca.runner.revisions import Checkout, Moved, checkout_of, revisions_of


@pytest.fixture
def copy(tmp_path):
    """A working copy of three commits, a side branch merged into it, an untracked file, and one that was changed since."""
    root = tmp_path / "copy"
    root.mkdir()

    def git(*words):
        env = {**os.environ, "GIT_AUTHOR_NAME": "a", "GIT_AUTHOR_EMAIL": "a@b", "GIT_COMMITTER_NAME": "a", "GIT_COMMITTER_EMAIL": "a@b"}
        return subprocess.run(["git", "-C", str(root), *words], check=True, capture_output=True, text=True, env=env).stdout.strip()

    git("init", "-q", "-b", "main")
    for number in (1, 2):
        (root / "p.py").write_text(f"print({number})\n")
        git("add", "p.py")
        git("commit", "-qm", str(number))
    git("checkout", "-qb", "side", "HEAD~1")
    (root / "side.py").write_text("")
    git("add", "side.py")
    git("commit", "-qm", "side")
    git("checkout", "-q", "main")
    git("merge", "-q", "--no-ff", "-m", "merged", "side")
    (root / "p.py").write_text("print('today')\n")
    (root / "data.csv").write_text("1,2")
    (root / "s.ricerca").write_text("a study")
    (root / "__pycache__").mkdir()
    (root / "__pycache__" / "p.pyc").write_text("")
    return root, git


def test_a_checkout_holds_the_revision_and_links_to_the_rest_and_goes_again(copy):
    root, git = copy
    hook = root / ".git" / "hooks" / "post-checkout"
    hook.write_text(f"#!/bin/sh\ntouch {root}/hooked\n")
    hook.chmod(0o755)
    with checkout_of(str(root), "HEAD~1") as moved:
        folder = Path(moved.folder)
        assert (folder / "p.py").read_text() == "print(2)\n"
        assert (folder / "data.csv").read_text() == "1,2"
        assert not (folder / "side.py").exists()
        assert not (folder / "s.ricerca").exists()
        assert not (folder / "__pycache__").exists()
        assert git("worktree", "list").count("\n") == 1
    assert not folder.exists()
    assert git("worktree", "list").count("\n") == 0
    assert (root / "p.py").read_text() == "print('today')\n"
    assert (root / "data.csv").exists()
    assert not (root / "hooked").exists()


def test_another_worktree_whose_folder_is_away_is_not_forgotten(copy, tmp_path):
    root, git = copy
    git("worktree", "add", "-q", "--detach", str(tmp_path / "other"))
    (tmp_path / "other").rename(tmp_path / "away")
    with checkout_of(str(root), "main"):
        pass
    assert str(tmp_path / "other") in git("worktree", "list")


def test_a_range_begins_with_its_first_revision_and_follows_the_main_line(copy):
    root, git = copy
    found = revisions_of(str(root / ".git" / ".."), "HEAD~2..HEAD")
    assert found == [git("rev-parse", f"--short={revisions.ABBREVIATED}", name) for name in ("HEAD~2", "HEAD~1", "HEAD")]


@pytest.mark.parametrize("between", ["HEAD", "HEAD..", "..HEAD", "HEAD...HEAD~1", "", "HEAD..HEAD", "HEAD..HEAD~1", "nobody..HEAD"])
def test_what_is_no_range_is_refused(copy, between):
    with pytest.raises(InputError):
        revisions_of(str(copy[0]), between)


@pytest.mark.parametrize("revision", ["nobody", "--output=x", "HEAD:p.py", ""])
def test_what_is_no_revision_is_refused(copy, revision):
    with pytest.raises(InputError, match="no revision"):
        checkout_of(str(copy[0]), revision)


def test_outside_of_a_working_copy_and_without_git_it_says_so(tmp_path, monkeypatch):
    with pytest.raises(InputError, match="does not lie in a git working copy"):
        checkout_of(str(tmp_path), "HEAD")
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(EnvironmentProblem, match="git could not be started"):
        checkout_of(str(tmp_path), "HEAD")


def test_a_revision_that_cannot_be_checked_out_says_why_and_leaves_nothing(copy):
    root, git = copy
    with pytest.raises(EnvironmentProblem, match="cannot be checked out"), Checkout(str(root), "0" * 40):
        pass
    assert git("worktree", "list").count("\n") == 0


def test_what_is_run_there_is_told_in_its_words_and_back():
    moved = Moved("/a/b", "/tmp/x")
    subject = Subject(
        "script", ("/a/b/p.py", "/a/bc", "in.csv"), "/a/b", "/nowhere/bin/python", (("D", "/a/b/d"),), ("/a/b", "/c"), input="/a/b/i"
    )
    there = moved.subject(subject)
    assert (there.program, there.cwd, there.roots) == (("/tmp/x/p.py", "/a/bc", "in.csv"), "/tmp/x", ("/tmp/x", "/c"))
    assert (there.env, there.input) == ((("D", "/tmp/x/d"),), "/tmp/x/i")
    for text in ("/a/b", "/a/b/p.py", "/c/d", "p.py", ""):
        assert moved.back(moved.there(text)) == text
    assert moved.ends == ("/tmp/x", "/a/b")
