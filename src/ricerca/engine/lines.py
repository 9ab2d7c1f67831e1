"""Figures by line: time of the calls made from a line; self time and hits where a line run was made."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.engine.forest import not_nested
from ricerca.engine.profile import KIND_PYTHON, Profile, group_sums


@dataclass(frozen=True)
class LineFigures:
    """One entry for each (function, line). ``hits`` and ``self_ns`` are -1 where nobody followed lines."""

    function: np.ndarray
    line: np.ndarray
    hits: np.ndarray
    self_ns: np.ndarray
    call_ns: np.ndarray
    calls: np.ndarray

    def __len__(self) -> int:
        return len(self.function)

    def of(self, functions: np.ndarray) -> LineFigures:
        """Only the lines of some functions; functions is a (functions,) bool array."""
        rows = functions[self.function]
        return LineFigures(*(getattr(self, name)[rows] for name in ("function", "line", "hits", "self_ns", "call_ns", "calls")))

    @property
    def total_ns(self) -> np.ndarray:
        """Own time, where known, and the time of the calls made from the line."""
        return np.maximum(self.self_ns, 0) + self.call_ns


def line_figures(profile: Profile, followed: Profile | None = None) -> LineFigures:
    """All lines from which something was called or whose hits were recorded, the slowest first.

    Parameters
    ----------
    profile : Profile
    followed : Profile, optional
        A line run of the same code; the profile itself when left out. Its hits are taken as they
        are. Following lines costs much more than recording calls, so of its times only the
        proportions count: a function's own time is shared out among its lines by them.

    Notes
    -----
    A line's call time counts what it called once, also where the line recurs below itself.
    """
    source = followed or profile
    parent = profile.parent
    inner = np.flatnonzero((parent >= 0) & (profile.line > 0))
    owner = profile.function[parent[inner]]
    python = np.asarray(profile.functions.kind)[owner] == KIND_PYTHON
    inner, owner = inner[python], owner[python]
    width = int(max(profile.line.max(initial=0), source.line_number.max(initial=0))) + 1
    key = owner * width + profile.line[inner]
    group = np.full(len(profile), -1, np.int64)
    group[inner] = key
    once = not_nested(group, profile.end)[inner]
    own_function, rows = _own_functions(profile, source)
    hit_key = own_function * width + source.line_number[rows]
    keys, number = np.unique(np.concatenate((key, hit_key)), return_inverse=True)
    at, hit_at = number[: len(key)], number[len(key) :]
    call_ns = group_sums(at[once], profile.inclusive_ns[inner][once], len(keys))
    calls = group_sums(at, profile.calls[inner], len(keys))
    hits, self_ns = np.full(len(keys), -1, np.int64), np.full(len(keys), -1, np.int64)
    hits[hit_at] = source.line_hits[rows]
    self_ns[hit_at] = _shared_out(profile, own_function, source.line_self_ns[rows])
    order = np.argsort(-(np.maximum(self_ns, 0) + call_ns), kind="stable")
    keys = keys[order]
    return LineFigures(keys // width, keys % width, hits[order], self_ns[order], call_ns[order], calls[order])


def _own_functions(profile: Profile, source: Profile) -> tuple[np.ndarray, np.ndarray]:
    """For the followed lines of source: the function's number in profile, and the rows where it has one."""
    if source is profile:
        return profile.line_function.astype(np.int64), np.arange(len(profile.line_function))
    known = {key: number for number, key in enumerate(_identities(profile))}
    to_own = np.asarray([known.get(key, -1) for key in _identities(source)] or [-1], np.int64)
    function = to_own[source.line_function]
    rows = np.flatnonzero(function >= 0)
    return function[rows], rows


def _identities(profile: Profile) -> list[tuple[str, str, str, int]]:
    table = profile.functions
    return list(zip(table.module, table.name, table.file, map(int, table.first_line), strict=True))


def _shared_out(profile: Profile, function: np.ndarray, line_ns: np.ndarray) -> np.ndarray:
    """Each function's own time, shared out among its followed lines in proportion to line_ns."""
    count = len(profile.functions)
    own_ns = group_sums(profile.function, profile.self_ns, count)
    together = np.bincount(function, line_ns, minlength=count)
    return np.rint(line_ns * (own_ns[function] / np.maximum(together[function], 1))).astype(np.int64)
