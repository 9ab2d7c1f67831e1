"""Brings a recorded run into agreement with runs that disturbed the program less.

A sparse run times whole calls of a few functions and nothing else. Its chains of timed functions are the *regions*
of a run: each context belongs to the nearest timed call above it. What a region took when nobody watched is known from
the sparse runs; how it is shared out among the contexts in it, from the recorded one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ricerca.engine.forest import sums_to_root
from ricerca.model.marks import KIND_BUILTIN, KIND_PYTHON
from ricerca.model.run_tables import RunTables

# How far the share of a context within its region may be off (half the width of a 95 % interval): of its compensated
# time, and of what was taken off as the recorder's own. Found with blocks of known time; see bench/truth.py.
OF_TIME, OF_COST, OF_LONG, OF_WAITING = 0.10, 0.25, 0.04, 0.002
LONG_NS = 50_000
"""A builtin whose calls take this long on average is hardly disturbed by being watched."""
LEAST_LEFT = 0.1
LEAST_COST_SCALE, MOST_COST_SCALE, SURE_COST = 0.3, 2.5, 0.25
MATTERS = 0.005
DEEP = 300
"""Levels of the recursion that calibration tries."""
MOST_RATIO = 2.0
LEAST_RUNS = 2

Key = tuple[int, str, str]


@dataclass(frozen=True)
class Agreement:
    """By context: ``self_ns``, ``region``, and ``spread_ns``, half the width of what its share of the region may be off by.

    By region: ``known`` says whether its time is known from runs that hardly disturbed it, ``relative`` half the width of
    that time's 95 % interval as a share of it. By function: ``inclusive``, the same of its inclusive time, NaN for those
    that sparse runs did not time.
    """

    self_ns: np.ndarray
    region: np.ndarray
    spread_ns: np.ndarray
    known: np.ndarray
    relative: np.ndarray
    inclusive: np.ndarray


def plain_name(qualified: str) -> str:
    """A function's own name without those of what it lies in.

    >>> plain_name("outer.<locals>.<lambda>"), plain_name("Row.total")
    ('<lambda>', 'total')
    """
    return qualified.rpartition(".")[2]


def _keys(tables: RunTables) -> list[Key | None]:
    """What tells functions apart in all runs: first line, plain name, file; None for what is not Python code."""
    return [
        (int(line), plain_name(name), file) if kind == KIND_PYTHON else None
        for kind, name, file, line in zip(
            tables.function_kind.tolist(), tables.function_name, tables.function_file, tables.function_line.tolist(), strict=True
        )
    ]


class _Regions:
    """The tree of chains of timed functions, shared by all runs. Region 0 is what no timed call encloses."""

    def __init__(self) -> None:
        self.parent = [-1]
        self.key: list[Key | None] = [None]
        self._known: dict[tuple[int, Key], int] = {}

    def __len__(self) -> int:
        return len(self.parent)

    def below(self, region: int, key: Key) -> int:
        found = self._known.get((region, key))
        if found is None:
            found = self._known[region, key] = len(self.parent)
            self.parent.append(region)
            self.key.append(key)
        return found

    def of_contexts(self, tables: RunTables, timed: set[Key]) -> tuple[np.ndarray, np.ndarray]:
        """Region of each context, and whether a timed call begins with it."""
        keys = [key if key in timed else None for key in _keys(tables)]
        begins = np.asarray([key is not None for key in keys], bool)[tables.function] if keys else np.zeros(0, bool)
        begins &= tables.parent >= 0
        anchor = np.where(begins | (tables.parent < 0), np.arange(len(tables.parent)), tables.parent)
        while True:
            further = anchor[anchor]
            if (further == anchor).all():
                break
            anchor = further
        region = np.zeros(len(anchor), np.int64)
        for context in np.flatnonzero(begins).tolist():  # those above come first
            key = keys[tables.function[context]]
            assert key is not None
            region[context] = self.below(int(region[anchor[tables.parent[context]]]), key)
        return region[anchor], begins

    def without(self, unknown: np.ndarray) -> np.ndarray:
        """For each region the nearest one above that is known, itself where it is."""
        target = np.arange(len(self))
        for region in range(1, len(self)):
            if unknown[region]:
                target[region] = target[self.parent[region]]
        return target


def _entries(tables: RunTables) -> np.ndarray:
    return tables.calls + tables.resumes


def _timed_keys(sparse: Sequence[RunTables]) -> set[Key]:
    found: set[Key] = set()
    for run in sparse:
        keys = _keys(run)
        found |= {key for number in np.unique(run.function[_entries(run) > 0]).tolist() if (key := keys[number]) is not None}
    return found


def agree(tables: RunTables, self_ns: np.ndarray, sparse: Sequence[RunTables] = (), plain_ns: int | None = None) -> Agreement:
    """Share the time of each region out among its contexts, and tell how far each figure may be off.

    Parameters
    ----------
    tables : RunTables
        The recorded run.
    self_ns : (n,) array
        Its compensated self times by context.
    sparse : sequence of RunTables
        Sparse runs of the same code; may be empty.
    plain_ns : int, optional
        Median of the plain runs; of a run with one thread it is the total.
    """
    estimate = self_ns.astype(np.float64)
    single = len(tables.thread_name) == 1
    timed = _timed_keys(sparse)
    regions = _Regions()
    region, begins = regions.of_contexts(tables, timed)
    unknown, times = _region_times(tables, region, begins, regions, timed, sparse)
    target = regions.without(unknown)
    region = target[region]
    by_run = np.zeros((len(times), len(regions)))
    for row, own in enumerate(times):
        by_run[row] = np.bincount(target, own, len(regions))
    rest_ns = float(estimate[region == 0].sum())
    wanted = plain_ns - rest_ns if plain_ns is not None and single and plain_ns > rest_ns else None
    by_run = _without_cost(tables, region, begins, sparse, by_run, wanted)
    spread = _spread(tables, estimate)
    found = estimate
    if len(by_run):
        waiting = np.bincount(region, np.minimum(tables.waiting_ns, tables.self_ns), len(regions))
        if wanted is not None:
            by_run = _steadier(by_run, np.asarray([_to_total(own, waiting, wanted) for own in by_run]))
        middle = np.median(by_run, axis=0)
        if wanted is not None:
            middle = _to_total(middle, waiting, wanted)
        known = np.zeros(len(regions), bool)
        known[np.unique(region)] = True
        known[0] = False
        found = _shared_out(estimate, spread, region, middle, known & ~unknown)
    count = len(regions)
    sure = np.zeros(count, bool)
    sure[1:] = len(by_run) > 0
    sure[0] = plain_ns is not None and single and not len(by_run)
    relative = _half_width(by_run) if len(by_run) >= LEAST_RUNS else np.zeros(count)
    inclusive = np.full(len(tables.function_name), np.nan)
    if len(by_run) >= LEAST_RUNS:
        by_key = _inclusive_by_key(regions, by_run, target)
        for number, key in enumerate(_keys(tables)):
            if key in by_key:
                inclusive[number] = float(_half_width(by_key[key][:, None])[0])
    return Agreement(np.rint(found).astype(np.int64), region, spread, sure, relative, inclusive)


def _region_times(
    tables: RunTables, region: np.ndarray, begins: np.ndarray, regions: _Regions, timed: set[Key], sparse: Sequence[RunTables]
) -> tuple[np.ndarray, list[np.ndarray]]:
    """Which regions are not known from all sparse runs, and the time of each by run, as if entered as often as when recorded."""
    own = [(run, *regions.of_contexts(run, timed)) for run in sparse]
    count = len(regions)
    recorded = np.bincount(region[begins], _entries(tables)[begins], count)
    unknown = np.zeros(count, bool)
    times = []
    for run, place, starts in own:
        entered = np.bincount(place[starts], _entries(run)[starts], count)
        ratio = recorded / np.maximum(entered, 1)
        unknown |= (entered == 0) | (recorded == 0) | (ratio > MOST_RATIO) | (ratio < 1 / MOST_RATIO)
        took = np.bincount(place, run.self_ns, count)
        times.append(np.where((entered > 0) & (recorded > 0) & (ratio <= MOST_RATIO) & (ratio >= 1 / MOST_RATIO), took * ratio, took))
    unknown[0] = False
    return unknown, times


def is_operator(name: str) -> bool:
    """Whether a function is one that the interpreter's own C code calls, for an operator, a loop or a new object.

    >>> is_operator("Point.__init__"), is_operator("Point.moved"), is_operator("__main__")
    (True, False, True)
    """
    last = name.rpartition(".")[2]
    return last.startswith("__") and last.endswith("__")


@dataclass(frozen=True)
class _Untimed:
    """Calls of Python functions that sparse runs do not time, of a recorded run; (contexts,) arrays."""

    there: np.ndarray
    by_python: np.ndarray
    """Whether Python code calls, not compiled code."""
    operator: np.ndarray
    depth: np.ndarray
    """Levels below what was timed."""


def _untimed(tables: RunTables, begins: np.ndarray) -> _Untimed:
    python = tables.function_kind[tables.function] == KIND_PYTHON
    there = python & ~begins & (tables.parent >= 0)
    operators = np.asarray([is_operator(name) for name in tables.function_name], bool)
    depth = sums_to_root((tables.parent >= 0) & ~begins, np.where(begins, -1, tables.parent))
    return _Untimed(there, there & python[tables.parent], operators[tables.function], depth)


def _cost_by_region(tables: RunTables, region: np.ndarray, untimed: _Untimed, run: RunTables, count: int) -> np.ndarray:
    """What the calls that were not timed cost a sparse run, by region, from the counts of the recorded one."""
    flat_ns, deep_ns = run.facts.unwatched_call_ns, max(run.facts.unwatched_deep_ns, run.facts.unwatched_call_ns)
    seldom_ns = run.facts.unwatched_resume_ns
    if not flat_ns:
        return np.zeros(count)
    # A body that goes on, and what compiled code calls, begins in nearly the same way as ever; so does what an operator calls.
    costly = untimed.by_python & ~(untimed.operator & (seldom_ns > 0))
    # A recursion costs more, since it needs fresh room on the C stack at each level.
    deep = 2 * np.minimum(untimed.depth[costly] / DEEP, 1.0)
    cost = np.bincount(region[costly], tables.calls[costly] * (flat_ns + deep * (deep_ns - flat_ns)), count)
    others = (tables.resumes + np.where(costly, 0, tables.calls))[untimed.there]
    cost = cost + np.bincount(region[untimed.there], others * seldom_ns, count)
    cost[0] = 0
    return cost


def cost_of_untimed_ns(tables: RunTables, run: RunTables) -> float:
    """What the calls that a sparse run did not time cost it, from the counts of a recorded run of the same code."""
    regions = _Regions()
    region, begins = regions.of_contexts(tables, _timed_keys([run]))
    return float(_cost_by_region(tables, region, _untimed(tables, begins), run, len(regions)).sum())


def _without_cost(
    tables: RunTables, region: np.ndarray, begins: np.ndarray, sparse: Sequence[RunTables], by_run: np.ndarray, wanted: float | None
) -> np.ndarray:
    """Times of regions with the cost of calls that were not timed deducted, by count; up to 3.11 each costs a little."""
    if not any(run.facts.unwatched_call_ns for run in sparse):
        return by_run
    untimed = _untimed(tables, begins)
    cost = np.asarray([_cost_by_region(tables, region, untimed, run, by_run.shape[1]) for run in sparse])
    spent = cost.sum(axis=1)
    totals = by_run.sum(axis=1)
    scale = 1.0
    if wanted is not None and (spent > MATTERS * totals).all() and len(by_run) >= LEAST_RUNS:
        # What the plain runs leave room for tells the cost in the program itself, as far as the runs agree with each other.
        seen = (totals - wanted) / spent
        # That total is known no better than the runs' own, and the calibrated cost is right within a quarter.
        unsure = 2 * float(np.var(seen, ddof=1)) / len(seen)
        sure = 1 / (1 + unsure / SURE_COST**2)
        scale = 1 + sure * (float(np.clip(np.median(seen), LEAST_COST_SCALE, MOST_COST_SCALE)) - 1)
    return np.maximum(by_run - scale * cost, LEAST_LEFT * by_run)


def _steadier(by_run: np.ndarray, to_total: np.ndarray) -> np.ndarray:
    """The times of regions as they are, or each run's brought to the plain total, whichever differ less among the runs.

    A machine that is slow for whole runs slows all regions alike, one that is held up now and then does not.
    """
    if len(by_run) < LEAST_RUNS:
        return to_total
    apart = [float((own.std(axis=0, ddof=1)).sum() / max(own.mean(axis=0).sum(), 1.0)) for own in (by_run, to_total)]
    return to_total if apart[1] < apart[0] else by_run


def _to_total(times: np.ndarray, waiting: np.ndarray, wanted: float) -> np.ndarray:
    """Times of regions that come to a total; waiting takes as long on a slower machine."""
    waits = np.minimum(times, waiting)
    active = times - waits
    left = wanted - waits.sum()
    if active.sum() <= 0 or left <= 0:
        return times * wanted / max(times.sum(), 1.0)
    return waits + active * left / active.sum()


def _spread(tables: RunTables, estimate: np.ndarray) -> np.ndarray:
    """Half the width of what each context's time may be off by, before anything is known of its region."""
    waiting = np.minimum(tables.waiting_ns, estimate)
    builtin = tables.function_kind[tables.function] == KIND_BUILTIN
    long = builtin & (tables.self_ns >= LONG_NS * np.maximum(tables.calls, 1))
    of_time = np.where(long, OF_LONG, OF_TIME) * (estimate - waiting) + OF_WAITING * waiting
    deducted = np.maximum(tables.self_ns - estimate, 0)
    return of_time + np.where(long, 0.0, OF_COST * deducted)


