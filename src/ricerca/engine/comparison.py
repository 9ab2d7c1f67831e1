"""Two rounds beside each other, function by function."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from textwrap import dedent

import numpy as np

from ricerca.engine.matching import GONE, NEW, RENAMED, Match, match_functions
from ricerca.engine.profile import Profile
from ricerca.engine.ranking import FunctionFigures, function_figures


@dataclass(frozen=True)
class Comparison:
    """Pairs of functions with their figures; columns are (n, 2) arrays of [base, new]."""

    base: Profile
    new: Profile
    base_figures: FunctionFigures
    new_figures: FunctionFigures
    matches: tuple[Match, ...]
    calls: np.ndarray
    self_ns: np.ndarray
    inclusive_ns: np.ndarray
    edited: np.ndarray
    """Which were edited, as far as their text was kept on both sides."""

    @property
    def gain_ns(self) -> np.ndarray:
        """Self time saved by each pair, negative where it was lost."""
        return self.self_ns[:, 0] - self.self_ns[:, 1]

    @cached_property
    def partner(self) -> dict[int, int]:
        """Function of the new side to that of the base side, for those that are on both."""
        return {match.new: match.base for match in self.matches if match.new >= 0 and match.base >= 0}


def _column(base: np.ndarray, new: np.ndarray, matches: tuple[Match, ...]) -> np.ndarray:
    rows = [(base[m.base] if m.base >= 0 else 0, new[m.new] if m.new >= 0 else 0) for m in matches]
    return np.asarray(rows, np.int64).reshape(-1, 2)


def _called(figures: FunctionFigures) -> set[int]:
    present = figures.shown & ((figures.calls > 0) | (figures.resumes > 0) | (figures.self_ns > 0))
    return {int(number) for number in np.flatnonzero(present)}


def _is_edited(match: Match, base_text: Mapping[int, str], new_text: Mapping[int, str]) -> bool:
    """Whether a function that is on both sides reads otherwise now; trailing blanks and indentation as a whole do not count."""
    before, after = base_text.get(match.base), new_text.get(match.new)
    if before is None or after is None or match.kind == RENAMED:
        return False
    before, after = ("\n".join(line.rstrip() for line in dedent(text).splitlines()) for text in (before, after))
    return before != after


def compare(
    base: Profile,
    new: Profile,
    base_text: Mapping[int, str] | None = None,
    new_text: Mapping[int, str] | None = None,
) -> Comparison:
    """Pair the functions of two profiles, the largest change of self time first.

    Comparing A with B is the negative of comparing B with A.
    """
    base_figures, new_figures = function_figures(base), function_figures(new)
    matches = match_functions(base.functions, new.functions, _called(base_figures), _called(new_figures), base_text, new_text)
    self_ns = _column(base_figures.self_ns, new_figures.self_ns, matches)
    order = np.argsort(-np.abs(self_ns[:, 0] - self_ns[:, 1]), kind="stable")
    matches = tuple(matches[row] for row in order)
    return Comparison(
        base=base,
        new=new,
        base_figures=base_figures,
        new_figures=new_figures,
        matches=matches,
        calls=_column(base_figures.calls, new_figures.calls, matches),
        self_ns=self_ns[order],
        inclusive_ns=_column(base_figures.inclusive_ns, new_figures.inclusive_ns, matches),
        edited=np.asarray([_is_edited(match, base_text or {}, new_text or {}) for match in matches], bool),
    )


__all__ = ["GONE", "NEW", "Comparison", "compare"]
