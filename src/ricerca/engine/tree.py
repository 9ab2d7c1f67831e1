"""The call tree, one level at a time."""

from __future__ import annotations

import numpy as np

from ricerca.engine.profile import Profile


def roots(profile: Profile) -> np.ndarray:
    """The first contexts of all threads, the slowest first."""
    tops = np.flatnonzero(profile.parent < 0)
    firsts = [children(profile, int(top)) for top in tops]
    joined = np.concatenate(firsts) if firsts else np.zeros(0, np.int64)
    return joined[np.argsort(-profile.inclusive_ns[joined], kind="stable")]


def children(profile: Profile, context: int) -> np.ndarray:
    """The contexts called from this one, the slowest first."""
    below = profile.parent[context + 1 : int(profile.end[context])]
    rows = np.flatnonzero(below == context) + context + 1
    return rows[np.argsort(-profile.inclusive_ns[rows], kind="stable")]


def heaviest_path(profile: Profile, least_share: float = 0.02) -> tuple[int, ...]:
    """From the slowest root down along what costs most, until less than least_share of the whole is left."""
    path: list[int] = []
    level = roots(profile)
    floor = least_share * max(profile.total_ns, 1)
    while len(level) and profile.inclusive_ns[level[0]] >= floor:
        path.append(int(level[0]))
        level = children(profile, path[-1])
    return tuple(path)


def context_of(profile: Profile, function: int) -> int:
    """The slowest context of a function, -1 where it has none."""
    rows = np.flatnonzero(profile.function == function)
    return int(rows[np.argmax(profile.inclusive_ns[rows])]) if len(rows) else -1


def path_to(profile: Profile, context: int) -> tuple[int, ...]:
    """From the first context of the thread down to this one."""
    path = []
    while context >= 0 and profile.parent[context] >= 0:
        path.append(int(context))
        context = int(profile.parent[context])
    return tuple(reversed(path))
