"""How much room each column of a table gets: what its content takes, the important one the rest, the least important none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

ALWAYS = 0
"""Importance of a column that is never left out for want of room."""


@dataclass(frozen=True)
class Wish:
    """What a column asks for: pixels for its content, and how important it is (0 most)."""

    key: str
    wanted: int
    importance: int = ALWAYS
    least: int = 0
    """How far it may shrink; 0: not at all."""
    elastic: bool = False
    """Whether it takes what is left."""


def share_out(wishes: Sequence[Wish], room: int, fixed: Sequence[str] = (), hidden: Sequence[str] = ()) -> dict[str, int]:
    """Width of each column that is shown.

    Columns that can shrink do so first, the elastic one last; the least important are left out until the others have at least
    what they must have.

    Parameters
    ----------
    room : int
        Width of the table.
    fixed : sequence of str
        Columns that a person wants in any case.
    hidden : sequence of str
        Columns that a person does not want.

    >>> wishes = [Wish("name", 200, elastic=True, least=100), Wish("bar", 100, least=60), Wish("calls", 80, 2), Wish("share", 60, 3)]
    >>> share_out(wishes, 460), share_out(wishes, 290), share_out(wishes, 220)
    ({'name': 220, 'bar': 100, 'calls': 80, 'share': 60}, {'name': 150, 'bar': 60, 'calls': 80}, {'name': 160, 'bar': 60})
    """
    shown = [wish for wish in wishes if wish.key not in hidden or wish.elastic]
    while True:
        taken = sum(wish.wanted for wish in shown)
        least = sum(wish.least or wish.wanted for wish in shown)
        droppable = [wish for wish in shown if wish.importance != ALWAYS and wish.key not in fixed and not wish.elastic]
        if taken <= room or not droppable or least <= room:
            break
        shown.remove(max(droppable, key=lambda wish: wish.importance))
    widths = {wish.key: wish.wanted for wish in shown}
    over = taken - room
    for wish in sorted(shown, key=lambda wish: wish.elastic):  # the elastic one gives way last
        if over > 0 and wish.least:
            given = min(over, wish.wanted - wish.least)
            widths[wish.key] -= max(given, 0)
            over -= max(given, 0)
    if over < 0:
        elastic = next((wish.key for wish in shown if wish.elastic), "")
        if elastic:
            widths[elastic] -= over
    return widths
