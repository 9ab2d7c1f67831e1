"""What is known of a round besides its own leads: how it grows with its size, and whether more work on it is worth it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ricerca.engine.first_look import CHARGED
from ricerca.engine.leads import Lead
from ricerca.loading import Loaded, paired
from ricerca.measure.worth import Worth
from ricerca.model.cases import Part
from ricerca.report.cases import worth_of_case, worth_text
from ricerca.report.growth import growth_of, growth_sentences, load_sizes, steep_rows
from ricerca.study.store import Study


def lead_share_of(leads: Sequence[Lead]) -> float | None:
    """The part of a run that the best lead could save at most; None where no lead has a ceiling."""
    ceilings = [lead.ceiling for lead in leads if math.isfinite(lead.ceiling) and lead.ceiling >= 1]
    return 1 - 1 / max(ceilings) if ceilings else None


def besides_leads(study: Study, loaded: Loaded) -> tuple[list[dict[str, Any]], str]:
    """Leads about growth, as rows of the JSON contract, where the case has sizes; and whether more work is worth it, in a sentence."""
    round_ = loaded.round
    grown: list[dict[str, Any]] = []
    if len(round_.sizes) > 1:
        rows = growth_of(load_sizes(study.of(Part(round_.case)), round_.number))
        grown = [
            {"kind": "growth", "sentence": sentence, "evidence": [], "function": row.function, "file": row.file, "line": row.line,
             "self_ns": row.self_ns[-1], "inclusive_ns": row.self_ns[-1], "ceiling": None, "uncertain": False}
            for row, sentence in zip(steep_rows(rows), growth_sentences(rows), strict=True)
        ]  # fmt: skip
    worth = worth_of_round(study, round_.case)
    if worth is None:
        return grown, ""
    leads = paired(None, loaded, loaded.with_clock(CHARGED)).leads
    return grown, worth_text(replace(worth, lead_share=lead_share_of(leads)))


def worth_of_round(study: Study, name: str) -> Worth | None:
    """What a case costs, where somebody said how often it is run."""
    case = next((case for case in study.cases() if case.name == name), None)
    return worth_of_case(study, case) if case is not None and case.runs_per_day is not None else None
