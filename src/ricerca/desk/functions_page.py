"""The ranking of functions."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ricerca.desk.figure_table import Bar, Column, FigureTable
from ricerca.desk.state import DeskState, View
from ricerca.engine.ranking import running_share
from ricerca.wording import count_text, plural, share_text, time_text


def place_text(file: str, line: int, module: str) -> str:
    """Where a function lies, in few words."""
    return f"{file.rsplit('/', 1)[-1]}:{line}" if file else module


class FunctionsPage(QWidget):
    """All functions of the reading, the slowest first."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self.table = FigureTable("functions", state.settings, "self")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.table)
        self.table.chosen.connect(state.take_in_hand)
        self.table.gathered.connect(self._sum_up)
        self._summary = ""
        state.view_changed.connect(self._fill)
        state.hand_changed.connect(lambda: self.table.select(state.in_hand))

    def _fill(self) -> None:
        view = self._state.view
        if view is None:
            self.table.show_rows([], np.zeros(0, np.int64), [])
            self.table.summary.setText("")
            return
        loaded = view.loaded
        figures, functions = loaded.figures, loaded.profile.functions
        present = figures.shown & ((figures.calls > 0) | (figures.raw_self_ns > 0))
        rows = np.flatnonzero(present)
        words = [
            f"{name} {module} {file} {layer}".lower()
            for name, module, file, layer in zip(functions.name, functions.module, functions.file, functions.layer, strict=True)
        ]
        self.table.show_rows(_columns(view), rows, words)
        order = np.sort(figures.self_ns[rows])[::-1]
        three = running_share(order, loaded.profile.total_ns)[2] if len(order) > 2 else 1.0
        self._summary = f"{plural(len(rows), 'function')}; the first three by self time are {share_text(float(three))}"
        self.table.summary.setText(self._summary)

    def _sum_up(self, rows: list[int]) -> None:
        """What the selected functions take together, and what the run would take without half of it."""
        view = self._state.view
        if view is None or len(rows) < 2:
            self.table.summary.setText(self._summary)
            return
        loaded = view.loaded
        own, calls = int(loaded.figures.self_ns[rows].sum()), int(loaded.figures.calls[rows].sum())
        share = own / max(loaded.profile.total_ns, 1)
        whole = time_text(loaded.if_faster(rows, 2)[1])
        said = f"{plural(len(rows), 'function')} together: {time_text(own)} of their own, {share_text(share)}, {plural(calls, 'call')}"
        self.table.summary.setText(f"{said}; twice as fast, the run takes {whole}")


def _columns(view: View) -> list[Column]:
    loaded = view.loaded
    figures, functions = loaded.figures, loaded.profile.functions
    total = max(loaded.profile.total_ns, 1)
    longest = float(max(figures.inclusive_ns.max(initial=0), view.base.figures.inclusive_ns.max(initial=0) if view.base else 0, 1))
    order = np.argsort(-figures.self_ns, kind="stable")
    running = np.zeros(len(functions))
    running[order] = running_share(figures.self_ns[order], total)
    gains = np.zeros(len(functions), np.int64)
    before = np.zeros(len(functions), np.int64)
    if view.comparison:
        gains -= figures.self_ns
        rows = np.fromiter(view.row_of.values(), np.int64, len(view.row_of))
        numbers = np.fromiter(view.row_of, np.int64, len(view.row_of))
        gains[numbers] += view.comparison.self_ns[rows, 0]
        before[numbers] = view.comparison.calls[rows, 0]

    def bar(n: int) -> Bar:
        base = view.base_times(n)
        return Bar(longest, figures.self_ns[n], figures.inclusive_ns[n], base[1] if base else None, functions.layer[n])

    def say_bar(n: int) -> str:
        said = (
            f"Dark: {time_text(figures.self_ns[n])} in its own body. Light: "
            f"{time_text(figures.inclusive_ns[n] - figures.self_ns[n])} in what it called."
        )
        base = view.base_times(n)
        return said + (f" Dashed: {time_text(base[1])} in round {view.base.round.number}." if base else "")

    def say_self(n: int) -> str:
        share = share_text(figures.self_ns[n] / total)
        said = f"{time_text(figures.self_ns[n])} in the body of {functions.name[n]} itself, {share} of the run."
        cost = figures.raw_self_ns[n] - figures.self_ns[n]
        said += f" {time_text(cost)} of recorder's cost has been deducted."
        return said + (" That is more than half, so this figure is uncertain." if figures.uncertain[n] else "")

    def write_self(n: int) -> str:
        return ("≈\N{THIN SPACE}" if figures.uncertain[n] else "") + time_text(figures.self_ns[n])

    columns = [
        Column("rank", "", 36),
        Column("what", "function", 160, lambda n: functions.name[n], functions.name,
               lambda n: f"{functions.name[n]} in {functions.file[n] or functions.module[n]}, line {functions.first_line[n]}; "
                         f"layer: {functions.layer[n]}",
               under=lambda n: place_text(functions.file[n], int(functions.first_line[n]), functions.module[n]),
               left=True, rising=True),
        Column("bar", "time", 112, explain=say_bar, bar=bar, order=figures.inclusive_ns),
        Column("self", "self", 88, write_self, figures.self_ns, say_self),
    ]  # fmt: skip
    if view.comparison:
        columns.append(
            Column("gain", "change", 94, None, gains, gain=lambda n: float(gains[n]),
                   explain=lambda n: f"Self time: {time_text(figures.self_ns[n] + gains[n])} in round {view.base.round.number}, "
                                     f"{time_text(figures.self_ns[n])} now.")
        )  # fmt: skip
    columns += [
        Column("inclusive", "inclusive", 78, lambda n: time_text(figures.inclusive_ns[n]), figures.inclusive_ns,
               lambda n: f"{time_text(figures.inclusive_ns[n])} in {functions.name[n]} and all it called, recursion counted once: "
                         f"{share_text(figures.inclusive_ns[n] / total)} of the run."),
        Column("calls", "calls", 84, lambda n: count_text(int(figures.calls[n])), figures.calls,
               lambda n: f"Called {plural(int(figures.calls[n]), 'time')}, {count_text(int(figures.first_entry_calls[n]))} of them "
                         f"while it was not running already; gone on with {plural(int(figures.resumes[n]), 'time')}."),
    ]  # fmt: skip
    if view.comparison:
        columns.append(
            Column("before", "before", 84, lambda n: count_text(int(before[n])), before,
                   lambda n: f"Called {plural(int(before[n]), 'time')} in round {view.base.round.number}.")
        )  # fmt: skip
    else:
        columns += [
            Column("per call", "per call", 76, lambda n: time_text(figures.per_call_ns[n]), figures.per_call_ns,
                   lambda n: f"{time_text(figures.per_call_ns[n])} inclusive for each call from outside."),
            Column("running", "running", 72, lambda n: share_text(running[n]), running,
                   lambda n: f"All functions down to this one, by self time, are {share_text(running[n])} of the run.", rising=True),
        ]  # fmt: skip
    return columns
