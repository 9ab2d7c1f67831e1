"""What is known of a change of single figures between two rounds: whether it is more than chance."""

from __future__ import annotations

from functools import cache

import numpy as np

from ricerca.measure.estimates import DRIFT

LEVEL = 0.05


def half_widths(
    base_ns: np.ndarray, new_ns: np.ndarray, base_spread: np.ndarray, new_spread: np.ndarray, drift: float = DRIFT
) -> np.ndarray:
    """Half the width of the 95 % interval of each change, corrected for how many are looked at.

    Parameters
    ----------
    base_ns, new_ns : (n,) arrays
        The figures of both rounds.
    base_spread, new_spread : (n,) arrays
        Half the width of each figure's own 95 % interval as a share of it; NaN where not known.
    drift : float
        Share by which the machine's speed may have changed between the rounds.

    Returns
    -------
    (n,) array
        In ns; infinite where a figure's interval is not known. With n figures looked at, one in twenty of *all* looks
        finds a change that is none (Bonferroni).
    """
    count = max(int((np.isfinite(base_spread) & np.isfinite(new_spread)).sum()), 1)
    wider = _corrected(count)
    own = np.hypot(_half(base_ns, base_spread), _half(new_ns, new_spread)) * wider
    return np.hypot(own, drift * np.maximum(base_ns, new_ns))


@cache
def _corrected(count: int) -> float:
    """How many times as wide an interval is that holds for so many looks together."""
    from scipy.special import ndtri

    return float(ndtri(1 - LEVEL / 2 / count) / ndtri(1 - LEVEL / 2))


def _half(values_ns: np.ndarray, spread: np.ndarray) -> np.ndarray:
    """A figure that is nothing is known to be nothing."""
    known = np.where(np.isfinite(spread), spread, np.inf)
    return np.multiply(values_ns, known, where=values_ns > 0, out=np.zeros(len(values_ns)))
