"""Layers of the person's own: groups of code by name or by folder, kept as TOML."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase

from ricerca.engine.layers import LAYERS, MINE, PACKAGES
from ricerca.engine.levels import owner_of
from ricerca.model.errors import InputError

CLAIMED = (MINE, PACKAGES)
"""Layers found by themselves to which a person may add: what is mine after all, and what is not."""
PALETTE = ("#a3472c", "#5b6fb0", "#8a6d1c", "#2f7d5b", "#94408a", "#4f7a94")


@dataclass(frozen=True)
class OwnLayer:
    """A group of code. A pattern with a slash is a folder or file, else a name: a prefix of parts, * and ? allowed."""

    name: str
    patterns: tuple[str, ...]
    colour: str = PALETTE[0]

    def pattern_for(self, module: str, name: str, file: str) -> str | None:
        """The pattern by which a function belongs here, None where it does not.

        >>> OwnLayer("numbers", ("scipy", "numpy")).pattern_for("numpy.linalg", "solve", "/x/numpy/linalg.py")
        'numpy'
        """
        full = f"{module}.{name}"
        for pattern in self.patterns:
            if "/" in pattern:
                held = fnmatchcase(file, pattern) or file.startswith(pattern.rstrip("/*") + "/")
            else:
                held = fnmatchcase(full, pattern) or fnmatchcase(module, pattern) or full.startswith(pattern + ".")
            if held:
                return pattern
        return None


def with_own_layers(
    layers: Sequence[str], own: Sequence[OwnLayer], modules: Sequence[str], names: Sequence[str], files: Sequence[str]
) -> tuple[str, ...]:
    """The layer of each function, the person's own before those found by themselves; the first that holds it wins."""
    if not own:
        return tuple(layers)
    return tuple(
        next((mine.name for mine in own if mine.pattern_for(module, name, file) is not None), layer)
        for layer, module, name, file in zip(layers, modules, names, files, strict=True)
    )


def added(own: Sequence[OwnLayer], name: str, pattern: str) -> tuple[OwnLayer, ...]:
    """The layers with one more pattern in the layer of this name, which is made where it is not there.

    Raises
    ------
    InputError
        The name is empty or that of a layer found by itself, or the pattern is empty.
    """
    name, pattern = name.strip(), pattern.strip()
    if not name or not pattern:
        raise InputError("A layer needs a name and a pattern.")
    if name in LAYERS and name not in CLAIMED:
        raise InputError(f"“{name}” is the name of a layer that is found by itself.", "Choose another name.")
    if name in [layer.name for layer in own]:
        return tuple(OwnLayer(layer.name, (*layer.patterns, pattern), layer.colour) if layer.name == name else layer for layer in own)
    return (*own, OwnLayer(name, (pattern,), PALETTE[len(own) % len(PALETTE)]))


def claimed(own: Sequence[OwnLayer], pattern: str, mine: bool) -> tuple[OwnLayer, ...]:
    """The layers with what a pattern holds as the person's own code, or as not theirs; the latest word counts.

    >>> [(one.name, one.patterns) for one in claimed(claimed((), "tides", True), "tides", False)]
    [('packages', ('tides',))]
    """
    name = MINE if mine else PACKAGES
    rest = [
        replace(layer, patterns=tuple(part for part in layer.patterns if part != pattern)) if layer.name in CLAIMED else layer
        for layer in own
    ]
    patterns = (pattern, *next((layer.patterns for layer in rest if layer.name == name), ()))
    return (OwnLayer(name, patterns), *(layer for layer in rest if layer.name != name and layer.patterns))


def reshaped(own: Sequence[OwnLayer], name: str, before: str, after: str) -> tuple[OwnLayer, ...]:
    """The layers with one pattern of a layer made broader or narrower; equal ones become one.

    >>> reshaped([OwnLayer("numbers", ("numpy.linalg", "scipy"))], "numbers", "numpy.linalg", "numpy")[0].patterns
    ('numpy', 'scipy')
    """
    return tuple(
        replace(layer, patterns=tuple(dict.fromkeys(after if part == before else part for part in layer.patterns)))
        if layer.name == name
        else layer
        for layer in own
    )


def changed(own: Sequence[OwnLayer], name: str, new: OwnLayer) -> tuple[OwnLayer, ...]:
    """The layers with the one of this name replaced.

    Raises
    ------
    InputError
        The new one has no name or pattern, a name that is taken, or a colour that is none.
    """
    taken = [layer.name for layer in own if layer.name != name] + [found for found in LAYERS if found != name]
    if not new.name or not new.patterns or new.name in taken:
        raise InputError(f"A layer needs a name of its own and a pattern; “{new.name}” cannot be used.")
    if not re.fullmatch("#[0-9a-fA-F]{6}", new.colour):
        raise InputError(f"{new.colour!r} is no colour.", 'Write it like "#2f7d5b".')
    return tuple(new if layer.name == name else layer for layer in own)


def patterns_of(module: str, name: str, file: str) -> list[tuple[str, str]]:
    """What a function could be put in a layer by, from narrow to broad: words and pattern.

    >>> [pattern for _words, pattern in patterns_of("a.b", "C.run", "/x/a/b.py")]
    ['a.b.C.run', 'a.b.C', 'a.b', 'a', '/x/a']
    """
    home = module or "builtins"
    found = [("the function", f"{module}.{name}" if module else name)]
    if owner_of(name) and module:
        found.append(("the class", f"{module}.{owner_of(name)}"))
    parts = home.split(".")
    found += [("the module" if size == len(parts) else "the package", ".".join(parts[:size])) for size in range(len(parts), 0, -1)]
    folder = file.rpartition("/")[0]
    if folder and not file.startswith("<"):
        found.append(("the folder", folder))
    return found


def to_toml(own: Sequence[OwnLayer]) -> str:
    """The layers as TOML."""
    parts = []
    for layer in own:
        patterns = ", ".join(json.dumps(pattern, ensure_ascii=False) for pattern in layer.patterns)
        quoted = json.dumps(layer.name, ensure_ascii=False)
        parts.append(f"[[layer]]\nname = {quoted}\ncolour = {json.dumps(layer.colour)}\npatterns = [{patterns}]\n")
    return "\n".join(parts)


def from_toml(text: str) -> tuple[OwnLayer, ...]:
    """Layers from TOML.

    Raises
    ------
    InputError
        It is not TOML, or no list of layers.

    >>> from_toml(to_toml([OwnLayer("numbers", ("numpy", "scipy"))]))[0].patterns
    ('numpy', 'scipy')
    """
    try:
        rows = tomllib.loads(text).get("layer", [])
        found = []
        for at, row in enumerate(rows):
            colour = str(row.get("colour", PALETTE[at % len(PALETTE)]))
            found.append(OwnLayer(str(row["name"]), tuple(str(pattern) for pattern in row["patterns"]), colour))
    except (tomllib.TOMLDecodeError, KeyError, TypeError, AttributeError) as problem:
        raise InputError(f"This is no list of layers ({problem}).", "See docs/formats.md for an example.") from None
    return tuple(found)
