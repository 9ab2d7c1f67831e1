"""Everything the pages show of one reading, as one value."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ricerca.engine.comparison import Comparison
from ricerca.engine.leads import Lead
from ricerca.engine.slices import Growth
from ricerca.engine.view import line_texts, match_lines
from ricerca.loading import Loaded, Pair
from ricerca.measure.estimates import Speedup
from ricerca.measure.growth import GrowthRow
from ricerca.measure.worth import Worth


@dataclass(frozen=True)
class View:
    """Everything the pages show for one reading."""

    loaded: Loaded
    base: Loaded | None
    comparison: Comparison | None
    verdict: Speedup | None
    texts: list[str]
    base_line: np.ndarray | None
    """Row of each line in the base round's line figures, -1 without one."""
    row_of: dict[int, int] = field(default_factory=dict)
    """Row in the comparison of each function."""
    growing: dict[int, Growth] = field(default_factory=dict)
    """The functions whose calls became slower over the run."""
    grew_before: dict[int, Growth] = field(default_factory=dict)
    """Those of which that was so in the round compared with."""
    leads: tuple[Lead, ...] = ()
    pair: Pair | None = None
    by_size: dict[int, GrowthRow] = field(default_factory=dict)
    """How each function grows with the size of the input, where the case was measured in several."""
    worth: Worth | None = None
    """What the case costs in a week, where somebody said how often it is run."""

    def sure_of(self, function: int) -> bool:
        """Whether the change of a function's self time is more than chance."""
        row = self.row_of.get(function, -1)
        return self.pair is not None and row >= 0 and bool(self.pair.sure[row])

    def part_is_sure(self, function: int, base_ns: int, new_ns: int) -> bool:
        """The same of a line, or of a call in the tree, of which a function is all that is known."""
        row = self.row_of.get(function, -1)
        return self.pair is not None and row >= 0 and self.pair.is_sure(row, int(base_ns), int(new_ns))

    def edited(self, function: int) -> bool:
        """Whether a function reads otherwise than in the round compared with."""
        row = self.row_of.get(function, -1)
        return self.comparison is not None and row >= 0 and bool(self.comparison.edited[row])

    def base_function(self, function: int) -> int:
        """Number of a function in the round compared with, -1 where it is new."""
        row = self.row_of.get(function, -1)
        return self.comparison.matches[row].base if self.comparison is not None and row >= 0 else -1

    def base_line_of(self, function: int) -> int:
        """First line of a function in the round compared with."""
        assert self.base is not None
        return int(self.base.profile.functions.first_line[self.base_function(function)])

    def text_before(self, function: int) -> str:
        """Text of a function in the round compared with; empty where it was not kept."""
        return self.base.texts.get(self.base_function(function), "") if self.base is not None else ""

    def base_times(self, function: int) -> tuple[int, int, int] | None:
        """Self ns, inclusive ns and calls of a function in the round compared with; zeros where it is new."""
        if self.comparison is None:
            return None
        row = self.row_of.get(function, -1)
        if row < 0:
            return 0, 0, 0
        found = self.comparison
        return int(found.self_ns[row, 0]), int(found.inclusive_ns[row, 0]), int(found.calls[row, 0])


def make_view(pair: Pair) -> View:
    """All that the pages show of a round that is read, and of one it is compared with."""
    loaded, base = pair.new, pair.base
    for side in (loaded, base):  # what a page would else have to work out while it is shown
        if side is not None:
            _ = side.figures.uncertain, side.edges, side.tree, side.cycles
    _ = pair.sure, pair.answer, pair.differs
    texts = line_texts(loaded.line_table, loaded.lines, loaded.sources)
    comparison = pair.comparison
    if base is None or comparison is None:
        return View(loaded, None, None, None, texts, None, growing=loaded.growing, leads=pair.leads)
    base_texts = line_texts(base.line_table, base.lines, base.sources)
    rows = {match.new: row for row, match in enumerate(comparison.matches) if match.new >= 0}
    theirs = base.growing
    before = {new: theirs[comparison.matches[row].base] for new, row in rows.items() if comparison.matches[row].base in theirs}
    matched = match_lines(comparison, base.lines, loaded.lines, base_texts, texts, base.line_rows, loaded.line_rows)
    return View(loaded, base, comparison, pair.verdict, texts, matched, rows, loaded.growing, before, pair.leads, pair)
