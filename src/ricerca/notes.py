"""What is to be said of two rounds besides their figures, in words that window, terminal and exports share."""

from __future__ import annotations

import os

from ricerca.loading import Pair
from ricerca.model.answers import ANOTHER, SAME, VARIES
from ricerca.wording import count_text, evidence_text, plural

MOST_NAMES = 3


def answer_note(pair: Pair) -> str:
    """Whether both rounds answer the same; empty where nobody knows."""
    found = pair.answer
    if found.verdict == SAME:
        return "The answer is the same"
    if found.verdict == ANOTHER:
        return f"The answer is another: {found.difference}"
    if found.verdict == VARIES:
        return f"The answer varies by itself, so it cannot be compared: {found.difference}"
    return ""


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
    found = [evidence_text(pair.verdict) if pair.verdict is not None else "", answer_note(pair), edited_note(pair), counts_note(pair)]
    if pair.differs:
        found.append(f"Besides the code differ: {'; '.join(pair.differs)}")
    return [f"{text}." for text in found if text]


def _some(names: list[str]) -> str:
    rest = len(names) - MOST_NAMES
    return ", ".join(names[:MOST_NAMES]) + (f" and {plural(rest, 'more', 'more')}" if rest > 0 else "")
