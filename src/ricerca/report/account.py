"""One account of a round, or of two compared: typed, with a version, and what every report is made from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ricerca.loading import Loaded, Pair
from ricerca.measure.estimates import Speedup
from ricerca.measure.worth import run_ns
from ricerca.model.cases import Part
from ricerca.report.facts import comparison_facts, function_rows, lead_rows, line_rows, reading_facts, round_facts
from ricerca.report.notes import comparison_notes
from ricerca.report.snippets import median_interval
from ricerca.report.status import not_told, status_words
from ricerca.report.verdicts import Judged, judged, judged_facts, of_other_cases
from ricerca.study.store import Study

VERSION = 1
TOP = 15


@dataclass(frozen=True)
class HistoryRow:
    """A round in the history of a case. Times in ns; ``judged`` is None for the first."""

    number: int
    name: str
    note: str
    revision: str
    made_from: int | None
    fate: str
    run_ns: int | None
    interval_ns: tuple[float, float] | None
    judged: Judged | None

    @property
    def of_first(self) -> float:
        """What a run takes as a share of what one of the first round does."""
        ratio = self.judged.speedup.ratio if self.judged is not None else 1.0
        return 1 / ratio if ratio == ratio and ratio > 0 else 0.0


@dataclass(frozen=True)
class Account:
    """What a report tells. ``others`` are verdicts of other cases that both rounds have measured."""

    study: str
    pair: Pair
    history: tuple[HistoryRow, ...]
    others: tuple[Judged, ...] = ()
    top: int = TOP

    @property
    def loaded(self) -> Loaded:
        """The round it is about."""
        return self.pair.new

    @property
    def verdict(self) -> Speedup | None:
        """That of the comparison; None without one."""
        return self.pair.verdict

    @property
    def title(self) -> str:
        """Round and program."""
        return f"{self.loaded.round.name}: {' '.join(self.loaded.round.subject.program)}"


def history_of(study: Study) -> tuple[HistoryRow, ...]:
    """All rounds of the case that is looked at, each judged against the first."""
    rounds = [round_ for round_ in study.rounds() if run_ns(round_)]
    return tuple(
        HistoryRow(
            round_.number, round_.name, round_.note, round_.revision, round_.made_from, round_.fate, run_ns(round_),
            median_interval(round_.plain_ns) or _range(round_.plain_ns), judged(rounds[0], round_) if round_ is not rounds[0] else None,
        )
        for round_ in rounds
    )  # fmt: skip


def _range(times_ns: tuple[int, ...]) -> tuple[float, float] | None:
    """The range of few plain runs, which holds the median with less than 95 %; None without at least three."""
    return (float(min(times_ns)), float(max(times_ns))) if len(times_ns) > 2 else None


def account_of(study: Study, pair: Pair, top: int | None = None) -> Account:
    """The account of a comparison, or of a round alone."""
    others: list[Judged] = []
    if pair.base is not None:
        case = pair.new.round.case
        others = of_other_cases(study, pair.base.round.number, pair.new.round.number, case)
    history = history_of(study.of(Part(pair.new.round.case, pair.new.round.size)))
    return Account(study.path.name, pair, history, tuple(others), top or TOP)


def account_facts(account: Account) -> dict[str, Any]:
    """The account as JSON; its schema is published as ``account.schema.json``."""
    pair, loaded = account.pair, account.loaded
    comparison = comparison_facts(pair, account.study) if pair.base is not None else None
    if comparison is not None:
        comparison["functions"] = comparison["functions"][: account.top]
        comparison["notes"] = comparison_notes(pair)
        comparison["other_cases"] = [judged_facts(other) for other in account.others]
        comparison["base_ns"], comparison["new_ns"] = pair.base_ns, pair.new_ns
    reading = reading_facts(loaded)
    return {
        "account": VERSION,
        "title": account.title,
        "round": round_facts(loaded, account.study),
        "comparison": comparison,
        "leads": lead_rows(pair),
        "functions": function_rows(loaded, top=account.top),
        "lines": _with_text(account),
        "history": [
            {
                "round": row.number,
                "name": row.name,
                "note": row.note,
                "revision": row.revision or None,
                "made_from": row.made_from,
                "fate": row.fate or None,
                "run_ns": row.run_ns,
                "interval_ns": [round(end) for end in row.interval_ns] if row.interval_ns else None,
                "against_first": judged_facts(row.judged) if row.judged else None,
            }
            for row in account.history
        ],
        "measured": {"how": status_words(loaded), "not_shown": not_told(loaded) or None, "reading": reading["reading"]},
        "machine": {
            "host": loaded.round.machine.host,
            "processor": loaded.round.machine.processor,
            "processors": loaded.round.machine.processors,
            "system": loaded.round.machine.system,
            "python": loaded.round.machine.python,
            "packages": [list(package) for package in loaded.round.machine.packages],
        },
    }


def _with_text(account: Account) -> list[dict[str, Any]]:
    """The slowest lines, each with its text as it was recorded."""
    loaded, rows = account.loaded, line_rows(account.loaded, account.top)
    for row in rows:
        text = loaded.sources.get(row["file"], "").splitlines()
        row["text"] = text[row["line"] - 1].strip() if 0 < row["line"] <= len(text) else ""
    return rows
