"""How the functions of a round grow with the size of the input: as rows, sentences, and a table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ricerca.engine.leads import GROWTH, SIZES, Evidence, Lead
from ricerca.engine.leads import TEN_TIMES as IN_TEN_TIMES
from ricerca.engine.profile import group_sums
from ricerca.engine.ranking import ceiling
from ricerca.engine.reading import EVERYTHING, Reading
from ricerca.engine.waits import worked_ns
from ricerca.loading import Loaded, load, paired
from ricerca.measure.growth import CONSTANT, GrowthRow, Law, growth_row, law_of_counts
from ricerca.model.cases import Part, size_number
from ricerca.model.errors import InputError
from ricerca.report.tables import fit, terminal, terminal_table, where
from ricerca.report.wording import count_text, time_text
from ricerca.study.store import Study

TEN_TIMES = 10.0
LEAST_SHARE = 0.1
STEEP = 1.5
"""A function that grows faster than this power deserves a lead; with n log n it stays under it."""


def load_sizes(study: Study, number: int | None = None, reading: Reading = EVERYTHING) -> list[Loaded]:
    """A round in each size in which its case was recorded, the smallest first, all read alike.

    Raises
    ------
    InputError
        The round has no sizes that are numbers.
    """
    round_ = study.round(number)
    sizes = [size for size in round_.sizes if size_number(size) is not None]
    if len(sizes) < 2:
        raise InputError(f"Round {round_.number} was measured in one size only, so nothing is known about growth.",
                         "Measure several: ricerca record --size n=1000,2000,4000,8000 -- SCRIPT {n}")  # fmt: skip
    return [paired(None, load(study.of(Part(round_.case, size)), round_.number), reading).new for size in sizes]


def growth_of(sizes: Sequence[Loaded]) -> list[GrowthRow]:
    """All functions at all sizes, the one that takes longest at the largest first; a function that was not called has 0 calls."""
    numbers = [size_number(loaded.round.size) or 0.0 for loaded in sizes]
    found: dict[tuple[str, str, str, int], np.ndarray] = {}
    for at, loaded in enumerate(sizes):
        table, figures = loaded.profile.functions, loaded.figures
        working_ns = group_sums(loaded.profile.function, worked_ns(loaded.profile), len(table))
        for n in np.flatnonzero(figures.calls):
            key = table.name[n], table.module[n], table.file[n], int(table.first_line[n])
            figure = found.setdefault(key, np.zeros((3, len(sizes)), np.int64))
            figure[:, at] += int(figures.calls[n]), int(figures.self_ns[n]), int(working_ns[n])
    rows = [growth_row(key, numbers, *figure.tolist()) for key, figure in found.items()]
    return sorted(rows, key=lambda row: -row.self_ns[-1])


def whole_law(sizes: Sequence[Loaded]) -> Law:
    """How the number of all calls grows."""
    return law_of_counts([size_number(loaded.round.size) or 0.0 for loaded in sizes], [loaded.profile.total_calls for loaded in sizes])


def growth_facts(rows: Sequence[GrowthRow]) -> list[dict[str, Any]]:
    """The rows of the JSON contract."""
    return [
        {
            "function": row.function,
            "module": row.module,
            "file": row.file,
            "line": row.line,
            "sizes": [int(size) if size == int(size) else size for size in row.sizes],
            "calls": list(row.calls),
            "calls_law": row.calls_law.law,
            "calls_exponent": _rounded(row.calls_law.exponent),
            "self_ns": list(row.self_ns),
            "time_exponent": _rounded(row.time_exponent),
            "time_exponent_interval": [_rounded(end) for end in row.time_exponent_interval] if row.time_exponent_interval else None,
        }
        for row in rows
    ]


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 4)


def law_text(row: GrowthRow) -> str:
    """How the calls of a function grow, in a word or two.

    >>> law_text(growth_row(("f", "m", "m.py", 1), (10, 20, 40, 80), (90, 380, 1560, 6320), (0, 0, 0, 0)))
    'n²'
    """
    law = row.calls_law.law
    if law is None:
        return f"about n^{row.calls_law.exponent:.2f}" if row.calls_law.exponent is not None else "no law"
    return "constant" if law == CONSTANT else law.replace("^2", "²").replace("^3", "³").replace("^4", "⁴")


def growth_words(row: GrowthRow) -> str:
    """How a function grows, in sentences.

    >>> growth_words(growth_row(("f", "m", "m.py", 1), (10, 20, 40, 80), (1, 1, 1, 1), (0, 0, 0, 0)))
    'Its calls do not depend on the size.'
    """
    law = row.calls_law.law
    if law == CONSTANT:
        words = "Its calls do not depend on the size."
    elif law is not None:
        words = f"Its calls grow as {law_text(row)}, exact at {len(row.sizes)} sizes."
    else:
        words = f"No law of its calls fits {len(row.sizes)} sizes; the slope is {law_text(row)}."
    if row.time_exponent is not None and row.time_exponent_interval is not None:
        low, high = row.time_exponent_interval
        words += f" Its self time grows as n^{row.time_exponent:.2f}, between {low:.2f} and {high:.2f}."
    if row.self_ns[-1]:
        words += f" At ten times the data it would take about {time_text(row.self_ns_at(TEN_TIMES))}."
    return words


def growth_by_function(loaded: Loaded, rows: Sequence[GrowthRow]) -> dict[int, GrowthRow]:
    """How each function of a round that is read grows, by its number."""
    table = loaded.profile.functions
    by_name = {(row.function, row.module, row.file, row.line): row for row in rows}
    keys = zip(table.name, table.module, table.file, table.first_line.tolist(), strict=True)
    return {n: by_name[key] for n, key in enumerate(keys) if key in by_name}


def _steep_calls(row: GrowthRow) -> bool:
    return row.calls_law.law not in (None, CONSTANT, "log n", "n", "n log n")


def steep_rows(rows: Sequence[GrowthRow]) -> list[GrowthRow]:
    """Functions that grow faster than their input and would take a tenth of the run at ten times the data, the largest first."""
    total = sum(row.self_ns_at(TEN_TIMES) for row in rows)
    steep = [row for row in rows if _steep_calls(row) or (row.time_exponent_interval is not None and row.time_exponent_interval[0] > STEEP)]
    return sorted((row for row in steep if row.self_ns_at(TEN_TIMES) >= LEAST_SHARE * total), key=lambda row: -row.self_ns_at(TEN_TIMES))


def growth_sentences(rows: Sequence[GrowthRow]) -> list[str]:
    """What deserves a look: a sentence for each of ``steep_rows``."""
    total, found = sum(row.self_ns_at(TEN_TIMES) for row in rows), []
    for row in steep_rows(rows):
        then_ns = row.self_ns_at(TEN_TIMES)
        if _steep_calls(row):
            how = f"The calls of {row.function} grow as {law_text(row)} (counts exact at {len(row.sizes)} sizes)"
        else:
            assert row.time_exponent_interval is not None and row.time_exponent is not None
            low, high = row.time_exponent_interval
            how = f"The time of {row.function} grows as n^{row.time_exponent:.1f} ({low:.1f} to {high:.1f})"
        found.append(f"{how}: with ten times the data it would take {time_text(then_ns)} of {time_text(total)}.")
    return found


def growth_leads(loaded: Loaded, rows: Sequence[GrowthRow]) -> tuple[Lead, ...]:
    """The same as leads of a round that is read; those of functions that it does not have are left out."""
    table, figures = loaded.profile.functions, loaded.figures
    total, whole_ns = sum(row.self_ns_at(TEN_TIMES) for row in rows), loaded.profile.total_ns
    steep = {id(row) for row in steep_rows(rows)}
    found = []
    for n, row in growth_by_function(loaded, rows).items():
        if id(row) not in steep:
            continue
        low, high = row.time_exponent_interval or (0.0, 0.0)
        evidence = (
            Evidence(SIZES, calls=len(row.sizes), low=low, high=high),
            Evidence(IN_TEN_TIMES, time_ns=row.self_ns_at(TEN_TIMES), later_ns=total),
        )
        own_ns, by_calls = int(figures.self_ns[n]), _steep_calls(row)
        law = law_text(row) if by_calls else f"n^{row.time_exponent:.1f}"
        found.append(
            Lead(GROWTH, row.function, int(figures.calls[n]), own_ns / max(whole_ns, 1), evidence, own_ns, int(figures.inclusive_ns[n]),
                 ceiling(own_ns, max(whole_ns, 1)), table.layer[n], n, law=law, of_calls=by_calls)
        )  # fmt: skip
    return tuple(sorted(found, key=lambda lead: -lead.evidence[1].time_ns))


def show_growth(sizes: Sequence[Loaded], rows: Sequence[GrowthRow], top: int) -> None:
    """Growth as a table, and in sentences."""
    console = terminal()
    names = [loaded.round.size for loaded in sizes]
    console.print(f"Round {sizes[0].round.number} at {len(names)} sizes: {', '.join(names)}")
    for number, sentence in enumerate(growth_sentences(rows), 1):
        console.print(f"{number}. {sentence}", style="bold")
    table = terminal_table("function", "where", "calls", "", "grow as", "self", "", "grows as", left=("function", "where", "grow as"))
    for row in rows[:top]:
        interval = row.time_exponent_interval
        table.add_row(
            fit(row.function, 26), where(row.file, row.line, row.module), count_text(row.calls[0]), f"→ {count_text(row.calls[-1])}",
            law_text(row), time_text(row.self_ns[0]), f"→ {time_text(row.self_ns[-1])}",
            f"n^{row.time_exponent:.2f} ± {(interval[1] - interval[0]) / 2:.2f}" if interval and row.time_exponent is not None else "",
        )  # fmt: skip
    console.print(table)
