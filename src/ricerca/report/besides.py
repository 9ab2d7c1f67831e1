"""What is known of a round besides its own leads: how it grows with its size, and whether more work on it is worth it."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from ricerca.engine.first_look import CHARGED
from ricerca.loading import Loaded, paired
from ricerca.model.cases import Part
from ricerca.report.cases import worth_of_case, worth_text
from ricerca.report.growth import growth_of, growth_sentences, load_sizes, steep_rows
from ricerca.study.store import Study


def best_lead_share(loaded: Loaded) -> float | None:
    """The part of a run that the best lead could save at most; None where no lead has a ceiling."""
    leads = paired(None, loaded, loaded.with_clock(CHARGED)).leads
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
    case = next((case for case in study.cases() if case.name == round_.case), None)
    if case is None or case.runs_per_day is None:
        return grown, ""
    return grown, worth_text(replace(worth_of_case(study, case), lead_share=best_lead_share(loaded)))
