"""What came of timing snippets against each other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations
from typing import Any

import numpy as np

from ricerca.measure.estimates import CONFIDENCE, Speedup, ratio_of_pairs
from ricerca.report.tables import fit, terminal, terminal_table
from ricerca.report.wording import THIN, count_text, factor_text, half_text, plural, time_text, verdict_text
from ricerca.runner.snippets import SnippetRequest, SnippetTimes

PICOSECONDS = 1000
SPREAD_COLUMNS = 24


def median_interval(values: Sequence[float]) -> tuple[float, float] | None:
    """The 95 % interval of a median, from the order of the values (Thompson, 1936); None where they are too few."""
    from scipy import stats

    count = len(values)
    rank = int(stats.binom.ppf((1 - CONFIDENCE) / 2, count, 0.5))
    if rank < 1:
        return None
    ordered = sorted(values)
    return ordered[rank - 1], ordered[count - rank]


def between(first_ns: Sequence[float], second_ns: Sequence[float]) -> Speedup:
    """How much faster the second snippet is than the first, from blocks that were run in turn."""
    pairs = [(round(a * PICOSECONDS), round(b * PICOSECONDS)) for a, b in zip(first_ns, second_ns, strict=True)]
    found = ratio_of_pairs(pairs)
    return replace(found, why=f"{plural(len(pairs), 'block')} of each, run in turn")


def snippet_facts(request: SnippetRequest, found: Sequence[SnippetTimes], calls: Sequence[float | None] = ()) -> dict[str, Any]:
    """The JSON contract; snippets of several interpreters one after the other, compared within each."""
    rows: list[dict[str, Any]] = []
    pairs: list[dict[str, Any]] = []
    for times in found:
        first = len(rows)
        for number, text in enumerate(request.texts):
            blocks = times.blocks_ns[number]
            interval = median_interval(blocks)
            row: dict[str, Any] = {
                "number": number + 1,
                "text": text,
                "median_ns": round(float(np.median(blocks)), 3),
                "interval_ns": [round(end, 3) for end in interval] if interval else None,
                "loops": times.loops[number],
                "blocks": len(blocks),
                "spread_ns": [round(float(end), 3) for end in np.percentile(blocks, [0, 25, 50, 75, 100])],
                "python": times.version,
            }
            if calls:
                row["calls"] = calls[number]
            rows.append(row)
        for a, b in combinations(range(len(request.texts)), 2):
            speedup = between(times.blocks_ns[a], times.blocks_ns[b])
            pairs.append(
                {
                    "first": first + a,
                    "second": first + b,
                    "speedup": round(speedup.ratio, 4),
                    "interval": [round(end, 4) for end in speedup.interval] if speedup.interval else None,
                    "verdict": speedup.verdict,
                    "why": speedup.why,
                }
            )
    answers = [times.same_answer for times in found]
    same = False if False in answers else None if None in answers else True
    return {"setup": request.setup, "collect": request.collect, "snippets": rows, "pairs": pairs, "same_answer": same}


def answer_text(facts: dict[str, Any]) -> str:
    """Whether the snippets come to the same, in a sentence; empty where there is only one."""
    if max(row["number"] for row in facts["snippets"]) < 2:
        return ""
    return {
        True: "All come to the same value.",
        False: "They do not come to the same value: a faster one may be a wrong one.",
        None: "Whether they come to the same value could not be told.",
    }[facts["same_answer"]]


def pair_sentence(facts: dict[str, Any], pair: dict[str, Any]) -> str:
    """A verdict between two snippets."""
    rows = facts["snippets"]
    several = len({row["python"] for row in rows}) > 1
    first, second = rows[pair["first"]], rows[pair["second"]]
    python = f" on Python {second['python']}" if several else ""
    interval = tuple(pair["interval"]) if pair["interval"] else None
    verdict = verdict_text(Speedup(pair["speedup"], interval, pair["verdict"]))
    return f"{second['number']} against {first['number']}{python}: {verdict}"


def beside_median(row: dict[str, Any]) -> str:
    """What stands below a median: half of its interval, and the calls of a loop where they were counted.

    >>> beside_median({"median_ns": 200.0, "interval_ns": [198.0, 201.0], "calls": 2.0})
    '±0.5\u202f% · 2 calls'
    """
    percent = (row["interval_ns"][1] - row["median_ns"]) / row["median_ns"] * 100 if row["interval_ns"] else None
    texts = [f"±{percent:.2g}{THIN}%"] if percent is not None else []
    if row.get("calls") is not None:
        texts.append(f"{row['calls']:g} call" + ("" if row["calls"] == 1 else "s"))
    return " · ".join(texts)


def short_pair(pair: dict[str, Any]) -> str:
    """A verdict against the first snippet, in two short lines."""
    than = {"faster": "faster than 1", "slower": "slower than 1", "no difference": "no difference from 1"}
    between = f"\nbetween {factor_text(pair['interval'][0])} and {factor_text(pair['interval'][1])}" if pair["interval"] else ""
    return f"{factor_text(pair['speedup'])}: {than.get(pair['verdict'], 'undecided against 1')}{between}"


def spread_text(row: dict[str, Any], longest_ns: float) -> str:
    """Where the blocks of a snippet lie, on one scale: the range thin, the middle half thick."""
    low, first, middle, third, high = (min(int(end / longest_ns * (SPREAD_COLUMNS - 1)), SPREAD_COLUMNS - 1) for end in row["spread_ns"])
    signs = [" "] * SPREAD_COLUMNS
    for place in range(low, high + 1):
        signs[place] = "─"
    for place in range(first, third + 1):
        signs[place] = "━"
    signs[middle] = "┃"
    return "".join(signs)


def show_snippets(facts: dict[str, Any]) -> None:
    """Snippets in the terminal, the verdicts below."""
    console = terminal()
    rows = facts["snippets"]
    several = len({row["python"] for row in rows}) > 1
    with_calls = any("calls" in row for row in rows)
    heads = ["#", "snippet", *(["Python"] if several else []), "a loop", "±", "spread", *(["calls"] if with_calls else []), "loops"]
    table = terminal_table(*heads, left=("snippet", "Python", "spread"))
    longest = max(float(np.percentile([row["spread_ns"][3] for row in rows], 100)) * 1.3, 1e-9)
    for row in rows:
        interval = row["interval_ns"]
        table.add_row(
            str(row["number"]), fit(" ".join(row["text"].split()), 34), *([row["python"]] if several else []),
            time_text(row["median_ns"]), half_text(row["median_ns"], interval[1] - row["median_ns"]).replace(THIN, "") if interval else "",
            spread_text(row, longest), *([f"{row['calls']:g}"] if with_calls else []), count_text(row["loops"]),
        )  # fmt: skip
    console.print(table)
    for pair in facts["pairs"]:
        console.print(pair_sentence(facts, pair), markup=False)
    answer = answer_text(facts)
    if answer:
        console.print(answer, markup=False)
