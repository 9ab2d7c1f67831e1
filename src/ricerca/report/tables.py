"""Tables for the terminal, readable at 100 columns."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from rich.console import Console
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from ricerca.engine.ranking import running_share
from ricerca.engine.reading import EVERYTHING
from ricerca.loading import Loaded, Pair
from ricerca.report.facts import cycle_rows, edge_rows, function_rows, lead_rows, line_rows
from ricerca.report.notes import comparison_notes
from ricerca.report.status import not_told
from ricerca.report.wording import (
    THIN,
    count_text,
    cycle_name,
    factor_text,
    half_text,
    plural,
    printable,
    share_text,
    time_text,
    verdict_text,
)
from ricerca.runner.recordings import Waiting

LEAST_COLUMNS = 100
BAR_COLUMNS = 10
NAME_COLUMNS, WHERE_COLUMNS = 22, 18
MOST_CYCLES = 5


class Terminal(Console):
    """A terminal that breaks sentences at spaces alone: a thin space within a number and its unit keeps them on one line."""

    def print(self, *objects: Any, style: Any = None, markup: bool | None = None, **options: Any) -> None:
        """Print what Rich prints; a lone text is broken into lines here."""
        if len(objects) != 1 or not isinstance(objects[0], str):
            return super().print(*objects, style=style, markup=markup, **options)
        for line in self.render_str(objects[0], markup=markup is not False).split("\n", allow_blank=True):
            for part in broken(line, self.width):
                super().print(part, style=style, no_wrap=True, overflow="ignore", crop=False, **options)
        return None


def broken(line: Text, width: int) -> list[Text]:
    """A line as lines of at most so many characters, where its words allow it.

    >>> [part.plain for part in broken(Text("it would take 1\u202f016\u202fs of them"), 19)]
    ['it would take', '1\u202f016\u202fs of them']
    """
    parts = []
    while len(line) > width:
        cut = line.plain.rfind(" ", 1, width + 1)
        cut = cut if line.plain[: max(cut, 0)].strip() else line.plain.find(" ", width)
        if cut < 0:
            break
        parts.append(line[:cut])
        line = line[cut + 1 :]
    return [*parts, line]


def terminal() -> Console:
    """The terminal, or 100 columns where the output goes elsewhere."""
    columns = max(shutil.get_terminal_size((LEAST_COLUMNS, 40)).columns, 60)
    return Terminal(width=columns if sys.stdout.isatty() else LEAST_COLUMNS, highlight=False, soft_wrap=False)


def terminal_table(*columns: str, left: Sequence[str] = ("function", "where")) -> Table:
    """A table without lines; numbers stand on the right."""
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in columns:
        table.add_column(name, justify="left" if name in left else "right", no_wrap=True)
    return table


def fit(text: str, columns: int) -> str:
    """A text cut at its end to a width."""
    text = printable(text)
    return escape(text if len(text) <= columns else text[: columns - 1] + "…")


def where(file: str, line: int, module: str) -> str:
    """A place, as short as it can be told."""
    return fit(f"{file.rsplit('/', 1)[-1]}:{line}" if file else module, WHERE_COLUMNS)


def _name(row: dict[str, Any], console: Console) -> str:
    return fit(row["function"], NAME_COLUMNS + console.width - LEAST_COLUMNS)


def _bar(self_ns: int, inclusive_ns: int, longest_ns: int) -> Text:
    """Dark for a part's own time, light for what it called; one scale for the table."""
    whole = round(BAR_COLUMNS * inclusive_ns / max(longest_ns, 1))
    own = min(round(BAR_COLUMNS * self_ns / max(longest_ns, 1)), whole)
    return Text("█" * own + "░" * (whole - own))


def _half(self_ns: int, interval: list[int] | None) -> str:
    """Half the width of a time's interval as a share of it."""
    return half_text(self_ns, interval[1] - self_ns).replace(THIN, "") if interval else ""


