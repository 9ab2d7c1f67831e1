"""Languages of what runs. Of what kind a function is (builtin, import, …) is told apart from the language it is written in."""

from __future__ import annotations

PYTHON, BASH, ZSH = "Python", "bash", "zsh"
SHELLS = (BASH, ZSH)
GROWING = (".bash", ".zsh", ".events")
"""Ends of the names of what shells and writers write, as much as they like."""
FULL = ".full"
"""Added to the name of such a file: a file that says that it was cut at its limit."""
