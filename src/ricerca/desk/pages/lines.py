"""The slowest lines of the whole program."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ricerca.desk.pages.figure_table import Bar, Column, FigureTable
from ricerca.desk.pages.row_menu import show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.report.wording import count_text, place_text, plural, share_text, time_text

MOST_LINES = 10_000_000  # more than any file has

NOT_FOLLOWED = "The lines of this function were not followed."


class LinesPage(SeenPage):
    """All lines of the reading that called something or were followed."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self.table = FigureTable("lines", state.settings, "total")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.table)
        self.table.chosen.connect(self._take)
        self.table.asked.connect(lambda place: show_row_menu(state, self.table.view.viewport() or self, place))
        state.selection_changed.connect(self._follow)
        state.line_changed.connect(lambda _line: self._follow())

    def _follow(self) -> None:
        """Mark the selected line, else the slowest one of the selected function."""
        view, state = self._state.view, self._state
        if view is None or not self.isVisible():
            return
        lines = view.loaded.lines
        of_function = view.loaded.line_rows == state.selected
        rows = np.flatnonzero(of_function & (lines.line == state.selected_line)) if state.selected_line else np.flatnonzero(of_function)
        self.table.select(int(rows[0]) if len(rows) else -1)

    def _take(self, row: int) -> None:
        view = self._state.view
        if view is None:
            return
        self._state.select_line(int(view.loaded.line_rows[row]), int(view.loaded.lines.line[row]))

    def clear(self) -> None:
        """No rows."""
        self.table.show_rows([], np.zeros(0, np.int64), list)
        self.table.summary.setText("")

    def draw(self, view: View) -> None:
        """Fill the ranking."""
        lines, functions = view.loaded.lines, view.loaded.line_table

        def words() -> list[str]:
            of = [
                f"{file} {name} {layer} ".lower() for file, name, layer in zip(functions.file, functions.name, functions.layer, strict=True)
            ]
            return [of[f] + text.lower() for f, text in zip(lines.function.tolist(), view.texts, strict=True)]

        self.table.show_rows(_columns(view), np.arange(len(lines)), words)
        followed = int((lines.hits >= 0).sum())
        whole = "" if view.loaded.what == "the run" else ", counted over the whole line run"
        told = f"; self time and hits of {plural(followed, 'line')}{whole}" if followed else ""
        hint = "" if followed else "; for self time and hits, record a round that follows lines"
        self.table.summary.setText(f"{plural(len(lines), 'line')} that make calls{told}{hint}")
        self._follow()


def _columns(view: View) -> list[Column]:
    lines, functions = view.loaded.lines, view.loaded.line_table
    total = max(view.loaded.profile.total_ns, 1)
    totals = lines.total_ns
    longest = float(max(totals.max(initial=0), view.base.lines.total_ns.max(initial=0) if view.base else 0, 1))
    base = None
    if view.base is not None and view.base_line is not None:
        known = view.base_line >= 0
        base = np.where(known, view.base.lines.total_ns[np.where(known, view.base_line, 0)] if len(view.base.lines) else 0, 0)
    gains = base - totals if base is not None else np.zeros(len(lines), np.int64)

    def say(row: int) -> str:
        own = "" if lines.self_ns[row] < 0 else f" Dark: {time_text(lines.self_ns[row])} on the line itself."
        before = f" Dashed: {time_text(base[row])} in round {view.base.round.number}." if base is not None else ""
        return f"Light: {time_text(lines.call_ns[row])} in what the line called.{own}{before}"

    def by_place() -> np.ndarray:
        _names, file = np.unique(np.asarray(functions.file), return_inverse=True)
        return file[lines.function] * MOST_LINES + lines.line

    columns = [
        Column("rank", "", 36),
        Column("where", "where", 124,
               lambda r: place_text(functions.file[lines.function[r]], int(lines.line[r]), functions.module[lines.function[r]]),
               by_place,
               lambda r: f"Line {lines.line[r]} of {functions.file[lines.function[r]]}, in {functions.name[lines.function[r]]}",
               left=True, rising=True, importance=1),
        Column("what", "line", 330, lambda r: view.texts[r] or functions.name[lines.function[r]],
               explain=lambda r: f"Line {lines.line[r]}: {view.texts[r] or 'its source was not kept'}", left=True, mono=True),
        Column("bar", "time", 84, explain=say, order=totals,
               bar=lambda r: Bar(longest, max(int(lines.self_ns[r]), 0), int(totals[r]), None if base is None else float(base[r]),
                                 functions.layer[lines.function[r]])),
        Column("self", "self", 76, lambda r: time_text(lines.self_ns[r]) if lines.self_ns[r] >= 0 else "", lines.self_ns,
               lambda r: f"{time_text(lines.self_ns[r])} on the line itself." if lines.self_ns[r] >= 0 else NOT_FOLLOWED, importance=3),
        Column("total", "total", 76, lambda r: time_text(totals[r]), totals,
               lambda r: f"{share_text(totals[r] / total)} of {view.loaded.what} is spent on this line and in what it calls."),
    ]  # fmt: skip
    if base is not None:
        columns.append(
            Column("gain", "change", 96, None, gains, gain=lambda r: float(gains[r]),
                   sure=lambda r: view.part_is_sure(int(view.loaded.line_rows[r]), base[r], totals[r]),
                   explain=lambda r: f"{time_text(base[r])} in round {view.base.round.number}, {time_text(totals[r])} now.")
        )  # fmt: skip
    if base is None:
        columns.append(
            Column("calls", "calls made", 92, lambda r: count_text(int(lines.calls[r])), lines.calls,
                   lambda r: f"{plural(int(lines.calls[r]), 'call')} from this line.", importance=4)
        )  # fmt: skip
    if (lines.hits >= 0).any():
        columns.append(
            Column("hits", "hits", 84, lambda r: "" if lines.hits[r] < 0 else count_text(int(lines.hits[r])), lines.hits,
                   lambda r: f"{plural(int(lines.hits[r]), 'hit')}." if lines.hits[r] >= 0 else NOT_FOLLOWED, importance=2)
        )  # fmt: skip
    return columns
