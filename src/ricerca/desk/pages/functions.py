"""The ranking of functions, and of the cycles they form."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ricerca.desk.details.what_if import WhatIf
from ricerca.desk.pages.figure_table import Bar, Column, FigureTable
from ricerca.desk.pages.row_menu import show_row_menu
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.engine.cycles import Cycle
from ricerca.engine.ranking import ceiling, running_share
from ricerca.report.growth import TEN_TIMES, growth_words, law_text
from ricerca.report.wording import count_text, factor_text, half_text, interval_words, place_text, plural, share_text, time_text

MOST_NAMED = 12


@dataclass(frozen=True)
class Rows:
    """The functions of a view and, after them, its cycles, as one table; times in ns."""

    functions: int
    name: tuple[str, ...]
    cycles: tuple[str, ...]
    """Names of the functions in each cycle, the slowest first."""
    layer: tuple[str, ...]
    self_ns: np.ndarray
    inclusive_ns: np.ndarray
    raw_self_ns: np.ndarray
    calls: np.ndarray
    per_call_ns: np.ndarray
    present: np.ndarray
    """Numbers of the rows that took part."""

    @classmethod
    def of(cls, view: View) -> Rows:
        """The rows of a view."""
        loaded = view.loaded
        figures, table, cycles = loaded.figures, loaded.profile.functions, loaded.cycles
        members = [cycle.slowest_first(figures.self_ns) for cycle in cycles]
        inclusive = np.asarray([cycle.inclusive_ns for cycle in cycles], np.int64)
        entries = np.asarray([cycle.entries for cycle in cycles], np.int64)
        raw = [int(figures.raw_self_ns[list(cycle.members)].sum()) for cycle in cycles]
        taking_part = np.flatnonzero(figures.shown & ((figures.calls > 0) | (figures.raw_self_ns > 0)))
        return cls(
            functions=len(table),
            name=table.name + tuple(f"cycle of {len(some)}" for some in members),
            cycles=tuple(", ".join(table.name[n].rpartition(".")[2] for n in some[:MOST_NAMED]) for some in members),
            layer=table.layer + tuple(table.layer[some[0]] for some in members),
            self_ns=np.concatenate([figures.self_ns, np.asarray([cycle.self_ns for cycle in cycles], np.int64)]),
            inclusive_ns=np.concatenate([figures.inclusive_ns, inclusive]),
            raw_self_ns=np.concatenate([figures.raw_self_ns, np.asarray(raw, np.int64)]),
            calls=np.concatenate([figures.calls, entries]),
            per_call_ns=np.concatenate([figures.per_call_ns, inclusive / np.maximum(entries, 1)]),
            present=np.concatenate([taking_part, len(table) + np.arange(len(cycles))]),
        )


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

        self.table.show_rows(_columns(view, rows), rows.present, words)
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


def cycle_words(cycle: Cycle) -> str:
    """How often a cycle is entered, how many calls are inside it, and its time."""
    return (
        f"Entered {plural(cycle.entries, 'time')}, {plural(cycle.inner_calls, 'call')} inside; "
        f"{time_text(cycle.self_ns)} of {time_text(cycle.inclusive_ns)} in its functions themselves"
    )


def _growth_column(view: View, count: int) -> Column:
    """How calls grow with the size of the input; in the order of what functions would take at ten times the data."""
    later = np.zeros(max(count + len(view.loaded.cycles), 1))
    for n, row in view.by_size.items():
        later[n] = row.self_ns_at(TEN_TIMES)

    def write(n: int) -> str:
        return law_text(view.by_size[n]) if n in view.by_size else ""

    def explain(n: int) -> str:
        return growth_words(view.by_size[n]) if n in view.by_size else "It was not measured at other sizes."

    return Column("growth", "calls grow as", 88, write, later, explain, importance=2)


NO_EVIDENCE = " This may be chance."


def _columns(view: View, rows: Rows) -> list[Column]:
    loaded = view.loaded
    figures, functions, count = loaded.figures, loaded.profile.functions, rows.functions
    total = max(loaded.profile.total_ns, 1)
    longest = float(max(rows.inclusive_ns.max(initial=0), view.base.figures.inclusive_ns.max(initial=0) if view.base else 0, 1))
    order = np.argsort(-figures.self_ns, kind="stable")
    running = np.full(len(rows.name), 2.0)  # the functions of a cycle have their share already
    running[order] = running_share(figures.self_ns[order], total)
    gains = np.zeros(len(rows.name), np.int64)
    before = np.zeros(len(rows.name), np.int64)
    if view.comparison:
        gains[:count] -= figures.self_ns
        compared = np.fromiter(view.row_of.values(), np.int64, len(view.row_of))
        numbers = np.fromiter(view.row_of, np.int64, len(view.row_of))
        gains[numbers] += view.comparison.self_ns[compared, 0]
        before[numbers] = view.comparison.calls[compared, 0]
    uncertain = np.zeros(len(rows.name), bool)
    uncertain[:count] = figures.uncertain
    half_ns = np.full(len(rows.name), np.nan)
    half_ns[:count] = figures.self_half_ns

    cost = np.maximum(rows.raw_self_ns / loaded.profile.slowness - rows.self_ns, 0)

    def bar(n: int) -> Bar:
        base = view.base_times(n) if n < count else None
        return Bar(longest, rows.self_ns[n], rows.inclusive_ns[n], base[1] if base else None, rows.layer[n])

    def say_what(n: int) -> str:
        if n >= count:
            names = ", ".join(functions.name[member] for member in loaded.cycles[n - count].members[:40])
            return f"Mutually recursive functions: {names}. {cycle_words(loaded.cycles[n - count])}."
        place = f"{functions.file[n] or functions.module[n]}, line {functions.first_line[n]}"
        said = f"{functions.name[n]} in {place}; layer: {functions.layer[n]}"
        grown = view.growing.get(n)
        return said + (
            f". Self time per call went from {time_text(grown.first_ns)} at the start to {time_text(grown.last_ns)} at the end"
            if grown
            else ""
        )

    def say_bar(n: int) -> str:
        said = (
            f"Dark: {time_text(rows.self_ns[n])} in its own body. Light: "
            f"{time_text(rows.inclusive_ns[n] - rows.self_ns[n])} in what it called."
        )
        base = view.base_times(n) if n < count else None
        return said + (f" Dashed: {time_text(base[1])} in round {view.base.round.number}." if base else "")

    def say_self(n: int) -> str:
        share = share_text(rows.self_ns[n] / total)
        where = f"in {rows.name[n]} itself" if n < count else "in its functions themselves"
        said = f"{time_text(rows.self_ns[n])} {where}, {share} of {loaded.what}."
        said += f" {time_text(cost[n])} of recording overhead is deducted."
        if half_ns[n] == half_ns[n]:
            said += f" {interval_words(rows.self_ns[n], half_ns[n])}"
        return said + (" This figure is uncertain." if uncertain[n] else "")

    def write_half(n: int) -> str:
        return half_text(rows.self_ns[n], half_ns[n])

    def write_self(n: int) -> str:
        return ("≈\N{NARROW NO-BREAK SPACE}" if uncertain[n] else "") + time_text(rows.self_ns[n])

    def write_under(n: int) -> str:
        if n >= count:
            return rows.cycles[n - count]
        place = place_text(functions.file[n], int(functions.first_line[n]), functions.module[n])
        return "edited" if view.edited(n) else place

    def say_calls(n: int) -> str:
        if n >= count:
            return f"{cycle_words(loaded.cycles[n - count])}."
        then = f" {count_text(int(before[n]))} calls in round {view.base.round.number}." if view.base is not None else ""
        return (
            f"Called {plural(int(figures.calls[n]), 'time')}, {count_text(int(figures.first_entry_calls[n]))} of them "
            f"while it was not already active; resumed {plural(int(figures.resumes[n]), 'time')}.{then}"
        )

    def write_calls(n: int) -> str:
        now = count_text(int(rows.calls[n]))
        changed = view.comparison is not None and n < count and before[n] != rows.calls[n] and view.base_function(n) >= 0
        return f"{count_text(int(before[n]))} → {now}" if changed else now

    columns = [
        Column("rank", "", 36),
        Column("what", "function", 230, lambda n: rows.name[n], rows.name, say_what, under=write_under, grown=view.growing.get,
               left=True, rising=True),
        Column("bar", "time", 84, explain=say_bar, bar=bar, order=rows.inclusive_ns),
        Column("self", "self", 88, write_self, rows.self_ns, say_self),
        Column("share", "share", 60, lambda n: share_text(rows.self_ns[n] / total), rows.self_ns, say_self, importance=3),
        Column("half", "±", 48, write_half, half_ns / np.maximum(rows.self_ns, 1), say_self, soft=True, importance=4),
    ]  # fmt: skip
    if view.comparison:
        columns.append(
            Column("gain", "change", 94, None, gains, gain=lambda n: float(gains[n]) if n < count else None,
                   sure=lambda n: view.sure_of(n),
                   explain=lambda n: f"Self time: {time_text(rows.self_ns[n] + gains[n])} in round {view.base.round.number}, "
                                     f"{time_text(rows.self_ns[n])} now.{'' if view.sure_of(n) else NO_EVIDENCE}" if n < count else "")
        )  # fmt: skip
    if view.by_size:
        columns.append(_growth_column(view, count))
    columns += [
        Column("inclusive", "inclusive", 78, lambda n: time_text(rows.inclusive_ns[n]), rows.inclusive_ns,
               lambda n: f"{time_text(rows.inclusive_ns[n])} in {rows.name[n]} and all it called, recursion counted once: "
                         f"{share_text(rows.inclusive_ns[n] / total)} of {loaded.what}.", importance=2),
        Column("calls", "calls", 116 if view.comparison else 84, write_calls, rows.calls, say_calls, importance=1),
    ]  # fmt: skip
    columns += [
        Column("per call", "per call", 76, lambda n: time_text(rows.per_call_ns[n]), rows.per_call_ns,
               lambda n: f"{time_text(rows.per_call_ns[n])} inclusive for each call from outside.", importance=5),
        Column("running", "running", 72, lambda n: share_text(running[n]) if n < count else "", running,
               lambda n: f"All functions down to this one, by self time, are {share_text(running[n])} of {loaded.what}." if n < count
               else "", rising=True, importance=6),
    ]  # fmt: skip
    return columns
