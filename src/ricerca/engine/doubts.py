"""Accuracy of the figures of a reading: intervals of the times of functions."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ricerca.engine.forest import homes_of, not_nested, subtree_sums

MOST_GROUPS = 1 << 23
UNCERTAIN = 0.5
"""A figure whose interval reaches further than this to either side, as a share of it, is uncertain."""
HELD_UP, HELD_UP_NS = 1.5, 10_000
"""One run alone: interruptions of some ten microseconds come by chance, so short times are known less well."""
MATTERS = 0.05
"""Of the whole: where the interval reaches no further than this, it changes nothing that anybody would do."""


@dataclass(frozen=True)
class Doubts:
    """What is known of how far the times of a run may be off; see ``agree``.

    Columns by context, in preorder: function, parent, end, region, ``spread_ns`` (half the width of what its share of the
    region may be off by), ``time_ns``. By region: ``known`` says whether its time is known from runs that hardly
    disturbed it, ``relative`` half the width of that time's 95 % interval as a share of it. By function: ``inclusive``
    half the width of the inclusive time's interval as a share, NaN where sparse runs did not time it.
    ``stays`` and ``there``: what a reading leaves, and what it is of; None for all.
    """

    function: np.ndarray
    parent: np.ndarray
    end: np.ndarray
    region: np.ndarray
    spread_ns: np.ndarray
    time_ns: np.ndarray
    known: np.ndarray
    relative: np.ndarray
    inclusive: np.ndarray
    functions: int
    stays: np.ndarray | None = None
    there: np.ndarray | None = None

    def of(self, stays: np.ndarray | None, there: np.ndarray | None) -> Doubts:
        """The same for a reading that leaves these contexts of those that are there, and charges the others to them."""
        return replace(self, stays=stays, there=there)

    @cached_property
    def self_ns(self) -> np.ndarray:
        """Half the width of the 95 % interval of each function's self time, in ns, as (functions,); NaN where not known.

        Within a region of known time, what one function has too much another has too little; so a region all of whose time
        goes to one function adds only what is not known of the region itself.
        """
        count = len(self.known)
        home = np.arange(len(self.function))
        if self.stays is not None:
            home, _top = homes_of(self.stays | (self.parent < 0), self.parent)
        if count * self.functions > MOST_GROUPS:
            return np.full(self.functions, np.nan)
        group = self.function[home] * count + self.region
        if self.there is not None:
            group = np.where(self.there, group, -1)
        kept = slice(None) if self.there is None else group >= 0
        size = self.functions * count
        own = np.bincount(group[kept], self.spread_ns[kept], size).reshape(self.functions, count)
        time = np.bincount(group[kept], self.time_ns[kept], size).reshape(self.functions, count)
        room = np.bincount(self.region, self.spread_ns, count)
        open_share = np.where(self.known, np.maximum(room - own, 0) / np.maximum(room, 1e-12), 1.0)
        # three things that have nothing to do with each other
        of_share, of_region = (own * open_share).sum(axis=1), (self.relative * time).sum(axis=1)
        return np.sqrt(of_share**2 + of_region**2 + HELD_UP**2 * HELD_UP_NS * (time * open_share).sum(axis=1))

    @cached_property
    def inclusive_ns(self) -> np.ndarray:
        """The same of each function's inclusive time: where sparse runs timed it, theirs; else at most what is below it."""
        half = np.rint(self.spread_ns + self.relative[self.region] * self.time_ns).astype(np.int64)
        outermost = not_nested(self.function, self.end)
        below = np.bincount(self.function, np.where(outermost, subtree_sums(half, self.end), 0), self.functions)
        time = np.rint(self.time_ns).astype(np.int64)
        whole = np.bincount(self.function, np.where(outermost, subtree_sums(time, self.end), 0), self.functions)
        return np.where(np.isfinite(self.inclusive), self.inclusive * whole, below)


def are_uncertain(half_ns: np.ndarray, figures_ns: np.ndarray, total_ns: int) -> np.ndarray:
    """Which figures are too little known to be relied on, of those that matter.

    >>> are_uncertain(np.array([60.0, 10.0, 30.0]), np.array([100, 100, 3]), 1000).tolist()
    [True, False, False]
    """
    with np.errstate(invalid="ignore"):
        return (half_ns > UNCERTAIN * figures_ns) & (half_ns >= MATTERS * total_ns)
