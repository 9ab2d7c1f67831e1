"""Cases of a study, as rows and as a table, with what each costs in a week."""

from __future__ import annotations

import shlex
from typing import Any

from ricerca.measure.worth import Worth, worth_of
from ricerca.model.cases import Case, Part
from ricerca.report.tables import terminal, terminal_table
from ricerca.report.wording import printable, share_text, signed_time_text, time_text
from ricerca.study.store import Study


def case_rows(study: Study) -> list[dict[str, Any]]:
    """The cases that a new round measures; what is not known is null."""
    rows = []
    for case in study.cases():
        worth = worth_of_case(study, case)
        rows.append(
            {
                "name": case.name,
                "program": list(case.subject.program),
                "cwd": case.subject.cwd,
                "python": case.subject.python,
                "env": dict(case.subject.env),
                "input": case.subject.input or None,
                "answer": list(case.subject.answer),
                "prepare": case.prepare or None,
                "runs_per_day": case.runs_per_day,
                "sizes": {name: list(values) for name, values in case.sizes} or None,
                "run_ns": worth.run_ns,
                "baseline_ns": worth.baseline_ns,
                "week_ns": worth.week_ns,
                "saved_week_ns": worth.saved_week_ns,
            }
        )
    return rows


def worth_of_case(study: Study, case: Case) -> Worth:
    """What a case costs, from its first and its latest measured round that was not undone."""
    return worth_of(case, study.of(Part(case.name)).rounds())


def show_cases(study: Study) -> None:
    """The cases of a study as a table."""
    console = terminal()
    known = study.cases()
    if not known:
        console.print("No cases yet. Add one with: ricerca cases FILE --add NAME -- PROGRAM ARG...")
        return
    table = terminal_table("case", "program", "sizes", "a day", "a run", "a week", "saved", left=("case", "program", "sizes"))
    for case in known:
        worth = worth_of_case(study, case)
        sizes = "; ".join(f"{name} = {', '.join(values)}" for name, values in case.sizes)
        table.add_row(
            printable(case.name), printable(shlex.join(case.subject.program)), printable(sizes),
            f"{case.runs_per_day:g}" if case.runs_per_day is not None else "",
            time_text(worth.run_ns) if worth.run_ns else "", time_text(worth.week_ns) if worth.week_ns else "",
            signed_time_text(worth.saved_week_ns).removeprefix("+") if worth.saved_week_ns else "",
        )  # fmt: skip
    console.print(table)


def worth_text(worth: Worth) -> str:
    """What a case costs in a week, what was saved and what could be, in sentences; empty where nobody said how often it is run."""
    if worth.week_ns is None or not worth.run_ns:
        return ""
    often = f"{worth.runs_per_day:g}"
    parts = [f"Run {often} times a day, it takes {time_text(worth.week_ns)} a week"]
    if worth.saved_week_ns:
        less, saved = "less" if worth.saved_week_ns > 0 else "more", abs(worth.saved_week_ns)
        parts.append(f"{time_text(saved)} a week {less} than at the baseline")
    if worth.lead_share is not None and worth.lead_week_ns is not None:
        parts.append(f"the best lead could save at most {share_text(worth.lead_share)}, {time_text(worth.lead_week_ns)} a week")
    if worth.enough:
        parts.append("this is the place to stop")
    return "; ".join(parts) + "."
