"""Figures by line: time of the calls made from a line; own time and hits where a line run was made."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.engine.profile import KIND_PYTHON, Profile, not_nested


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

    @property
    def total_ns(self) -> np.ndarray:
        """Own time, where known, and the time of the calls made from the line."""
        return np.maximum(self.self_ns, 0) + self.call_ns


def line_figures(profile: Profile) -> LineFigures:
    """All lines from which something was called or whose hits were recorded, the dearest first.

    A line's call time counts what it called once, also where the line recurs below itself.
    """
    parent = profile.parent
    inner = np.flatnonzero((parent >= 0) & (profile.line > 0))
    owner = profile.function[parent[inner]]
    python = np.asarray(profile.functions.kind)[owner] == KIND_PYTHON
    inner, owner = inner[python], owner[python]
    width = int(max(profile.line.max(initial=0), profile.line_number.max(initial=0))) + 1
    key = owner * width + profile.line[inner]
    group = np.zeros(len(profile), np.int64)
    group[inner] = key + 1
    _, number = np.unique(group, return_inverse=True)
    once = not_nested(number, profile.end)[inner]
    followed = profile.line_function.astype(np.int64) * width + profile.line_number
    keys = np.unique(np.concatenate((key, followed)))
    call_ns, calls = np.zeros(len(keys), np.int64), np.zeros(len(keys), np.int64)
    at = np.searchsorted(keys, key)
    np.add.at(call_ns, at[once], profile.inclusive_ns[inner][once])
    np.add.at(calls, at, profile.calls[inner])
    hits, self_ns = np.full(len(keys), -1, np.int64), np.full(len(keys), -1, np.int64)
    at = np.searchsorted(keys, followed)
    hits[at], self_ns[at] = profile.line_hits, profile.line_self_ns
    order = np.argsort(-(np.maximum(self_ns, 0) + call_ns), kind="stable")
    keys = keys[order]
    return LineFigures(keys // width, keys % width, hits[order], self_ns[order], call_ns[order], calls[order])
