"""Which layer a function belongs to, told from where its code lies."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from ricerca.model.marks import KIND_BUILTIN, KIND_CHILD, KIND_COLLECTION, KIND_IMPORT, KIND_PYTHON, KIND_REGION

MINE, LIBRARY, PACKAGES, BUILTINS = "mine", "standard library", "packages", "builtins"
IMPORTS, COLLECTION, PROGRAMS = "imports", "garbage collection", "programs"
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
    if None not in found or tree is None:
        return tuple(layer or MINE for layer in found)
    function, parent = tree
    first = np.full(len(found), -1, np.int64)
    first[function[::-1]] = np.arange(len(function) - 1, -1, -1)  # of several the last that is put there stays: the first context
    return tuple(layer or _above(found, int(first[number]), function, parent) for number, layer in enumerate(found))


def with_package(layers: Sequence[str], modules: Sequence[str], kinds: Sequence[int], package: str) -> tuple[str, ...]:
    """The layers, with a package as one's own where no Python function is.

    >>> with_package(["packages", "packages", "builtins"], ["tool.run", "other", "tool"], [1, 1, 2], "tool")
    ('mine', 'packages', 'builtins')
    """
    if any(layer == MINE and kind == KIND_PYTHON for layer, kind in zip(layers, kinds, strict=True)):
        return tuple(layers)
    inside = f"{package}."
    return tuple(
        MINE if kind == KIND_PYTHON and (module == package or module.startswith(inside)) else layer
        for layer, module, kind in zip(layers, modules, kinds, strict=True)
    )


def _above(layers: Sequence[str | None], context: int, function: np.ndarray, parent: np.ndarray) -> str:
    """Layer of the nearest code above a context that has a place of its own; -1 is no context."""
    context = int(parent[context]) if context >= 0 else -1
    while context >= 0:
        layer = layers[int(function[context])]
        if layer not in (None, BUILTINS, IMPORTS):
            return str(layer)
        context = int(parent[context])
    return MINE
