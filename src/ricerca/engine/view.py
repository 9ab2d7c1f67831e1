"""A round compared with another, line by line and context by context."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ricerca.engine.comparison import Comparison
from ricerca.engine.lines import LineFigures
from ricerca.engine.profile import FunctionTable, Profile
from ricerca.engine.tree import children

Texts = Mapping[str, str]


def line_texts(functions: FunctionTable, lines: LineFigures, sources: Texts) -> list[str]:
    """The stripped text of each line, empty where its source was not kept."""
    split = {file: text.splitlines() for file, text in sources.items()}
    found = []
    for function, line in zip(lines.function, lines.line, strict=True):
        rows = split.get(functions.file[function], [])
        found.append(rows[line - 1].strip() if 0 < line <= len(rows) else "")
    return found


def _places(functions: np.ndarray, lines: LineFigures, texts: list[str]) -> dict[tuple[int, str, int], int]:
    """Row by (function, text, which occurrence of that text in the function)."""
    seen: dict[tuple[int, str], int] = {}
    places = {}
    for row in np.lexsort((lines.line, functions)):
        key = (int(functions[row]), texts[row])
        seen[key] = seen.get(key, 0) + 1
        places[(*key, seen[key])] = int(row)
    return places


def match_lines(comparison: Comparison, base: LineFigures, new: LineFigures, base_texts: list[str], new_texts: list[str],
                base_rows: np.ndarray | None = None, new_rows: np.ndarray | None = None) -> np.ndarray:  # fmt: skip
    """For each line of the new side the row of the same line on the base side, -1 where there is none.

    Lines belong together by their function and their text, so they are found again though they moved.

    Parameters
    ----------
    base_rows, new_rows : (lines,) int arrays, optional
        What of the comparison each line belongs to; its function where left out.
    """
    base_rows, new_rows = base.function if base_rows is None else base_rows, new.function if new_rows is None else new_rows
    as_base = np.asarray([comparison.partner.get(int(number), -1) for number in new_rows], np.int64)
    base_places = _places(base_rows, base, base_texts)
    result = np.full(len(new), -1, np.int64)
    for (function, text, number), row in _places(as_base, new, new_texts).items():
        if function >= 0:
            result[row] = base_places.get((function, text, number), -1)
    return result


def match_children(comparison: Comparison, new_children: np.ndarray, base_parent: int, base: Profile | None = None,
                   new: Profile | None = None) -> list[int]:  # fmt: skip
    """For sibling contexts of the new side the contexts below base_parent that belong to them, -1 without one.

    The k-th call site of a function goes with the k-th call site of its partner. base and new are the
    trees that the contexts are of; the compared profiles themselves when left out.
    """
    base, new = base or comparison.base, new or comparison.new
    if base_parent < 0 or not len(new_children):
        return [-1] * len(new_children)
    waiting: dict[int, list[int]] = {}
    for context in sorted(children(base, base_parent), key=lambda c: base.line[c]):
        waiting.setdefault(int(base.function[context]), []).append(int(context))
    found: dict[int, int] = {}
    for context in sorted(new_children, key=lambda c: new.line[c]):
        left = waiting.get(comparison.partner.get(int(new.function[context]), -1))
        if left:
            found[int(context)] = left.pop(0)
    return [found.get(int(context), -1) for context in new_children]