def _sure_or_not(self_ns: int, uncertain: bool) -> str:
    """A self time, marked where its interval is too wide to act on."""
    return ("≈ " if uncertain else "") + time_text(self_ns)


def _headline(loaded: Loaded) -> str:
    profile, round_ = loaded.profile, loaded.round
    parts = [f"Round {round_.number} “{round_.name}”"]
    if loaded.beside_itself:
        threads = plural(len(set(loaded.whole.thread[loaded.whole.raw_self_ns > 0].tolist())), "thread")
        parts.append(f"{time_text(loaded.elapsed_ns)} elapsed ({time_text(loaded.whole.total_ns)} of {threads} together)")
    else:
        parts.append(f"{time_text(loaded.elapsed_ns)} recorded")
    if loaded.plain_ns:
        parts.append(f"{time_text(loaded.plain_ns)} plain ({plural(len(round_.plain_ns), 'run')})")
    parts.append(f"{count_text(profile.total_calls)} calls")
    if profile.facts.hook == "python":
        parts.append("with the slower recorder in Python")
    if not loaded.run.complete:
        parts.append(f"incomplete: {'; '.join(loaded.run.because)}")
    reading = replace(loaded.reading, machinery=True)
    if reading != EVERYTHING:
        parts.append(f"reading: {reading.text}")
    return escape(" · ".join(parts))


def show_leads(pair: Pair, besides: Sequence[str] = ()) -> None:
    """What deserves a look, as numbered sentences with their evidence; below it what else is known, such as how it grows."""
    console = terminal()
    for number, row in enumerate(lead_rows(pair), 1):
        most = f" At most {factor_text(row['ceiling'])} faster." if row["ceiling"] else ""
        console.print(escape(f"{number}. {row['sentence']}{most}"), style="bold")
        doubt = ["uncertain: see its interval"] if row["uncertain"] else []
        for text in (*row["evidence"], *doubt):
            console.print(escape(f"   {text}"))
        if row["file"]:
            console.print(escape(f"   {row['file']}:{row['line']}"))
    for text in besides:
        console.print(escape(printable(text)))
    console.print()


def show_functions(loaded: Loaded, by: str, top: int) -> None:
    """The ranking of functions."""
    console = terminal()
    console.print(_headline(loaded))
    rows = function_rows(loaded, by, top)
    total = max(loaded.profile.total_ns, 1)
    table = terminal_table("#", "function", "where", "", "self", "±", "share", "inclusive", "calls", left=("function", "where", ""))
    longest = max((row["inclusive_ns"] for row in rows), default=1)
    for number, row in enumerate(rows, 1):
        table.add_row(
            str(number), _name(row, console), where(row["file"], row["line"], row["module"]),
            _bar(row["self_ns"], row["inclusive_ns"], longest), _sure_or_not(row["self_ns"], row["uncertain"]),
            _half(row["self_ns"], row["self_interval_ns"]), share_text(row["self_ns"] / total),
            time_text(row["inclusive_ns"]), count_text(row["calls"]),
        )  # fmt: skip
    console.print(table)
    if by == "self" and len(rows) > 2:
        import numpy as np

        share = running_share(np.asarray([row["self_ns"] for row in rows]), total)
        three = f", the first three {share_text(float(share[2]))}" if len(rows) > 3 else ""
        console.print(f"The first {len(rows)} take {share_text(float(share[-1]))}{three}.")
    facts = loaded.profile.facts
    if facts.public_only:
        console.print(f"Python {facts.python} is newer than the tested versions, so only its public interfaces are used.")
    if facts.not_by_time:
        console.print(f"No room was left for more: {facts.not_by_time}.")
    if not_told(loaded):
        console.print(not_told(loaded), style="dim")
    for cycle in cycle_rows(loaded, MOST_CYCLES):
        names = [row["function"] for row in cycle["functions"]]
        console.print(
            escape(
                f"{cycle_name(names)}: {time_text(cycle['inclusive_ns'])}, {time_text(cycle['self_ns'])} of it self time; "
                f"entered {plural(cycle['entries'], 'time')}, {plural(cycle['inner_calls'], 'call')} inside"
            )
        )


