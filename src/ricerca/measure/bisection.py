"""Which commit of a row changed what a program costs: exact counts are asked first, times where counts do not tell."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

Key = tuple[str, str]
"""Module and name of a function."""

LIKE, UNLIKE = 0.02, 0.08
"""Up to this change of what the counts cost two commits are alike; from this on they are not; in between the oldest one decides."""


@dataclass(frozen=True)
class Counted:
    """Exact calls of each function at a commit, and the self time of a call in ns."""

    calls: Mapping[Key, int]
    call_ns: Mapping[Key, float]


@dataclass(frozen=True)
class Culprit:
    """The first commit that differs, the one before it, and how that is known. Both are None where there is none."""

    culprit: int | None
    before: int | None
    why: str
    by_counts: bool = True


def cost_of_counts(one: Counted, weights: Mapping[Key, float]) -> float:
    """What the calls of a commit cost if each call takes as long as at the commit it is compared with.

    >>> cost_of_counts(Counted({("m", "f"): 3}, {("m", "f"): 9.0}), {("m", "f"): 10.0})
    30.0
    """
    return sum(calls * weights.get(key, one.call_ns.get(key, 0.0)) for key, calls in one.calls.items())


def change_between(one: Counted, reference: Counted) -> float:
    """The logarithm of how much more the calls of a commit cost than those of the one it is compared with."""
    first, second = cost_of_counts(one, reference.call_ns), cost_of_counts(reference, reference.call_ns)
    return math.log(max(first, 1.0) / max(second, 1.0))


def largest_change(before: Counted, after: Counted) -> tuple[Key, int, int] | None:
    """The function whose calls changed what it costs most, with its calls at both commits; None where all are equal."""
    weights = {**before.call_ns, **after.call_ns}
    changes = {
        key: abs(after.calls.get(key, 0) - before.calls.get(key, 0)) * weights.get(key, 0.0)
        for key in before.calls.keys() | after.calls.keys()
    }
    key = max(changes, key=lambda found: changes[found], default=None)
    if key is None or before.calls.get(key, 0) == after.calls.get(key, 0):
        return None
    return key, before.calls.get(key, 0), after.calls.get(key, 0)


def first_unlike(count: int, alike_with_last: Callable[[int], bool | None]) -> tuple[int, int]:
    """The place of the commit that made the last one what it is, and of the one before it, among ``count`` commits.

    The oldest is taken to differ from the last and is not asked for. ``alike_with_last`` says None for a commit that cannot be
    measured: it is left out. A search among twelve asks for at most four.
    """
    places = list(range(count))
    low, high = 0, count - 1
    while high - low > 1:
        between = high - low
        part = between - (1 << (math.ceil(math.log2(between)) - 1))
        middle = low + max(part, 1)
        alike = alike_with_last(places[middle])
        if alike is None:
            del places[middle]
            high -= 1
        elif alike:
            high = middle
        else:
            low = middle
    return places[high], places[low]


def find_culprit(count: int, counted: Callable[[int], Counted | None], differ: Callable[[int, int], bool | None]) -> Culprit:
    """Search the commit that changed the cost.

    Parameters
    ----------
    count : int
        Number of commits, oldest first.
    counted : callable
        The exact counts of a commit, measured when asked for the first time; None where it cannot be measured.
    differ : callable
        Whether the times of two commits differ, None where one cannot be measured; asked where counts do not tell.
    """
    last = counted(count - 1)
    if last is None:
        return Culprit(None, None, "the last commit cannot be measured")
    if count < 2:
        return Culprit(None, None, "there is only one commit")

    def alike(place: int) -> bool | None:
        counts = counted(place)
        if counts is None:
            return None
        change = abs(change_between(counts, last))
        if LIKE < change < UNLIKE:
            oldest = counted(0)
            whole = abs(change_between(oldest, last)) if oldest is not None else UNLIKE
            return change < whole / 2
        return change <= LIKE

    culprit, before = first_unlike(count, alike)
    ends = counted(before), counted(culprit)
    if ends[0] is not None and ends[1] is not None and abs(change_between(ends[0], ends[1])) > LIKE:
        found = largest_change(ends[0], ends[1])
        assert found is not None
        (_module, name), earlier, later = found
        return Culprit(culprit, before, f"calls of {name}: {earlier}, then {later}")
    return _by_times(count, differ)


def _by_times(count: int, differ: Callable[[int, int], bool | None]) -> Culprit:
    whole = differ(0, count - 1)
    if whole is None:
        return Culprit(None, None, "the first or the last commit cannot be measured", False)
    if not whole:
        return Culprit(None, None, "counts and times do not differ between the first commit and the last", False)

    def alike(place: int) -> bool | None:
        found = differ(place, count - 1)
        return None if found is None else not found

    culprit, before = first_unlike(count, alike)
    return Culprit(culprit, before, "the times differ, measured in pairs; the counts do not", False)


def places_of(names: Sequence[str], found: Culprit) -> tuple[str | None, str | None]:
    """Names of the culprit and of the commit before it."""
    return tuple(names[place] if place is not None else None for place in (found.culprit, found.before))  # type: ignore[return-value]
