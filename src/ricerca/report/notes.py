"""Notes on two rounds besides their figures, in words that window, terminal and exports share."""

from __future__ import annotations

import math
import os

from ricerca.engine.slices import counterpart_evidence
from ricerca.loading import Pair
from ricerca.model.answers import ANOTHER, SAME, VARIES
from ricerca.report.wording import count_text, evidence_text, factor_text, plural, share_text

MOST_NAMES = 3
LEAST_DRIFT = 0.1


def answer_note(pair: Pair) -> str:
    """Whether both rounds give the same answer; empty where that is not known."""
    found = pair.answer
    if found.verdict == SAME:
        return "The answer is the same"
    if found.verdict == ANOTHER:
        return f"The answer differs: {found.difference}"
    if found.verdict == VARIES:
        return f"The answer varies from run to run, so it cannot be compared: {found.difference}"
    return ""


def drift_note(pair: Pair) -> str:
    """That the machine was slower or faster when the base round was measured, where it was run again beside the new one."""
    if pair.base is None:
        return ""
    factor, _doubt = pair.drift
    if abs(math.log(factor)) < LEAST_DRIFT:
        return ""
    number, way = pair.base.round.number, "slower" if factor < 1 else "faster"
    return (
        f"The machine was {factor_text(max(factor, 1 / factor))} {way} when round {number} itself was measured: "
        f"run again beside round {pair.new.round.number} it took {factor_text(factor)} the time"
    )


def stretch_note(pair: Pair) -> str:
    """How well it is known which part of the base round did the same work as a stretch that is read."""
    stretch = pair.new.reading.stretch
    if pair.base is None or stretch is None:
        return ""
    found = counterpart_evidence(pair.new.whole, *stretch, pair.base.whole)
    if not found:
        return "The same part of the other round was found by time alone: no function was called equally often"
    return f"The same part of the other round was found by functions that take {share_text(found)} of this stretch"


def edited_note(pair: Pair) -> str:
    """Which files were edited; empty where none was."""
    return f"Edited: {_some([os.path.basename(file) for file in pair.edited_files])}" if pair.edited_files else ""


def counts_note(pair: Pair) -> str:
    """That the same code made other calls, where it did."""
    if not pair.other_counts:
        return ""
    names = [f"{name} ({count_text(before)}, then {count_text(after)})" for name, before, after in pair.other_counts]
    return f"The code is the same, but calls differ in {plural(len(names), 'function')}: {_some(names)}"


def comparison_notes(pair: Pair) -> list[str]:
    """All of it, as sentences."""
    found = [
        evidence_text(pair.verdict) if pair.verdict is not None else "",
        drift_note(pair),
        stretch_note(pair),
        answer_note(pair),
        edited_note(pair),
        counts_note(pair),
    ]
    if pair.differs:
        found.append(f"Other differences besides the code: {'; '.join(pair.differs)}")
    return [f"{text}." for text in found if text]


def _some(names: list[str]) -> str:
    rest = len(names) - MOST_NAMES
    return ", ".join(names[:MOST_NAMES]) + (f" and {plural(rest, 'more', 'more')}" if rest > 0 else "")
