"""The same function after an edit: by module and qualified name first, then by its text."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from ricerca.engine.profile import FunctionTable
from ricerca.engine.source import body_of

SAME, MOVED, RENAMED, NEW, GONE = "same", "moved", "renamed", "new", "gone"

LEAST_LINES = 2
"""A body this long is told again by itself, whatever its function is called."""

Key = tuple[str, str]
"""Module and qualified name."""
Tables = tuple[FunctionTable, FunctionTable]
Texts = tuple[Mapping[int, str], Mapping[int, str]]


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


def _pair_up(base: list[int], new: list[int], tables: Tables, texts: Texts) -> list[Match]:
    """Same-named functions: those of one text and place first, then those of one text, those of one place, the rest in order."""

    def place(side: int, number: int) -> object:
        return tables[side].file[number], int(tables[side].first_line[number])

    def text(side: int, number: int) -> object:
        return texts[side].get(number)

    def both(side: int, number: int) -> object:
        return (text(side, number), place(side, number)) if text(side, number) else None

    def order(_side: int, _number: int) -> object:
        return True

    pairs: list[Match] = []
    unpaired, left = list(base), list(new)
    for sign in (both, text, place, order):
        rest = []
        for number in unpaired:
            key = sign(0, number)
            twin = next((n for n in left if sign(1, n) == key), None) if key is not None else None
            if twin is None:
                rest.append(number)
                continue
            left.remove(twin)
            pairs.append(Match(number, twin, SAME if place(0, number) == place(1, twin) else MOVED))
        unpaired = rest
    return [*pairs, *(Match(number, -1, GONE) for number in unpaired), *(Match(-1, twin, NEW) for twin in left)]


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
        Text of functions as it was recorded. A vanished and a new function with the same body count as one: as moved where
        it has its name still, else as renamed.
    """
    old_keys, new_keys = _by_key(base, base_shown), _by_key(new, new_shown)
    tables, texts = (base, new), (base_text or {}, new_text or {})
    matches: list[Match] = []
    for key in {**old_keys, **new_keys}:
        matches += _pair_up(old_keys.get(key, []), new_keys.get(key, []), tables, texts)
    for alike in (_of_module, _of_name, _of_body):  # the surest sign first
        matches = _find_again(matches, tables, texts, alike)
    return tuple(matches)


def _of_module(table: FunctionTable, number: int, text: str) -> tuple[str, ...] | None:
    return (table.module[number], body_of(text)) if body_of(text).strip() else None


def _of_name(table: FunctionTable, number: int, text: str) -> tuple[str, ...] | None:
    return (table.name[number].rpartition(".")[2], text.strip()) if text.strip() and not table.name[number].endswith(">") else None


def _of_body(_table: FunctionTable, _number: int, text: str) -> tuple[str, ...] | None:
    return (body_of(text),) if body_of(text).count("\n") >= LEAST_LINES - 1 else None


def _find_again(matches: list[Match], tables: Tables, texts: Texts, alike: Callable[..., tuple[str, ...] | None]) -> list[Match]:
    """Functions that vanished and came, put together by a sign they share."""
    arrived: dict[tuple[str, ...], list[int]] = {}
    for match in matches:
        sign = alike(tables[1], match.new, texts[1].get(match.new, "")) if match.kind == NEW else None
        if sign is not None:
            arrived.setdefault(sign, []).append(match.new)
    taken: set[int] = set()
    result = []
    for match in matches:
        sign = alike(tables[0], match.base, texts[0].get(match.base, "")) if match.kind == GONE else None
        candidates = arrived.get(sign, []) if sign is not None else []
        if not candidates:
            result.append(match)
            continue
        twin = candidates.pop(0)
        taken.add(twin)
        result.append(Match(match.base, twin, MOVED if tables[0].name[match.base] == tables[1].name[twin] else RENAMED))
    return [match for match in result if not (match.kind == NEW and match.new in taken)]
