"""Takes the recorder's own cost off the times of a run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ricerca.model.languages import PYTHON
from ricerca.model.marks import KIND_BUILTIN, KIND_PYTHON, KIND_REGION, KIND_THREAD
from ricerca.model.run_tables import RunTables

# The calibrated cost is trusted within these bounds; what plain runs ask for beyond them stays visible.
LEAST_SCALE, MOST_SCALE = 0.5, 2.0
STEPS, TRIALS, SPEEDS = 24, 17, 13
LEAST_SLOWER, MOST_SLOWER = 0.05, 3.0
SURE_FIXED, SURE_WATCHED, SURE_SLOWER, SURE_SPEED, SURE_TOTAL = 0.12, 0.07, 0.4, 0.25, 0.02
LEAST_SWING, MOST_SLOWED = 1.02, 1.8
MOST_LOOKUPS = 1.5
BYTECODE = (KIND_PYTHON, KIND_THREAD, KIND_REGION)


def _entry_costs(tables: RunTables) -> np.ndarray:
    """Per context: what its own entries cost inside it, and the entries of its callees outside them.

    Calibration takes milliseconds, on a machine whose speed may change; how fast the hook worked in
    the program itself tells what its cost was there.
    """
    facts = tables.facts
    builtin = tables.function_kind[tables.function] == KIND_BUILTIN
    watched = (tables.function_kind <= KIND_THREAD) & _is_python(tables)
    entries = (tables.calls + tables.resumes) * watched[tables.function].astype(np.float64)
    called = tables.parent >= 0
    from_builtin = called & builtin[tables.parent]
    kinds = [builtin, from_builtin]
    entries *= np.where(builtin, facts.builtin_slowness, facts.python_slowness)
    inside = entries * np.select(kinds, [facts.builtin_inside_ns, facts.callback_inside_ns], facts.python_inside_ns)
    outside = entries * np.select(kinds, [facts.builtin_outside_ns, facts.callback_outside_ns], facts.python_outside_ns)
    return inside + np.bincount(tables.parent[called], outside[called], minlength=len(tables.parent)) + tables.known_cost_ns


def _is_python(tables: RunTables) -> np.ndarray:
    """Which functions are Python's: calibration knows the cost of theirs alone."""
    if not tables.function_language:
        return np.ones(len(tables.function_name), bool)
    return np.asarray([language == PYTHON for language in tables.function_language], bool)


def _factors(tables: RunTables) -> np.ndarray:
    """Per context: how much slower its bytecode ran while it was recorded."""
    facts, count = tables.facts, len(tables.function_name)
    base = np.asarray(
        [
            (facts.names_factor if name == "<module>" else facts.bytecode_factor) if python and kind in BYTECODE else 1.0
            for kind, name, python in zip(tables.function_kind, tables.function_name, _is_python(tables), strict=True)
        ]
    )
    if facts.lookup_share > 0 and len(tables.function_lookups) == count:
        # Look-ups lose more than arithmetic does: by their share in a function's loops.
        more = np.clip(tables.function_lookups / facts.lookup_share, 0, MOST_LOOKUPS) * (facts.lookup_factor - facts.bytecode_factor)
        base = np.where(np.isin(tables.function_kind, BYTECODE) & _is_python(tables), base + more, base)
    return np.maximum(base[tables.function], 1.0) if count else np.ones(len(tables.parent))


def _light(tables: RunTables) -> np.ndarray:
    """Per context: the share of its long gaps that is bytecode, as far as anybody looked."""
    if len(tables.function_light) != len(tables.function_name) or not len(tables.function_name):
        return np.zeros(len(tables.parent))
    return np.maximum(tables.function_light[tables.function], 0) / 1000


@dataclass(frozen=True)
class _Cost:
    """What recording a run cost, by context: fixed ns, bytecode factor, share of bytecode in long gaps."""

    self_ns: np.ndarray
    brief_ns: np.ndarray
    fixed_ns: np.ndarray
    factor: np.ndarray
    light: np.ndarray

    def left(self, fixed: float, slower: float) -> np.ndarray:
        """Self times left when fixed costs and the slowness of bytecode are so many times what calibration found.

        What is left of brief gaps in Python code is bytecode, which ran slower by a known factor. Long
        gaps may hold anything; they pay what the brief ones could not, and as much of them as was seen
        to be bytecode is taken to have been slower as well.
        """
        costs, factor = self.fixed_ns * fixed, 1 + (self.factor - 1) * slower
        long_ns = np.maximum(self.self_ns - self.brief_ns - np.maximum(costs - self.brief_ns, 0), 0)
        return long_ns * (1 - self.light + self.light / factor) + np.maximum(self.brief_ns - costs, 0) / factor

    def by_function(self, function: np.ndarray, count: int) -> _Cost:
        """The same put together by function, for quick trials."""
        self_ns = np.bincount(function, self.self_ns, count)
        weight = np.maximum(self_ns, 1e-9)
        return _Cost(
            self_ns,
            np.bincount(function, self.brief_ns, count),
            np.bincount(function, self.fixed_ns, count),
            np.maximum(np.bincount(function, self.factor * self.self_ns, count) / weight, 1.0),
            np.bincount(function, self.light * self.self_ns, count) / weight,
        )


