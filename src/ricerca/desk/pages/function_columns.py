"""What the columns of the ranking say of a function or a cycle, and how they explain it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ricerca.desk.pages.figure_table import Bar, Column
from ricerca.desk.state import View
from ricerca.engine.cycles import Cycle
from ricerca.engine.ranking import running_share
from ricerca.report.growth import TEN_TIMES, growth_words, law_text
from ricerca.report.wording import count_text, half_text, interval_words, place_text, plural, share_text, time_text

MOST_NAMED = 12
MOST_IN_TIP = 40
NO_EVIDENCE = " This may be chance."


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


def cycle_words(cycle: Cycle) -> str:
    """How often a cycle is entered, how many calls are inside it, and its time."""
    return (
        f"Entered {plural(cycle.entries, 'time')}, {plural(cycle.inner_calls, 'call')} inside; "
        f"{time_text(cycle.self_ns)} of {time_text(cycle.inclusive_ns)} in its functions themselves"
    )


class FunctionColumns:
    """The columns for the rows of a view: each number, what stands below it, and the sentence that explains it."""

    def __init__(self, view: View, rows: Rows) -> None:
        self._view, self._rows, self._loaded = view, rows, view.loaded
        figures, base, everything = view.loaded.figures, view.base, len(rows.name)
        self._functions, self._count = view.loaded.profile.functions, rows.functions
        self._total_ns = max(view.loaded.profile.total_ns, 1)
        self._longest_ns = float(max(rows.inclusive_ns.max(initial=0), base.figures.inclusive_ns.max(initial=0) if base else 0, 1))
        order = np.argsort(-figures.self_ns, kind="stable")
        self._running = np.full(everything, 2.0)  # the functions of a cycle have their share already
        self._running[order] = running_share(figures.self_ns[order], self._total_ns)
        self._gains, self._before = np.zeros(everything, np.int64), np.zeros(everything, np.int64)
        if view.comparison:
            self._gains[: self._count] -= figures.self_ns
            compared = np.fromiter(view.row_of.values(), np.int64, len(view.row_of))
            numbers = np.fromiter(view.row_of, np.int64, len(view.row_of))
            self._gains[numbers] += view.comparison.self_ns[compared, 0]
            self._before[numbers] = view.comparison.calls[compared, 0]
        self._uncertain, self._half_ns = np.zeros(everything, bool), np.full(everything, np.nan)
        self._uncertain[: self._count] = figures.uncertain
        self._half_ns[: self._count] = figures.self_half_ns
        self._deducted_ns = np.maximum(rows.raw_self_ns / view.loaded.profile.slowness - rows.self_ns, 0)

    def columns(self) -> list[Column]:
        """All columns, from the left."""
        view, rows = self._view, self._rows
        found = [
            Column("rank", "", 36),
            Column("what", "function", 230, lambda n: rows.name[n], rows.name, self._explain_name, under=self._place,
                   grown=view.growing.get, left=True, rising=True),
            Column("bar", "time", 84, explain=self._explain_bar, bar=self._bar, order=rows.inclusive_ns),
            Column("self", "self", 88, self._self, rows.self_ns, self._explain_self),
            Column("share", "share", 60, self._share, rows.self_ns, self._explain_self, importance=3),
            Column("half", "±", 48, self._half, self._half_ns / np.maximum(rows.self_ns, 1), self._explain_self, soft=True, importance=4),
        ]  # fmt: skip
        if view.comparison:
            found.append(Column("gain", "change", 94, None, self._gains, gain=self._gain, sure=view.sure_of, explain=self._explain_gain))
        if view.by_size:
            found.append(self._growth())
        return [
            *found,
            Column("inclusive", "inclusive", 78, self._inclusive, rows.inclusive_ns, self._explain_inclusive, importance=2),
            Column("calls", "calls", 116 if view.comparison else 84, self._calls, rows.calls, self._explain_calls, importance=1),
            Column("per call", "per call", 76, self._per_call, rows.per_call_ns,
                   lambda n: f"{self._per_call(n)} inclusive for each call from outside.", importance=5),
            Column("running", "running", 72, self._running_share, self._running, self._explain_running, rising=True, importance=6),
        ]  # fmt: skip

    def _is_cycle(self, n: int) -> bool:
        return n >= self._count

    def _cycle(self, n: int) -> Cycle:
        return self._loaded.cycles[n - self._count]

    def _explain_name(self, n: int) -> str:
        table = self._functions
        if self._is_cycle(n):
            names = ", ".join(table.name[member] for member in self._cycle(n).members[:MOST_IN_TIP])
            return f"Mutually recursive functions: {names}. {cycle_words(self._cycle(n))}."
        place = f"{table.file[n] or table.module[n]}, line {table.first_line[n]}"
        said, grown = f"{table.name[n]} in {place}; layer: {table.layer[n]}", self._view.growing.get(n)
        if grown is None:
            return said
        return f"{said}. Self time per call went from {time_text(grown.first_ns)} at the start to {time_text(grown.last_ns)} at the end"

    def _place(self, n: int) -> str:
        if self._is_cycle(n):
            return self._rows.cycles[n - self._count]
        table = self._functions
        return "edited" if self._view.edited(n) else place_text(table.file[n], int(table.first_line[n]), table.module[n])

    def _bar(self, n: int) -> Bar:
        base = None if self._is_cycle(n) else self._view.base_times(n)
        return Bar(self._longest_ns, self._rows.self_ns[n], self._rows.inclusive_ns[n], base[1] if base else None, self._rows.layer[n])

    def _explain_bar(self, n: int) -> str:
        own_ns, whole_ns = self._rows.self_ns[n], self._rows.inclusive_ns[n]
        said = f"Dark: {time_text(own_ns)} in its own body. Light: {time_text(whole_ns - own_ns)} in what it called."
        base = None if self._is_cycle(n) else self._view.base_times(n)
        return said + (f" Dashed: {time_text(base[1])} in round {self._view.base.round.number}." if base else "")

    def _self(self, n: int) -> str:
        return ("≈\N{NARROW NO-BREAK SPACE}" if self._uncertain[n] else "") + time_text(self._rows.self_ns[n])

    def _share(self, n: int) -> str:
        return share_text(self._rows.self_ns[n] / self._total_ns)

    def _half(self, n: int) -> str:
        return half_text(self._rows.self_ns[n], self._half_ns[n])

    def _explain_self(self, n: int) -> str:
        where = "in its functions themselves" if self._is_cycle(n) else f"in {self._rows.name[n]} itself"
        said = f"{time_text(self._rows.self_ns[n])} {where}, {self._share(n)} of {self._loaded.what}."
        said += f" {time_text(self._deducted_ns[n])} of recording overhead is deducted."
        if self._half_ns[n] == self._half_ns[n]:
            said += f" {interval_words(self._rows.self_ns[n], self._half_ns[n])}"
        return said + (" This figure is uncertain." if self._uncertain[n] else "")

    def _gain(self, n: int) -> float | None:
        return None if self._is_cycle(n) else float(self._gains[n])

    def _explain_gain(self, n: int) -> str:
        if self._is_cycle(n):
            return ""
        own_ns, then = self._rows.self_ns[n], self._view.base.round.number
        sure = "" if self._view.sure_of(n) else NO_EVIDENCE
        return f"Self time: {time_text(own_ns + self._gains[n])} in round {then}, {time_text(own_ns)} now.{sure}"

    def _growth(self) -> Column:
        """How calls grow with the size of the input; in the order of what functions would take at ten times the data."""
        by_size, later = self._view.by_size, np.zeros(max(len(self._rows.name), 1))
        for n, row in by_size.items():
            later[n] = row.self_ns_at(TEN_TIMES)

        def write(n: int) -> str:
            return law_text(by_size[n]) if n in by_size else ""

        def explain(n: int) -> str:
            return growth_words(by_size[n]) if n in by_size else "It was not measured at other sizes."

        return Column("growth", "calls grow as", 88, write, later, explain, importance=2)

    def _inclusive(self, n: int) -> str:
        return time_text(self._rows.inclusive_ns[n])

    def _explain_inclusive(self, n: int) -> str:
        share = share_text(self._rows.inclusive_ns[n] / self._total_ns)
        return f"{self._inclusive(n)} in {self._rows.name[n]} and all it called, recursion counted once: {share} of {self._loaded.what}."

    def _calls(self, n: int) -> str:
        now, view = count_text(int(self._rows.calls[n])), self._view
        changed = (
            view.comparison is not None and not self._is_cycle(n) and self._before[n] != self._rows.calls[n] and view.base_function(n) >= 0
        )
        return f"{count_text(int(self._before[n]))} → {now}" if changed else now

    def _explain_calls(self, n: int) -> str:
        if self._is_cycle(n):
            return f"{cycle_words(self._cycle(n))}."
        base, figures = self._view.base, self._loaded.figures
        then = f" {count_text(int(self._before[n]))} calls in round {base.round.number}." if base is not None else ""
        return (
            f"Called {plural(int(figures.calls[n]), 'time')}, {count_text(int(figures.first_entry_calls[n]))} of them "
            f"while it was not already active; resumed {plural(int(figures.resumes[n]), 'time')}.{then}"
        )

    def _per_call(self, n: int) -> str:
        return time_text(self._rows.per_call_ns[n])

    def _running_share(self, n: int) -> str:
        return "" if self._is_cycle(n) else share_text(self._running[n])

    def _explain_running(self, n: int) -> str:
        if self._is_cycle(n):
            return ""
        return f"All functions down to this one, by self time, are {share_text(self._running[n])} of {self._loaded.what}."
