"""Which layer a function belongs to, told from where its code lies."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from ricerca.recording.layout import KIND_BUILTIN, KIND_CHILD, KIND_COLLECTION, KIND_IMPORT, KIND_REGION

MINE, LIBRARY, PACKAGES, BUILTINS = "mine", "standard library", "packages", "builtins"
IMPORTS, COLLECTION, PROGRAMS = "imports", "garbage collection", "other programs"
LAYERS = (MINE, LIBRARY, PACKAGES, BUILTINS, IMPORTS, COLLECTION, PROGRAMS)
_OF_KIND = {KIND_BUILTIN: BUILTINS, KIND_IMPORT: IMPORTS, KIND_COLLECTION: COLLECTION, KIND_REGION: MINE, KIND_CHILD: PROGRAMS}

_PACKAGES = re.compile(r"/(site|dist)-packages/")
_LIBRARY = re.compile(r"/lib(64)?/python3(\.\d+)?/")


def is_machinery(file: str) -> bool:
    """Whether a file is part of the interpreter's own machinery of imports.

    >>> is_machinery("<frozen importlib._bootstrap>")
    True
    """
    return file.startswith(("<frozen importlib.", "<frozen zipimport"))


def _of_file(file: str, roots: Sequence[str]) -> str | None:
    """Layer of a source file; None for code without a file of its own."""
    if is_machinery(file):
        return IMPORTS
    if file.startswith("<frozen "):
        return LIBRARY
    if not file or file.startswith("<"):
        return None
    if _PACKAGES.search(file):
        return PACKAGES
    if _LIBRARY.search(file):
        return LIBRARY
    return MINE if any(file.startswith(root.rstrip("/") + "/") for root in roots) else PACKAGES


def layers_of(
    files: Sequence[str],
    modules: Sequence[str],
    kinds: Sequence[int],
    roots: Sequence[str],
    tree: tuple[np.ndarray, np.ndarray] | None = None,
) -> tuple[str, ...]:
    """Name of the layer of each function.

    Parameters
    ----------
    files, modules, kinds : sequences, one entry a function
    roots : sequence of str
        Folders of the person's own code.
    tree : (function, parent), each (n,) int array, optional
        The contexts, parents before their children.

    Notes
    -----
    Code made while running (no file) belongs where the rest of its module does, else where it was
    first called from, else to the person.

    >>> layers_of(["/a/x.py", "", "<string>"], ["x", "builtins", "x"], [1, 2, 1], ["/a"])
    ('mine', 'builtins', 'mine')
    """
    by_file = {file: _of_file(file, roots) for file in set(files)}
    by_module: dict[str, str] = {}
    for file, module in zip(files, modules, strict=True):
        layer = by_file[file]
        if layer is not None:
            by_module.setdefault(module, layer)
    found = [
        _OF_KIND.get(int(kind)) or by_file[file] or by_module.get(module) for file, module, kind in zip(files, modules, kinds, strict=True)
    ]
    homeless = [number for number, layer in enumerate(found) if layer is None]
    homes = {number: _first_caller(found, number, *tree) if tree is not None else MINE for number in homeless}
    return tuple(layer or homes[number] for number, layer in enumerate(found))


def _first_caller(layers: Sequence[str | None], number: int, function: np.ndarray, parent: np.ndarray) -> str:
    """Layer of the nearest code above a function's first context that has a place of its own."""
    rows = np.flatnonzero(function == number)
    context = int(parent[rows[0]]) if len(rows) else -1
    while context >= 0:
        layer = layers[int(function[context])]
        if layer not in (None, BUILTINS, IMPORTS):
            return str(layer)
        context = int(parent[context])
    return MINE
