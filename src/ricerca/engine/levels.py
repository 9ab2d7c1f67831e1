"""The same profile by class, module or package instead of by function."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.engine.profile import KIND_BUILTIN, KIND_PYTHON, FunctionTable, Profile, group_sums
from ricerca.engine.reducing import keep

FUNCTION, CLASS, MODULE, PACKAGE = "function", "class", "module", "package"
LEVELS = (FUNCTION, CLASS, MODULE, PACKAGE)


def owner_of(name: str) -> str:
    """The class, or nested classes, that a qualified name belongs to; empty for a plain function.

    >>> owner_of("Station.fit.<locals>.inner"), owner_of("fit.<locals>.inner")
    ('Station', '')
    """
    return name.split(".<locals>", 1)[0].rpartition(".")[0]


def group_name(level: str, kind: int, module: str, name: str) -> str:
    """What a function belongs to at a level; an item of another kind stands for itself.

    >>> group_name("class", 1, "harmonics", "Station.fit.<locals>.inner")
    'Station'
    >>> group_name("package", 1, "numpy.linalg._linalg", "solve")
    'numpy'
    """
    if kind not in (KIND_PYTHON, KIND_BUILTIN):
        return name
    if level == PACKAGE:
        return module.partition(".")[0] or "builtins"
    if level == MODULE:
        return module or "builtins"
    return owner_of(name) or module or "builtins"


def group_numbers(table: FunctionTable, level: str) -> np.ndarray:
    """Row of each function's group in the table that ``at_level`` makes; (functions,) int array."""
    return np.arange(len(table)) if level == FUNCTION else _groups(table, level)[0]


def _groups(table: FunctionTable, level: str) -> tuple[np.ndarray, dict[tuple[str, str], int], list[int]]:
    """Number of each function's group; of each group its number by scope and name, and its first function."""
    keys: dict[tuple[str, str], int] = {}
    members: list[int] = []
    number = np.empty(len(table), np.int64)
    for row, (kind, module, name) in enumerate(zip(table.kind.tolist(), table.module, table.name, strict=True)):
        scope = module if level == CLASS else ""
        key = (scope, group_name(level, kind, module, name))
        if key not in keys:
            members.append(row)
        number[row] = keys.setdefault(key, len(keys))
    return number, keys, members


def at_level(profile: Profile, level: str) -> Profile:
    """Put functions together; calls within a group are not calls of the group, times are conserved."""
    if level == FUNCTION:
        return profile
    table = profile.functions
    number, keys, members = _groups(table, level)
    groups = FunctionTable(
        kind=np.asarray(table.kind)[members],
        name=tuple(name for _scope, name in keys),
        module=tuple(table.module[row] for row in members),
        file=tuple(table.file[row] if level != PACKAGE else "" for row in members),
        first_line=np.where(np.asarray(table.first_line)[members] > 0, 1, 0),
        layer=tuple(table.layer[row] for row in members),
    )
    function = number[profile.function]
    inner = (profile.parent >= 0) & (function == function[profile.parent])
    overflow: dict[str, Any] = {
        name: group_sums(number, getattr(profile, name), len(keys)) for name in ("overflow_calls", "overflow_resumes")
    }
    line_function = number[profile.line_function] if len(profile.line_function) else profile.line_function
    grouped = replace(profile, functions=groups, function=function, line_function=line_function, doubts=None, **overflow)
    return keep(grouped, ~inner, charged=True)
