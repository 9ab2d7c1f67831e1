"""A look at a recording while it is being written."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.model.marks import KIND_THREAD
from ricerca.recording.reader import Recording


@dataclass(frozen=True)
class Glance:
    """Calls so far, and the functions with most self time so far: (name, self_ns, calls), raw."""

    calls: int
    total_ns: int
    leaders: tuple[tuple[str, int, int], ...]


def glance(recording: Recording, most: int = 8) -> Glance:
    """Sum up what has been recorded up to now."""
    contexts, functions = recording.contexts[1:], recording.functions
    known = contexts["function"] < len(functions)
    number = np.where(known, contexts["function"], 0)
    count = len(functions)
    self_ns = np.bincount(number, contexts["self_ticks"], minlength=count) * recording.ns_per_tick
    calls = np.bincount(number, contexts["calls"], minlength=count)
    self_ns[functions["kind"] == KIND_THREAD] = 0
    order = np.argsort(-self_ns)[:most]
    leaders = tuple(
        (recording.text(int(functions[n]["name_offset"]), int(functions[n]["name_bytes"])), int(self_ns[n]), int(calls[n]))
        for n in order
        if n and self_ns[n] > 0
    )
    return Glance(int(calls.sum()), int(self_ns.sum()), leaders)
