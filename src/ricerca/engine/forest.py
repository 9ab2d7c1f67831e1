"""Trees as arrays: each entry has its parent, and in preorder one past its subtree."""

from __future__ import annotations

import numpy as np


def sums_to_root(values: np.ndarray, parent: np.ndarray) -> np.ndarray:
    """Sum of values from each context up to its root, by doubling steps: O(n log depth)."""
    total = values.astype(np.int64)
    jump = parent.astype(np.int64)
    while (jump >= 0).any():
        live = np.flatnonzero(jump >= 0)
        target = jump[live]
        step = total[target]
        total[live] += step
        jump[live] = jump[target]
    return total


def subtree_sums(values: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Sum of values over each subtree; preorder makes it a difference of a running sum.

    >>> subtree_sums(np.array([1, 2, 3]), np.array([3, 2, 3])).tolist()
    [6, 2, 3]
    """
    running = running_sum(values)
    sums = np.take(running, end)
    return np.subtract(sums, running[:-1], out=sums)


def running_sum(values: np.ndarray) -> np.ndarray:
    """What has come together before each entry, and at the end of all: (n + 1,) int64.

    >>> running_sum(np.array([True, False, True])).tolist()
    [0, 1, 1, 2]
    """
    running = np.zeros(len(values) + 1, np.int64)
    np.cumsum(values, out=running[1:])
    return running


def not_nested(group: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Whether no ancestor of an entry belongs to the same group.

    Parameters
    ----------
    group : (n,) int array
        Group of each entry, in preorder.
    end : (n,) int array
        One past the subtree of each entry.

    Notes
    -----
    Sorted by group and position, an entry lies below one of its own group exactly when the largest
    end seen before it in its group is past its position: a running maximum by group, for which every
    group gets a range of ends of its own. O(n log n).

    >>> not_nested(np.array([0, 1, 0, 1]), np.array([4, 3, 3, 4])).tolist()
    [True, True, False, True]
    """
    count = len(group)
    if count == 0:
        return np.zeros(0, bool)
    low, high = int(group.min()), int(group.max())
    small = (group - low).astype(np.uint16) if high - low < 1 << 16 else group  # short keys are sorted by radix
    order = np.argsort(small, kind="stable")
    if (high - low + 1) * (count + 1) < 1 << 62:
        first = (small[order].astype(np.int64) - (0 if small is not group else low)) * (count + 1)
    else:
        sorted_group = group[order]
        first = np.cumsum(np.concatenate(([0], sorted_group[1:] != sorted_group[:-1]))) * (count + 1)
    reach = first + end[order]
    np.maximum.accumulate(reach, out=reach)
    result = np.ones(count, bool)
    result[order[1:]] = reach[:-1] <= first[1:] + order[1:]
    return result


def _sizes(parent: np.ndarray, depth: np.ndarray) -> np.ndarray:
    """Entries in each subtree, level by level from the deepest up."""
    size = np.ones(len(parent), np.int64)
    order = np.argsort(depth, kind="stable")
    levels = np.searchsorted(depth[order], np.arange(1, int(depth.max(initial=0)) + 2))
    for level in range(len(levels) - 1, 0, -1):
        rows = order[levels[level - 1] : levels[level]]
        np.add.at(size, parent[rows], size[rows])
    return size


def _places(parent: np.ndarray, size: np.ndarray) -> np.ndarray:
    """Place of each context in preorder; siblings, and roots, keep their order.

    A context comes one after its parent and after the subtrees of its earlier siblings, so its
    place is the sum of such steps up to the root.
    """
    order = np.argsort(parent, kind="stable")
    before = np.cumsum(size[order]) - size[order]
    first = np.searchsorted(parent[order], parent[order], side="left")
    step = np.empty(len(parent), np.int64)
    step[order] = before - before[first]
    return sums_to_root(step + (parent >= 0), parent)


def preorder(parent: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Contexts in preorder, siblings in the order they are given in; and one past the subtree of each.

    Parameters
    ----------
    parent : (n,) int array
        -1 for roots; a context comes after its parent.

    >>> [part.tolist() for part in preorder(np.array([-1, 0, 0, 1]))]
    [[0, 1, 3, 2], [4, 3, 3, 4]]
    """
    size = _sizes(parent, sums_to_root(parent >= 0, parent))
    place = _places(parent, size)
    order = np.empty(len(parent), np.int64)
    order[place] = np.arange(len(parent))
    return order, np.arange(len(parent)) + size[order]


def homes_of(kept: np.ndarray, parent: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """For each context that is left out: the nearest kept one above it, and what that one called on the way to it.

    Parameters
    ----------
    kept : (n,) bool array
        Roots must be kept.
    parent : (n,) int array

    Returns
    -------
    home, top : (n,) int array
        A kept context is its own home and top.

    Notes
    -----
    By doubling steps: O(n log depth).

    >>> found = homes_of(np.array([True, False, False, True]), np.array([-1, 0, 1, 2]))
    >>> [part.tolist() for part in found]
    [[0, 0, 0, 3], [0, 1, 1, 3]]
    """
    gone = np.flatnonzero(~kept)
    top = np.arange(len(kept))
    home = top.copy()
    pending = gone[~kept[parent[gone]]]
    top[pending] = parent[pending]
    while len(pending := pending[~kept[parent[top[pending]]]]):
        top[pending] = top[top[pending]]
    home[gone] = parent[top[gone]]
    return home, top