def show_lines(loaded: Loaded, top: int) -> None:
    """The ranking of lines, each with its text as it was recorded."""
    console = terminal()
    console.print("\nLines")
    table = terminal_table("where", "line", "self", "calls made", "hits", left=("where", "line"))
    for row in line_rows(loaded, top):
        text = loaded.sources.get(row["file"], "").splitlines()
        code = text[row["line"] - 1].strip() if 0 < row["line"] <= len(text) else row["function"]
        table.add_row(
            where(row["file"], row["line"], ""), escape(code[:48]),
            "" if row["self_ns"] is None else time_text(row["self_ns"]), time_text(row["call_ns"]),
            "" if row["hits"] is None else count_text(row["hits"]),
        )  # fmt: skip
    console.print(table)


def show_edges(loaded: Loaded, top: int) -> None:
    """Callers and callees."""
    console = terminal()
    console.print("\nCallers and callees")
    table = terminal_table("caller", "line", "callee", "calls", "time", left=("caller", "callee"))
    for row in edge_rows(loaded, top):
        table.add_row(
            fit(row["caller"]["function"], 32), str(row["line"] or ""), fit(row["callee"]["function"], 32),
            count_text(row["calls"]), time_text(row["inclusive_ns"]),
        )  # fmt: skip
    console.print(table)


def show_comparison(pair: Pair, facts: dict[str, Any], top: int) -> None:
    """Two rounds beside each other; the pair has a base."""
    base, new = pair.base, pair.new
    assert base is not None
    console = terminal()
    console.print(escape(
        f"Round {new.round.number} “{new.round.name}” against round {base.round.number} “{base.round.name}”: "
        f"{time_text(pair.base_ns)} → {time_text(pair.new_ns)}, {verdict_text(pair.verdict)}"
    ), style="bold")  # fmt: skip
    if facts["reading"] != EVERYTHING.text:
        console.print(escape(f"Both reading: {facts['reading']}"))
    for line in comparison_notes(pair):
        console.print(escape(printable(line)))
    table = terminal_table(
        "function", "match", "", "self before", "after", "change", "calls before", "after", left=("function", "match", "")
    )
    for row in facts["functions"][:top]:
        gain = row["self_ns"][0] - row["self_ns"][1]
        sign = "−" if gain > 0 else "+" if gain < 0 else ""
        mark = ({"−": "▼ ", "+": "▲ ", "": ""}[sign] if row["more_than_chance"] else "") + sign
        table.add_row(
            _name(row, console), row["match"], "edited" if row["edited"] else "", *map(_sure_or_not, row["self_ns"], row["uncertain"]),
            mark + time_text(abs(gain)), count_text(row["calls"][0]), count_text(row["calls"][1]),
        )  # fmt: skip
    console.print(table)


def show_recordings(found: Sequence[Waiting]) -> None:
    """Recordings that are not in a study yet."""
    console = terminal()
    if not found:
        console.print("All recordings are in their studies.")
    for waiting in found:
        about = waiting.about
        program = printable(" ".join(about.subject.program)) or "unknown program"
        console.print(escape(f"{waiting.name}: {program}"), style="bold")
        where = f"   for round {about.round_number} of {printable(about.study)}" if about.study else ""
        for text in (where, f"   {printable(str(waiting.file))}, {waiting.bytes >> 10} KB", f"   {printable(waiting.why)}"):
            if text:
                console.print(escape(text))


def show_checks(checks: Sequence[Any]) -> None:
    """What works here."""
    console = terminal()
    table = terminal_table("", "what", "finding", left=("", "what", "finding"))
    for check in checks:
        table.add_row("✓" if check.works else "✗", escape(check.what), escape(check.finding))
        if check.advice:
            table.add_row("", "", escape("→ " + check.advice))
    table.columns[2].no_wrap = False
    console.print(table)
