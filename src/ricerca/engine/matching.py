"""The same function after an edit: by module and qualified name first, then by its text."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ricerca.engine.profile import FunctionTable

SAME, MOVED, RENAMED, NEW, GONE = "same", "moved", "renamed", "new", "gone"

Key = tuple[str, str]
"""Module and qualified name."""


@dataclass(frozen=True)
class Match:
    """A pair of function numbers, -1 on the side where there is none."""

    base: int
    new: int
    kind: str


def _by_key(table: FunctionTable, shown: set[int]) -> dict[Key, list[int]]:
    """Function numbers by module and name, in the order of their lines."""
    found: dict[Key, list[int]] = {}
    for number in sorted(shown, key=lambda n: int(table.first_line[n])):
        found.setdefault((table.module[number], table.name[number]), []).append(number)
    return found


def _pair_up(base: list[int], new: list[int], base_table: FunctionTable, new_table: FunctionTable) -> list[Match]:
    """Same-named functions: those on the same line of the same file first, the rest in order."""
    pairs = []
    left = list(new)
    unpaired = []
    for number in base:
        place = (base_table.file[number], int(base_table.first_line[number]))
        twin = next((n for n in left if (new_table.file[n], int(new_table.first_line[n])) == place), None)
        if twin is None:
            unpaired.append(number)
        else:
            left.remove(twin)
            pairs.append(Match(number, twin, SAME))
    for number, twin in zip(unpaired, left, strict=False):
        pairs.append(Match(number, twin, MOVED))
    pairs += [Match(number, -1, GONE) for number in unpaired[len(left) :]]
    pairs += [Match(-1, twin, NEW) for twin in left[len(unpaired) :]]
    return pairs


def match_functions(
    base: FunctionTable,
    new: FunctionTable,
    base_shown: set[int],
    new_shown: set[int],
    base_text: Mapping[int, str] | None = None,
    new_text: Mapping[int, str] | None = None,
) -> tuple[Match, ...]:
    """Pair the functions of two runs.

    Parameters
    ----------
    base, new : FunctionTable
    base_shown, new_shown : set of int
        The function numbers to pair.
    base_text, new_text : mapping, optional
        Source of functions without their first line; a vanished and a new function of one module
        with the same text count as renamed.
    """
    old_keys, new_keys = _by_key(base, base_shown), _by_key(new, new_shown)
    matches: list[Match] = []
    for key in {**old_keys, **new_keys}:
        matches += _pair_up(old_keys.get(key, []), new_keys.get(key, []), base, new)
    return tuple(_find_renamed(matches, base, new, base_text or {}, new_text or {}))


def _find_renamed(
    matches: list[Match], base: FunctionTable, new: FunctionTable, base_text: Mapping[int, str], new_text: Mapping[int, str]
) -> list[Match]:
    arrived: dict[tuple[str, str], list[int]] = {}
    for match in matches:
        if match.kind == NEW and new_text.get(match.new, "").strip():
            arrived.setdefault((new.module[match.new], new_text[match.new]), []).append(match.new)
    taken: set[int] = set()
    result = []
    for match in matches:
        candidates: list[int] = []
        if match.kind == GONE:
            candidates = arrived.get((base.module[match.base], base_text.get(match.base, "")), [])
        if candidates:
            twin = candidates.pop(0)
            taken.add(twin)
            result.append(Match(match.base, twin, RENAMED))
        else:
            result.append(match)
    return [match for match in result if not (match.kind == NEW and match.new in taken)]
