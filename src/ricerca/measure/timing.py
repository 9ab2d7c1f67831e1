"""Which functions a sparse run times: those whose calls last so long that being timed does not matter."""

from __future__ import annotations

import numpy as np

from ricerca.engine.agreement import Key, plain_name
from ricerca.engine.profile import KIND_PYTHON, Profile
from ricerca.engine.ranking import function_figures

TIMING_NS = 120.0
"""What timing one call costs the program at most, on a slow machine."""
LEAST_NS = 20 * TIMING_NS
MOST_SHARE = 0.01
"""Of the run that may be spent on timing."""
LEAST_SHARE = 0.001
"""Of the run below which a function is not worth being timed."""
MOST_FUNCTIONS = 400


def functions_to_time(profile: Profile) -> np.ndarray:
    """Numbers of the Python functions whose calls are worth being timed alone, those with the longest calls first.

    A call, or a stretch between two suspensions, has to last some twenty times what timing it costs, and all of them
    together must not cost more than one hundredth of the run.
    """
    figures = function_figures(profile)
    entries = figures.calls + figures.resumes
    length_ns = figures.inclusive_ns / np.maximum(entries, 1)
    worth = (
        (profile.functions.kind == KIND_PYTHON)
        & (entries > 0)
        & (length_ns >= LEAST_NS)
        & (figures.inclusive_ns >= LEAST_SHARE * profile.total_ns)
    )
    chosen = np.flatnonzero(worth)
    chosen = chosen[np.argsort(-length_ns[chosen], kind="stable")][:MOST_FUNCTIONS]
    affordable = np.cumsum(entries[chosen]) * TIMING_NS <= MOST_SHARE * max(profile.total_ns, 1)
    return chosen[affordable]


def timing_keys(profile: Profile, chosen: np.ndarray) -> list[Key]:
    """What tells the chosen functions apart in another run of any interpreter: first line, plain name, file."""
    table = profile.functions
    return [(int(table.first_line[n]), plain_name(table.name[n]), table.file[n]) for n in chosen.tolist()]
