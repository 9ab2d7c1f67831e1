"""The ranking of functions, and of the cycles they form."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ricerca.desk.details.what_if import WhatIf
from ricerca.desk.pages.figure_table import FigureTable
from ricerca.desk.pages.function_columns import FunctionColumns, Rows, cycle_words
from ricerca.desk.pages.row_menu import show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.ranking import ceiling, running_share
from ricerca.report.wording import factor_text, plural, share_text, time_text


class FunctionsPage(SeenPage):
    """All functions of the reading, the slowest first."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self.table = FigureTable("functions", state.settings, "self")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.table)
        self.what_if = WhatIf("If these were")
        self.what_if.expected.connect(state.note_expectation)
        self.what_if.hide()
        self.table.below_head.addWidget(self.what_if)
        self.table.chosen.connect(state.select)
        self.table.gathered.connect(self._sum_up)
        self.table.asked.connect(lambda place: show_row_menu(state, self.table.view.viewport() or self, place))
        self._summary = ""
        state.selection_changed.connect(lambda: self.table.select(state.selected))

    def clear(self) -> None:
        """No rows."""
        self.what_if.hide()
        self.table.show_rows([], np.zeros(0, np.int64), list)
        self.table.summary.setText("")

    def draw(self, view: View) -> None:
        """Fill the ranking."""
        self.what_if.hide()
        loaded, rows = view.loaded, Rows.of(view)
        figures, functions = loaded.figures, loaded.profile.functions

        def words() -> list[str]:
            found = [
                f"{name} {module} {file} {layer}".lower()
                for name, module, file, layer in zip(functions.name, functions.module, functions.file, functions.layer, strict=True)
            ]
            return found + [f"cycle {' '.join(functions.name[n] for n in cycle.members)}".lower() for cycle in loaded.cycles]

        self.table.show_rows(FunctionColumns(view, rows).columns(), rows.present, words)
        order = np.sort(figures.self_ns[rows.present[rows.present < len(functions)]])[::-1]
        three = running_share(order, loaded.profile.total_ns)[2] if len(order) > 2 else 1.0
        self._summary = f"{plural(len(order), 'function')}; the three slowest (self time) take {share_text(float(three))}"
        self.table.summary.setText(self._summary)

    def _sum_up(self, rows: list[int]) -> None:
        """What the selected functions take together; of a cycle, its entries and the calls inside it."""
        view = self._state.view
        if view is None:
            return
        loaded, count = view.loaded, len(view.loaded.profile.functions)
        cycles = [loaded.cycles[row - count].members for row in rows if row >= count]
        functions = sorted({row for row in rows if row < count}.union(*cycles))
        self.what_if.setVisible(len(functions) > 1)
        if len(functions) < 2:
            self.table.summary.setText(self._summary)
            return
        self.what_if.ask(view, functions)
        if len(rows) == 1:
            self.table.summary.setText(cycle_words(loaded.cycles[rows[0] - count]))
            return
        own, calls = int(loaded.figures.self_ns[functions].sum()), int(loaded.figures.calls[functions].sum())
        share = share_text(own / max(loaded.profile.total_ns, 1))
        free = factor_text(ceiling(own, max(loaded.whole.total_ns, 1)))
        said = f"{plural(len(functions), 'function')} together: {time_text(own)} self time, {share}, {plural(calls, 'call')}"
        self.table.summary.setText(f"{said}; without them the run would be {free} faster")
