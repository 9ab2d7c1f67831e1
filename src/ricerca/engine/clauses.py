"""What could be added to a reading: functions, regions, modules, layers, threads, processes, clocks and levels, by a part of their name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ricerca.engine.levels import LEVELS
from ricerca.engine.profile import KIND_THREAD, Profile, group_sums
from ricerca.engine.ranking import FunctionFigures
from ricerca.engine.reading import CLOCKS, Reading
from ricerca.model.marks import KIND_REGION

INSIDE, WITHOUT, CHARGED = "inside", "without", "charged"
VERBS = {INSIDE: ("inside", "only"), WITHOUT: ("without", "leave", "out"), CHARGED: ("charge", "charging")}
"""Words with which one may begin to say what is meant."""
THREAD, PROCESS, CLOCK, LEVEL = "thread", "process", "clock", "level"
MOST_NAMES = 5


@dataclass(frozen=True)
class Offer:
    """A clause that fits what is typed, with the time of what it names (-1: none), and the reading with it."""

    kind: str
    name: str
    time_ns: int
    reading: Reading


@dataclass(frozen=True)
class Names:
    """All that clauses of a run can name, the largest first: (name, time in ns)."""

    functions: tuple[tuple[str, int], ...]
    modules: tuple[tuple[str, int], ...]
    layers: tuple[tuple[str, int], ...]
    threads: tuple[tuple[str, int], ...]
    processes: tuple[tuple[int, int], ...]
    regions: frozenset[str] = frozenset()
    """Which of the functions are regions that the program names; they are found by that word, too."""


def names_of(profile: Profile, figures: FunctionFigures) -> Names:
    """What the clauses of a whole run can name."""
    table = profile.functions
    threads = np.asarray(table.kind) == KIND_THREAD
    order = [int(row) for row in np.argsort(-figures.inclusive_ns, kind="stable") if figures.inclusive_ns[row] > 0 and not threads[row]]
    functions = {table.name[row]: int(figures.inclusive_ns[row]) for row in reversed(order)}
    by_thread = group_sums(profile.thread, profile.self_ns, len(profile.thread_name))
    by_process: dict[int, int] = {}
    for thread, process in enumerate(np.asarray(profile.thread_process).tolist()):
        by_process[process] = by_process.get(process, 0) + int(by_thread[thread])
    return Names(
        _largest(functions),
        _largest(_sums(table.module, figures.self_ns)),
        _largest(_sums(table.layer, figures.self_ns)),
        _largest(_sums(profile.thread_name, by_thread)),
        tuple(sorted(by_process.items(), key=lambda item: -item[1])) if len(by_process) > 1 else (),
        frozenset(table.name[row] for row in np.flatnonzero(np.asarray(table.kind) == KIND_REGION)),
    )


def _sums(names: tuple[str, ...], times: np.ndarray) -> dict[str, int]:
    found: dict[str, int] = {}
    for name, time in zip(names, times.tolist(), strict=True):
        if name and time:
            found[name] = found.get(name, 0) + int(time)
    return found


def _largest(found: dict[str, int]) -> tuple[tuple[str, int], ...]:
    return tuple(sorted(found.items(), key=lambda item: -item[1]))


def offers(names: Names, reading: Reading, text: str) -> list[Offer]:
    """Clauses that fit a text: names that hold all its words; a word like *inside* or *without* before them chooses the kind.

    Parameters
    ----------
    text : str
        As typed; of an empty one nothing is offered.
    """
    words = text.lower().split()
    kinds = [kind for kind, verbs in VERBS.items() if words and words[0] in verbs]
    if kinds:
        words = words[1:]
    if not words:
        return []

    def fit(found: tuple[tuple[str, int], ...], said: str = "{}") -> list[tuple[str, int]]:
        return [(name, ns) for name, ns in found if all(word in said.format(name).lower() for word in words)][:MOST_NAMES]

    regions = tuple((name, ns) for name, ns in names.functions if name in names.regions)
    result = [
        offer
        for name, ns in [*fit(names.functions), *fit(regions, "region {}"), *fit(names.modules)]
        for offer in _of_name(reading, name, ns, kinds or [INSIDE, WITHOUT, CHARGED])
    ]
    if not kinds or CHARGED in kinds:
        result += [Offer(CHARGED, name, ns, _added(reading, CHARGED, name)) for name, ns in fit(names.layers)]
    if not kinds:
        result += _others(names, reading, fit, words)
    seen: set[Reading] = {reading}
    return [offer for offer in result if not (offer.reading in seen or seen.add(offer.reading))]  # type: ignore[func-returns-value]


def _others(names: Names, reading: Reading, fit: Callable[[tuple[tuple[str, int], ...]], list[tuple[str, int]]],
            words: list[str]) -> list[Offer]:  # fmt: skip
    found = [Offer(THREAD, name, ns, replace(reading, threads=(name,))) for name, ns in fit(names.threads)]
    processes = tuple((f"process {number}", ns) for number, ns in names.processes)
    found += [Offer(PROCESS, name, ns, replace(reading, processes=(int(name.split()[1]),))) for name, ns in fit(processes)]
    for clock in CLOCKS:
        if all(word in f"{clock} time".lower() for word in words):
            found.append(Offer(CLOCK, f"{clock} time", -1, replace(reading, clock=clock)))
    for level in LEVELS:
        if all(word in f"by {level}" for word in words):
            found.append(Offer(LEVEL, f"by {level}", -1, replace(reading, level=level)))
    return found


def _of_name(reading: Reading, name: str, ns: int, kinds: list[str]) -> list[Offer]:
    return [Offer(kind, name, ns, _added(reading, kind, name)) for kind in kinds]


def _added(reading: Reading, kind: str, name: str) -> Reading:
    now: tuple[str, ...] = getattr(reading, kind)
    change: dict[str, Any] = {kind: (*now, name)}
    return reading if name in now else replace(reading, **change)
