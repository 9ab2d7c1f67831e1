"""Languages of what runs. Of what kind a function is (builtin, import, …) is told apart from the language it is written in."""

from __future__ import annotations

PYTHON, BASH, ZSH = "Python", "bash", "zsh"
SHELLS = (BASH, ZSH)
