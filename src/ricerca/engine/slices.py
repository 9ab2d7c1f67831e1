"""What happened when: a stretch of the run, and the growth of a function's cost over it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ricerca.engine.profile import Profile


def _scaled(profile: Profile, rows: np.ndarray) -> np.ndarray:
    """Compensated self time of slice rows: a slice's share of the raw time, of the compensated one."""
    context = profile.slice_context[rows]
    raw = np.maximum(profile.raw_self_ns[context], 1)
    return profile.slice_self_ns[rows] * (profile.self_ns[context] / raw)


def in_stretch(profile: Profile, first: int, last: int) -> Profile:
    """Only what happened from the first slice up to but without the last; resumes are not known by slice."""
    rows = np.flatnonzero((profile.slice_number >= first) & (profile.slice_number < last))
    context, count = profile.slice_context[rows], len(profile)
    values = {
        "calls": profile.slice_calls[rows],
        "raw_self_ns": profile.slice_self_ns[rows],
        "waiting_ns": profile.slice_waiting_ns[rows],
        "self_ns": _scaled(profile, rows),
    }
    columns: dict[str, Any] = {name: np.rint(np.bincount(context, part, count)).astype(np.int64) for name, part in values.items()}
    return replace(profile, resumes=np.zeros(count, np.int64), overflow_calls=np.zeros_like(profile.overflow_calls), **columns)
