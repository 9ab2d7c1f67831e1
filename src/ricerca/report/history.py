"""The history of a study: its rounds case by case, those that were made from the same round beside each other."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

from ricerca.measure.estimates import FASTER, NO_DIFFERENCE, SLOWER
from ricerca.model.cases import Part
from ricerca.model.rounds import Round
from ricerca.report.account import HistoryRow, history_of
from ricerca.report.expectation import expectations
from ricerca.report.verdicts import Judged, judged
from ricerca.report.wording import factor_text, time_text, verdict_text
from ricerca.study.store import Study

CSV_COLUMNS = ("case", "round", "name", "made_from", "fate", "run_ns", "share_of_first", "speedup", "low", "high", "verdict", "function",
               "self_ns")  # fmt: skip
BESIDE = 0.62
"""Of the room of a step, what alternatives share."""


@dataclass(frozen=True)
class Place:
    """A round in the picture: how many changes it is away from the first, as a number that tells alternatives apart."""

    row: HistoryRow
    x: float
    parent: int | None
    expected_ns: float | None
    against_parent: Judged | None
    beside: tuple[Judged, ...]
    """Verdicts against the alternatives before it, that were made from the same round."""


def turns_offered(places: Sequence[Place], at: int) -> list[tuple[str, list[tuple[int, int]]]]:
    """Which rounds the one in a place can be run in turn with: words, and numbers of rounds by twos.

    With the round it was made from, and where others were made from that one as well, all of these with each other.
    """
    place = places[at]
    if place.parent is None:
        return []
    number, base = place.row.number, place.parent
    offers = [(f"Run it in turn with round {base}", [(base, number)])]
    alike = [other.row.number for other in places if other.parent == base]
    if len(alike) > 1:
        pairs = list(combinations([base, *alike], 2))
        offers.append((f"Run rounds {', '.join(map(str, [base, *alike]))} in turn, each with each", pairs))
    return offers


@dataclass(frozen=True)
class History:
    """All cases of a study, the one that is looked at first."""

    cases: tuple[tuple[str, tuple[Place, ...]], ...]

    @property
    def places(self) -> tuple[Place, ...]:
        """The rounds of the case that is looked at."""
        return self.cases[0][1] if self.cases else ()


def read_history(study: Study, part: Part) -> History:
    """The history of a study: the case that is looked at, then those that any round measured besides."""
    seen = study.of(part)
    rounds = seen.rounds()
    own = rounds[0].case if rounds else part.case
    names = dict.fromkeys(case for round_ in study.of(Part()).rounds() for case in round_.cases)
    found = [(own, _places(seen))] if rounds else []
    found += [(name, _places(study.of(Part(name)))) for name in names if name != own]
    return History(tuple((name, places) for name, places in found if places))


def _places(study: Study) -> tuple[Place, ...]:
    rows, rounds = history_of(study), {round_.number: round_ for round_ in study.rounds()}
    return placed(rows, rounds)


def placed(rows: Sequence[HistoryRow], rounds: Mapping[int, Round]) -> tuple[Place, ...]:
    """Where each round stands: one step after the round it was made from, alternatives side by side.

    Parameters
    ----------
    rows : sequence of HistoryRow
        Rounds that have a time, oldest first.
    rounds : mapping of int to Round
        The same by number, with what they were made of.
    """
    numbers = [row.number for row in rows]
    parents = {row.number: _parent(row, numbers) for row in rows}
    depth: dict[int, int] = {}
    for number in numbers:
        parent = parents[number]
        depth[number] = 0 if parent is None else depth[parent] + 1
    found = []
    for row in rows:
        same = [number for number in numbers if depth[number] == depth[row.number]]
        at = same.index(row.number)
        shift = (at - (len(same) - 1) / 2) * BESIDE / max(len(same) - 1, 1) if len(same) > 1 else 0.0
        parent = parents[row.number]
        siblings = [number for number in numbers if number < row.number and parent is not None and parents[number] == parent]
        wanted = expectations(rounds[parent].note) if parent is not None else []
        found.append(
            Place(
                row, depth[row.number] + shift, parent, wanted[-1].total_ns if wanted else None,
                judged(rounds[parent], rounds[row.number]) if parent is not None else None,
                tuple(judged(rounds[number], rounds[row.number]) for number in siblings),
            )
        )  # fmt: skip
    return tuple(found)


def _parent(row: HistoryRow, numbers: Sequence[int]) -> int | None:
    """The round a row was made from; the one before it where that is not known or has no time."""
    before = [number for number in numbers if number < row.number]
    if not before:
        return None
    return row.made_from if row.made_from in before else before[-1]


def short_verdict(found: Judged | None) -> str:
    """A verdict in as few words as serve."""
    if found is None:
        return ""
    speedup = found.speedup
    if speedup.ratio != speedup.ratio:
        return "no verdict"
    if speedup.verdict == NO_DIFFERENCE:
        return NO_DIFFERENCE
    mark = {FASTER: "▼ ", SLOWER: "▲ "}.get(speedup.verdict, "")
    return f"{mark}{factor_text(speedup.ratio)} {speedup.verdict}" + ("; another answer" if found.answer.same is False else "")


def beside_text(place: Place) -> str:
    """What can be said of a round against its alternatives."""
    words = [
        f"{short_verdict(beside)} than {beside.base.number}" if beside.speedup.settled else f"{beside.base.number}: {short_verdict(beside)}"
        for beside in place.beside
    ]
    return "; ".join(words).replace("no difference than", "no difference to")


def place_text(place: Place) -> str:
    """A round of the history in sentences."""
    row = place.row
    parts = [f"Round {row.number} “{row.name}”{f' ({row.fate})' if row.fate else ''} takes {time_text(row.run_ns or 0)}."]
    if row.judged is not None:
        parts.append(f"Against the first: {verdict_text(row.judged.speedup)}.")
    if place.expected_ns:
        parts.append(f"{time_text(place.expected_ns)} was expected.")
    if row.note:
        parts.append(row.note)
    return " ".join(parts)


def history_csv(history: History, followed: Mapping[tuple[str, str], Mapping[int, int]]) -> str:
    """The history as a table: a row for each case and round, then for each followed function and round."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(
        [
            "case",
            "round",
            "name",
            "made_from",
            "fate",
            "run_ns",
            "share_of_first",
            "speedup",
            "low",
            "high",
            "verdict",
            "function",
            "self_ns",
        ]
    )
    for case, places in history.cases:
        for place in places:
            row, speedup = place.row, place.row.judged.speedup if place.row.judged else None
            low, high = speedup.interval if speedup is not None and speedup.interval else ("", "")
            writer.writerow(
                [case, row.number, row.name, row.made_from or "", row.fate, row.run_ns, round(row.of_first, 6),
                 round(speedup.ratio, 6) if speedup is not None else 1, low, high, speedup.verdict if speedup is not None else "", "", ""]
            )  # fmt: skip
    for (module, name), times in followed.items():
        for number, self_ns in times.items():
            writer.writerow(["", number, "", "", "", "", "", "", "", "", "", f"{module}.{name}", self_ns])
    return text.getvalue()
