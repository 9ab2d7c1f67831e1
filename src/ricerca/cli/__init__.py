"""The command line: the same work as in the window, and the contract for scripts and build servers.

A command is its options and a few calls. What the options mean is in ``options.py``, what is said in ``report``.
"""

from ricerca.cli import cases, checking, keeping, reading, recording, snippets
from ricerca.cli.group import main

__all__ = ["cases", "checking", "keeping", "main", "reading", "recording", "snippets"]
