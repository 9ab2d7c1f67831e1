"""Which reading of a run tells most at first sight: charged to one's own code, or where the time is spent, by module if need be."""

from __future__ import annotations

import numpy as np

from ricerca.engine.layers import MINE
from ricerca.engine.levels import MODULE
from ricerca.engine.profile import KIND_PYTHON, Profile
from ricerca.engine.ranking import FunctionFigures
from ricerca.engine.reading import ALL_OTHERS, Reading

CHARGED = Reading(charged=(ALL_OTHERS,), machinery=False)
"""Charged to one's own code: the reading where that tells something."""
SPENT = Reading(machinery=False)
"""Where the time is spent."""
LEAST_SHARE, MOST_BODIES, LEAST_FUNCTIONS = 0.005, 0.9, 2
MANY_FUNCTIONS, MOST_OF_IT = 100, 0.95
"""Modules are read first where it takes more functions than that to make up this share of the time."""


def own_code_tells(charged: Profile, figures: FunctionFigures) -> bool:
    """Whether charging time to one's own code says where it goes: several functions hold it, no module's body nearly all of it.

    Parameters
    ----------
    charged : Profile
        The run as ``CHARGED`` shows it.
    figures : FunctionFigures
        Of that profile.
    """
    table = charged.functions
    own = (np.asarray(table.layer) == MINE) & (np.asarray(table.kind) == KIND_PYTHON)
    share = np.where(own, figures.self_ns, 0) / max(charged.total_ns, 1)
    bodies = np.asarray([name == "<module>" for name in table.name], bool)
    several = int((share[~bodies] >= LEAST_SHARE).sum()) >= LEAST_FUNCTIONS
    return several and float(share[bodies].max(initial=0.0)) <= MOST_BODIES


def where_spent(figures: FunctionFigures) -> Reading:
    """The reading where the time is spent: by function, by module where there are hundreds of functions."""
    times = np.sort(figures.self_ns)[::-1]
    needed = int(np.searchsorted(np.cumsum(times), MOST_OF_IT * times.sum()))
    return Reading(level=MODULE, machinery=False) if needed > MANY_FUNCTIONS else SPENT
