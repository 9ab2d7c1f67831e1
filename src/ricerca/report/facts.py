"""Rounds and comparisons as plain values: the JSON contract that scripts and build servers rely on."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ricerca.engine.neighbours import Edges
from ricerca.engine.profile import FunctionTable, group_sums
from ricerca.engine.ranking import ranked
from ricerca.engine.waits import wait_classes, waiting_by_class
from ricerca.loading import Loaded, Pair
from ricerca.measure.estimates import Speedup
from ricerca.report.leads import lead_evidence, lead_sentence

THREAD_START = "<thread start>"


def _names(table: FunctionTable, number: int) -> dict[str, Any]:
    if number < 0:
        return {"function": THREAD_START, "module": "", "file": "", "line": 0}
    return {
        "function": table.name[number],
        "module": table.module[number],
        "file": table.file[number],
        "line": int(table.first_line[number]),
    }


def _interval(figure: float, half: float) -> list[int] | None:
    """The 95 % interval of a time, None where it is not known."""
    return None if math.isnan(half) else [round(max(figure - half, 0)), round(figure + half)]


def function_rows(loaded: Loaded, by: str = "self", top: int | None = None) -> list[dict[str, Any]]:
    """One entry a function, the largest first."""
    table, figures, waits = loaded.profile.functions, loaded.figures, wait_classes(loaded.profile)
    order = [int(n) for n in ranked(figures, by) if figures.calls[n] or figures.resumes[n] or figures.raw_self_ns[n]]
    return [
        {
            "function": table.name[n],
            "module": table.module[n],
            "file": table.file[n],
            "line": int(table.first_line[n]),
            "layer": table.layer[n],
            "calls": int(figures.calls[n]),
            "first_entry_calls": int(figures.first_entry_calls[n]),
            "resumes": int(figures.resumes[n]),
            "self_ns": int(figures.self_ns[n]),
            "inclusive_ns": int(figures.inclusive_ns[n]),
            "waiting_ns": int(figures.waiting_ns[n]),
            "raw_self_ns": int(figures.raw_self_ns[n]),
            "raw_inclusive_ns": int(figures.raw_inclusive_ns[n]),
            "self_interval_ns": _interval(figures.self_ns[n], figures.self_half_ns[n]),
            "inclusive_interval_ns": _interval(figures.inclusive_ns[n], figures.inclusive_half_ns[n]),
            "uncertain": bool(figures.uncertain[n]),
            "waits_for": waits[n] if figures.waiting_ns[n] else None,
        }
        for n in order[:top]
    ]


def line_rows(loaded: Loaded, top: int | None = None) -> list[dict[str, Any]]:
    """One entry a line, the slowest first."""
    table, lines = loaded.line_table, loaded.lines
    count = len(lines) if top is None else min(top, len(lines))
    return [
        {
            "file": table.file[lines.function[row]],
            "line": int(lines.line[row]),
            "function": table.name[lines.function[row]],
            "hits": None if lines.hits[row] < 0 else int(lines.hits[row]),
            "self_ns": None if lines.self_ns[row] < 0 else int(lines.self_ns[row]),
            "call_ns": int(lines.call_ns[row]),
        }
        for row in range(count)
    ]


def edge_rows(loaded: Loaded, top: int | None = None) -> list[dict[str, Any]]:
    """One entry for each caller, callee and line, the slowest first."""
    table, found = loaded.profile.functions, loaded.edges
    count = len(found) if top is None else min(top, len(found))
    return [_edge(table, found, row) for row in range(count)]


def _edge(table: FunctionTable, found: Edges, row: int) -> dict[str, Any]:
    return {
        "caller": _names(table, int(found.caller[row])),
        "callee": _names(table, int(found.callee[row])),
        "line": int(found.line[row]),
        "calls": int(found.calls[row]),
        "inclusive_ns": int(found.inclusive_ns[row]),
    }


def _threads(loaded: Loaded) -> list[dict[str, Any]]:
    profile = loaded.profile
    totals = group_sums(profile.thread, profile.self_ns, len(profile.thread_name)).tolist()
    threads, firsts = np.unique(profile.thread, return_index=True)
    return [
        {"name": profile.thread_name[thread], "total_ns": totals[thread], "process": int(profile.thread_process[thread])}
        for thread in threads[np.argsort(firsts)].tolist()
    ]


def round_facts(loaded: Loaded, study: str) -> dict[str, Any]:
    """What is known of a round as a whole."""
    profile, facts, plain_ns = loaded.profile, loaded.profile.facts, loaded.plain_ns
    return {
        "study": study,
        "round": loaded.round.number,
        "round_name": loaded.round.name,
        "program": list(loaded.round.subject.program),
        "python": facts.python,
        "exit_status": loaded.run.exit_status,
        "complete": loaded.run.complete,
        "incomplete_because": list(loaded.run.because),
        "elapsed_ns": loaded.elapsed_ns,
        "total_ns": profile.total_ns,
        "raw_total_ns": profile.raw_total_ns,
        "plain_total_ns": plain_ns,
        "plain_runs": len(loaded.round.plain_ns),
        "sparse_runs": len(loaded.round.sparse_runs),
        "calls": profile.total_calls,
        "contexts": int((profile.parent >= 0).sum()),
        "overhead": {
            "per_call_ns": round((facts.python_inside_ns + facts.python_outside_ns) * profile.cost_scale, 1),
            "factor": round(loaded.slowed, 3) if loaded.slowed else None,
        },
        "threads": _threads(loaded),
        "case": loaded.round.case,
        "size": loaded.round.size or None,
    }


def cycle_rows(loaded: Loaded, top: int | None = None) -> list[dict[str, Any]]:
    """One entry for each cycle of functions that are mutually recursive, the slowest first."""
    table, figures = loaded.profile.functions, loaded.figures
    return [
        {
            "functions": [_names(table, n) for n in cycle.slowest_first(figures.self_ns)],
            "entries": cycle.entries,
            "inner_calls": cycle.inner_calls,
            "self_ns": cycle.self_ns,
            "inclusive_ns": cycle.inclusive_ns,
        }
        for cycle in loaded.cycles[:top]
    ]


def lead_rows(pair: Pair) -> list[dict[str, Any]]:
    """What deserves a look, that with most to gain first; against a base round also what became slower."""
    table = pair.new.profile.functions
    return [
        {
            "kind": lead.kind,
            "sentence": lead_sentence(lead, pair.new.what),
            "evidence": lead_evidence(lead, pair.new.what),
            "function": table.name[lead.function] if lead.function >= 0 else None,
            "file": table.file[lead.function] if lead.function >= 0 else None,
            "line": (lead.line or int(table.first_line[lead.function])) if lead.function >= 0 else None,
            "self_ns": lead.own_ns,
            "inclusive_ns": lead.inclusive_ns,
            "ceiling": round(lead.ceiling, 4) if math.isfinite(lead.ceiling) else None,
            "uncertain": lead.uncertain,
        }
        for lead in pair.leads
    ]


def reading_facts(loaded: Loaded) -> dict[str, Any]:
    """How a round was recorded and is read: what comes after its tables."""
    return {
        "waiting": waiting_by_class(loaded.profile),
        "hook": loaded.profile.facts.hook,
        "public_interfaces_only": loaded.profile.facts.public_only,
        "not_by_time": loaded.profile.facts.not_by_time,
        "calls_not_shown": list(loaded.profile.facts.calls_not_shown),
        "reading": loaded.reading.text,
        "hits_of": "the whole line run" if loaded.lines.hits.max(initial=-1) >= 0 and loaded.what != "the run" else "what is read",
        "cycles": cycle_rows(loaded),
    }


def speedup_facts(found: Speedup) -> dict[str, Any]:
    """A verdict with what it rests on; null where it is not known."""
    return {
        "speedup": round(found.ratio, 4) if found.ratio == found.ratio else None,
        "interval": [round(end, 4) for end in found.interval] if found.interval else None,
        "verdict": found.verdict,
        "why": found.why,
        "pairs": found.pairs,
        "evidence": found.evidence or None,
        "pairs_to_settle": found.more,
    }


def comparison_facts(pair: Pair, study: str) -> dict[str, Any]:
    """Two rounds beside each other; the pair has a base."""
    found, verdict, base, new = pair.comparison, pair.verdict, pair.base, pair.new
    assert found is not None and verdict is not None and base is not None
    before, after = base.figures.uncertain, new.figures.uncertain
    functions = []
    for row, match in enumerate(found.matches):
        side, number = (found.new, match.new) if match.new >= 0 else (found.base, match.base)
        functions.append(
            {
                **_names(side.functions, number),
                "base_line": int(found.base.functions.first_line[match.base]) if match.base >= 0 else None,
                "match": match.kind,
                "edited": bool(found.edited[row]),
                "more_than_chance": bool(pair.sure[row]),
                "calls": found.calls[row].tolist(),
                "self_ns": found.self_ns[row].tolist(),
                "inclusive_ns": found.inclusive_ns[row].tolist(),
                "uncertain": [match.base >= 0 and bool(before[match.base]), match.new >= 0 and bool(after[match.new])],
            }
        )
    return {
        "base": round_facts(base, study),
        "new": round_facts(new, study),
        **speedup_facts(verdict),
        "same_output": pair.answer.same,
        "answer": pair.answer.verdict or None,
        "answer_differs": pair.answer.difference,
        "differs": pair.differs,
        "edited_files": list(pair.edited_files),
        "other_counts": [{"function": name, "calls": [before, after]} for name, before, after in pair.other_counts],
        "functions": functions,
        "reading": new.reading.text,
    }
