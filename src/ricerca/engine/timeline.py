"""The run over time: how much of each slice each layer took, by thread; collections, waiting, long calls, phases."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.engine.layers import COLLECTION
from ricerca.engine.profile import Profile

PHASE_CHANGE = 0.5
LEAST_PHASE = 4
MOST_SPANS = 400


@dataclass(frozen=True)
class Stave:
    """One thread. ``density`` is (layers, slices) in ns, ``waiting_density`` the part of it that was waited.

    ``waiting`` and ``collecting`` are (slices,) in ns.
    """

    name: str
    process: int
    density: np.ndarray
    waiting_density: np.ndarray
    waiting: np.ndarray
    collecting: np.ndarray
    spans: tuple[tuple[int, int, int, int], ...]
    """Function, start ns, end ns, row (0 the outermost) of the longest calls that fit beside each other."""


@dataclass(frozen=True)
class Timeline:
    """All staves on one scale of slices. ``phases`` are slices at which the mix of functions changes."""

    slice_ns: float
    slices: int
    layers: tuple[str, ...]
    staves: tuple[Stave, ...]
    phases: tuple[int, ...]


def timeline(profile: Profile) -> Timeline:
    """The run over time, as far as the profile's contexts go; without slices it is empty."""
    count = profile.slice_count
    layers = tuple(dict.fromkeys(profile.functions.layer))
    number = {layer: at for at, layer in enumerate(layers)}
    layer = np.asarray([number[name] for name in profile.functions.layer], np.int64)
    inner = profile.parent[profile.slice_context] >= 0 if count else np.zeros(0, bool)
    context, where = profile.slice_context[inner], profile.slice_number[inner]
    self_ns, waiting_ns = profile.slice_self_ns[inner], profile.slice_waiting_ns[inner]
    thread, kind = profile.thread[context], layer[profile.function[context]]
    threads = len(profile.thread_name)
    cells = np.bincount((thread * len(layers) + kind) * count + where, self_ns, threads * len(layers) * count) if count else np.zeros(0)
    density = cells.reshape(threads, len(layers), count)
    place = (thread * len(layers) + kind) * count + where
    waited = np.bincount(place, np.minimum(waiting_ns, self_ns), threads * len(layers) * count) if count else np.zeros(0)
    waiting_density = waited.reshape(threads, len(layers), count)
    waits = np.bincount(thread * count + where, waiting_ns, threads * count).reshape(threads, count) if count else np.zeros((threads, 0))
    collecting = density[:, number[COLLECTION]] if COLLECTION in number and count else np.zeros((threads, count))
    staves = tuple(
        Stave(name, int(profile.thread_process[row]), density[row], waiting_density[row], waits[row], collecting[row], _spans(profile, row))
        for row, name in enumerate(profile.thread_name)
        if density[row].any() or waits[row].any()
    )
    return Timeline(profile.facts.slice_ns, count, layers, staves, _phases(profile, context, where, self_ns, count))


def _spans(profile: Profile, thread: int) -> tuple[tuple[int, int, int, int], ...]:
    """The longest calls of a thread; the row of each is how many shown ones lie around it."""
    rows = np.flatnonzero(profile.thread[profile.span_context] == thread)
    rows = rows[np.argsort(-(profile.span_end_ns[rows] - profile.span_start_ns[rows]), kind="stable")][:MOST_SPANS]
    rows = rows[np.lexsort((-profile.span_end_ns[rows], profile.span_start_ns[rows]))]
    open_ends: list[int] = []
    found = []
    for row in rows.tolist():
        start, end = int(profile.span_start_ns[row]), int(profile.span_end_ns[row])
        while open_ends and open_ends[-1] <= start:
            open_ends.pop()
        found.append((int(profile.function[profile.span_context[row]]), start, end, len(open_ends)))
        open_ends.append(end)
    return tuple(found)


def _phases(profile: Profile, context: np.ndarray, where: np.ndarray, self_ns: np.ndarray, count: int) -> tuple[int, ...]:
    """Slices at which the mix of functions is another than before: cosine of the self times left and right of it."""
    if count < 4 * LEAST_PHASE:
        return ()
    used, function = np.unique(profile.function[context], return_inverse=True)
    mix = np.bincount(function * count + where, self_ns, len(used) * count).reshape(len(used), count)
    width = max(count // 24, LEAST_PHASE)
    running = np.concatenate((np.zeros((len(used), 1)), np.cumsum(mix, axis=1)), axis=1)
    change = np.zeros(count)
    for at in range(width, count - width):
        left, right = running[:, at] - running[:, at - width], running[:, at + width] - running[:, at]
        length = np.linalg.norm(left) * np.linalg.norm(right)
        change[at] = 1 - float(left @ right) / length if length else 0.0
    found: list[int] = []
    for at in np.argsort(-change, kind="stable").tolist():
        if change[at] < PHASE_CHANGE or len(found) >= 12:
            break
        if all(abs(at - other) > width for other in found):
            found.append(at)
    return tuple(sorted(found))