def compensate(tables: RunTables, plain_ns: int | None = None, swing: float = MOST_SLOWED) -> tuple[np.ndarray, float, float]:
    """Self times with the recorder's own cost taken off, never below zero, the scale of that cost, and the machine's slowness.

    Calibration measures the cost on tiny loops, just before the program. Where plain runs tell what
    the program takes without the recorder, the cost is scaled (within bounds) so that the total
    agrees with them; shares then depend on the recording, the whole on the plain runs.

    Parameters
    ----------
    tables : RunTables
    plain_ns : int, optional
        Median time of plain runs of the same code.
    swing : float
        How many times as long the slowest plain run took as the quickest: by no more can the machine have been slower
        while it recorded.

    Returns
    -------
    self_ns : (n,) int64 array
    scale : float
        Of the fixed cost; 1 where calibration was taken as it is.
    slowness : float
        How much slower the machine was than during the plain runs; it is deducted too.
    """
    if not len(tables.parent):
        return np.zeros(0, np.int64), 1.0, 1.0
    waits = np.minimum(tables.waiting_ns, tables.self_ns)  # takes as long on any machine, watched or not
    ran = tables.self_ns - waits
    cost = _Cost(ran, np.minimum(tables.brief_ns, ran), _entry_costs(tables), _factors(tables), _light(tables))
    fixed = slower = speed = 1.0
    if plain_ns is not None and len(tables.thread_name) == 1:
        quick = cost.by_function(tables.function, len(tables.function_name))
        most = min(max(swing, LEAST_SWING), MOST_SLOWED)
        target = max(plain_ns - int(waits.sum()), plain_ns // 100)
        fixed, slower, speed = _fitted(cost, quick, target, tables.facts.python_slowness != 1.0, most)
    left = cost.left(fixed, slower) / speed + waits
    roots = tables.parent < 0
    left[roots] = tables.self_ns[roots]
    return np.rint(left).astype(np.int64), round(fixed, 4), round(speed, 4)


def _solved(total: Callable[[float], float], wanted: float, low: float, high: float) -> float:
    """Where a falling total meets what is wanted, by halving; the nearer bound where it does not."""
    for _ in range(STEPS):
        middle = (low + high) / 2
        low, high = (middle, high) if total(middle) > wanted else (low, middle)
    return (low + high) / 2


def _fitted(cost: _Cost, quick: _Cost, plain_ns: int, watched: bool, most_slowed: float) -> tuple[float, float, float]:
    """What makes the total the plain one: times the calibrated cost, times the slowness of bytecode, slowness of all.

    One equation for three unknowns: of all that solve it the least unlikely is taken. Calibration is
    surer of the fixed cost than of bytecode, which differs from loop to loop; and the machine itself
    may have been slower (recorder and program alike) during the recorded run than during the plain ones.
    A cost that was watched in the run itself is surer still, and is that of the machine as it was then.
    """
    sure = SURE_WATCHED if watched else SURE_FIXED
    best, least = (1.0, 1.0, 1.0), np.inf
    plain = max(plain_ns, 1)
    for speed in np.geomspace(1.0, most_slowed, SPEEDS):
        for own in np.geomspace(LEAST_SCALE, MOST_SCALE, TRIALS):
            fixed = own if watched else own * speed
            if fixed > MOST_SCALE * 1.0001:
                break
            slower = _slower(quick, fixed, plain * speed)
            missed = float(quick.left(fixed, slower).sum()) / (plain * speed) - 1
            parts = (np.log(own) / sure, np.log(slower) / SURE_SLOWER, np.log(speed) / SURE_SPEED, missed / SURE_TOTAL)
            unlikely = sum(part * part for part in parts)
            if unlikely < least:
                best, least = (float(fixed), slower, float(speed)), unlikely
    return _exactly(cost, best, plain)


def _slower(quick: _Cost, fixed: float, wanted: float) -> float:
    """The slowness of bytecode that gives the wanted total; 1 where there is hardly any bytecode."""
    low, high = (float(quick.left(fixed, end).sum()) for end in (MOST_SLOWER, LEAST_SLOWER))
    if high - low < wanted / 1000:
        return 1.0
    if not low < wanted < high:
        return LEAST_SLOWER if wanted >= high else MOST_SLOWER
    return _solved(lambda value: float(quick.left(fixed, value).sum()), wanted, LEAST_SLOWER, MOST_SLOWER)


def _exactly(cost: _Cost, best: tuple[float, float, float], plain: float) -> tuple[float, float, float]:
    """The same for all contexts one by one, whose costs cannot be put together exactly."""
    wanted = plain * best[2]

    def total(step: float) -> float:
        return float(cost.left(best[0] * step, best[1] * step).sum())

    step = _solved(total, wanted, LEAST_SCALE / best[0], MOST_SCALE / best[0])
    fixed = best[0] * step
    # Where the bounds of the fixed cost kept the total away from the plain one, the rest is bytecode's.
    bounds = sorted((best[1] * step, MOST_SLOWER if total(step) > wanted else 0.0))
    return fixed, _solved(lambda slower: float(cost.left(fixed, slower).sum()), wanted, *bounds), best[2]
