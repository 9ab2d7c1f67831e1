"""Which layer a function belongs to, told from where its code lies."""

from __future__ import annotations

import re
from collections.abc import Sequence

MINE, LIBRARY, PACKAGES, BUILTINS = "mine", "standard library", "packages", "builtins"

_PACKAGES = re.compile(r"/(site|dist)-packages/")
_LIBRARY = re.compile(r"/lib(64)?/python3(\.\d+)?/")


def _of_file(file: str, roots: Sequence[str]) -> str | None:
    """Layer of a source file; None for code without a file of its own."""
    if file.startswith("<frozen "):
        return LIBRARY
    if not file or file.startswith("<"):
        return None
    if _PACKAGES.search(file):
        return PACKAGES
    if _LIBRARY.search(file):
        return LIBRARY
    return MINE if any(file.startswith(root.rstrip("/") + "/") for root in roots) else PACKAGES


def layers_of(files: Sequence[str], modules: Sequence[str], builtin: Sequence[bool], roots: Sequence[str]) -> tuple[str, ...]:
    """Name of the layer of each function.

    Parameters
    ----------
    files, modules, builtin : sequences, one entry a function
    roots : sequence of str
        Folders of the person's own code.

    Notes
    -----
    Code made while running (no file) belongs where the rest of its module does, else to the person.

    >>> layers_of(["/a/x.py", "", "<string>"], ["x", "builtins", "x"], [False, True, False], ["/a"])
    ('mine', 'builtins', 'mine')
    """
    by_file = {file: _of_file(file, roots) for file in set(files)}
    by_module: dict[str, str] = {}
    for file, module in zip(files, modules, strict=True):
        layer = by_file[file]
        if layer is not None:
            by_module.setdefault(module, layer)
    return tuple(
        BUILTINS if is_builtin else by_file[file] or by_module.get(module, MINE)
        for file, module, is_builtin in zip(files, modules, builtin, strict=True)
    )