def _shared_out(estimate: np.ndarray, spread: np.ndarray, region: np.ndarray, times: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Times that come to those of their regions: what is missing or too much goes where it is most likely to be."""
    count = len(times)
    before = np.bincount(region, estimate, count)
    room = np.bincount(region, spread, count)
    missing = np.where(known, times - before, 0.0)
    share = spread / np.maximum(room[region], 1e-12)
    found = np.maximum(estimate + missing[region] * share, LEAST_LEFT * estimate)
    after = np.bincount(region, found, count)
    scale = np.where(known & (after > 0), times / np.maximum(after, 1e-12), 1.0)
    found *= scale[region]
    # A region in which nothing was found to take time: it goes to its first context.
    empty = np.flatnonzero(known & (after <= 0) & (times > 0))
    for region_number in empty.tolist():
        found[np.argmax(region == region_number)] = times[region_number]
    return found


def _half_width(by_run: np.ndarray) -> np.ndarray:
    """Half the width of the 95 % interval of each column's level over the runs, as a share of it (Student's t on logarithms)."""
    from scipy.special import stdtrit  # loads in a third of the time of all statistics

    runs = len(by_run)
    logs = np.log(np.maximum(by_run, 1.0))
    deviation = logs.std(axis=0, ddof=1)
    return np.expm1(np.minimum(stdtrit(runs - 1, 0.975) * deviation / np.sqrt(runs), 3.0))


def _inclusive_by_key(regions: _Regions, by_run: np.ndarray, target: np.ndarray) -> dict[Key, np.ndarray]:
    """Time of each timed function and all below it, by run; recursion counted once."""
    above: list[frozenset[Key]] = [frozenset()]
    found: dict[Key, np.ndarray] = {}
    for number in range(1, len(regions)):
        key = regions.key[number]
        assert key is not None
        above.append(above[regions.parent[number]] | {key})
        if target[number] != number:
            continue
        for timed in above[number]:
            found[timed] = found.get(timed, 0.0) + by_run[:, number]
    return found
