"""Takes the recorder's own cost off the times of a run."""

from __future__ import annotations

import numpy as np

from ricerca.recording.layout import KIND_BUILTIN, KIND_PYTHON, KIND_REGION, KIND_THREAD
from ricerca.recording.model import RunTables

# The calibrated cost is trusted within these bounds; what plain runs ask for beyond them stays visible.
LEAST_SCALE, MOST_SCALE = 0.5, 2.0
STEPS = 24
BYTECODE = (KIND_PYTHON, KIND_THREAD, KIND_REGION)


def _entry_costs(tables: RunTables) -> np.ndarray:
    """Per context: what its own entries cost inside it, and the entries of its callees outside them."""
    facts = tables.facts
    builtin = tables.function_kind[tables.function] == KIND_BUILTIN
    entries = (tables.calls + tables.resumes) * (tables.function_kind[tables.function] <= KIND_THREAD).astype(np.float64)
    called = tables.parent >= 0
    from_builtin = called & builtin[tables.parent]
    kinds = [builtin, from_builtin]
    inside = entries * np.select(kinds, [facts.builtin_inside_ns, facts.callback_inside_ns], facts.python_inside_ns)
    outside = entries * np.select(kinds, [facts.builtin_outside_ns, facts.callback_outside_ns], facts.python_outside_ns)
    return inside + np.bincount(tables.parent[called], outside[called], minlength=len(tables.parent))


def _factors(tables: RunTables) -> np.ndarray:
    """Per context: how much slower its bytecode ran while it was recorded."""
    facts = tables.facts
    by_function = np.asarray(
        [
            (facts.names_factor if name == "<module>" else facts.bytecode_factor) if kind in BYTECODE else 1.0
            for kind, name in zip(tables.function_kind, tables.function_name, strict=True)
        ]
    )
    return np.maximum(by_function[tables.function], 1.0) if len(by_function) else np.ones(len(tables.parent))


def _deduct(tables: RunTables, costs: np.ndarray, factors: np.ndarray, scale: float) -> np.ndarray:
    """Self times left when the cost is scale times what calibration found.

    What is left of brief gaps in Python code is bytecode, which ran slower by a known factor. Long
    gaps may hold anything and only pay what the brief ones could not.
    """
    brief = np.minimum(tables.brief_ns, tables.self_ns)
    fixed = costs * scale
    long_left = np.maximum((tables.self_ns - brief) - np.maximum(fixed - brief, 0), 0)
    return long_left + np.maximum(brief - fixed, 0) / (1 + (factors - 1) * scale)


def compensate(tables: RunTables, plain_ns: int | None = None) -> tuple[np.ndarray, float]:
    """Self times with the recorder's own cost taken off, never below zero, and the scale of that cost.

    Calibration measures the cost on tiny loops, just before the program. Where plain runs tell what
    the program takes without the recorder, the cost is scaled (within bounds) so that the total
    agrees with them; shares then depend on the recording, the whole on the plain runs.

    Parameters
    ----------
    tables : RunTables
    plain_ns : int, optional
        Median time of plain runs of the same code.

    Returns
    -------
    self_ns : (n,) int64 array
    scale : float
        1 where calibration was taken as it is.
    """
    if not len(tables.parent):
        return np.zeros(0, np.int64), 1.0
    costs, factors = _entry_costs(tables), _factors(tables)
    scale = 1.0
    if plain_ns is not None and len(tables.thread_name) == 1:
        scale = _fitted(tables, costs, factors, plain_ns)
    left = _deduct(tables, costs, factors, scale)
    roots = tables.parent < 0
    left[roots] = tables.self_ns[roots]
    return np.rint(left).astype(np.int64), scale


def _fitted(tables: RunTables, costs: np.ndarray, factors: np.ndarray, plain_ns: int) -> float:
    """The scale at which the total meets the plain time; the total falls as the scale rises, so by halving."""
    low, high = LEAST_SCALE, MOST_SCALE
    for _ in range(STEPS):
        middle = (low + high) / 2
        if _deduct(tables, costs, factors, middle).sum() > plain_ns:
            low = middle
        else:
            high = middle
    return round((low + high) / 2, 4)
