"""Cases of a study, as rows and as a table, with what each costs in a week."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from ricerca.measure.worth import Worth, run_ns, worth_of
from ricerca.model.cases import Case, Part
from ricerca.model.rounds import UNDONE
from ricerca.report.tables import terminal, terminal_table
from ricerca.report.verdicts import judged
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
    rounds = [round_ for round_ in study.of(Part(case.name)).rounds() if run_ns(round_) and round_.fate != UNDONE]
    worth = worth_of(case, rounds)
    if len(rounds) < 2 or worth.run_ns is None:
        return worth
    ratio = judged(rounds[0], rounds[-1]).speedup.ratio  # from runs made in turn where there are some: the machine may have changed
    return replace(worth, baseline_ns=round(worth.run_ns * ratio)) if ratio == ratio else worth


def show_cases(study: Study) -> None:
    """The cases of a study as a table."""
    console = terminal()
    known = study.cases()
    if not known:
        console.print("No cases yet. Add one with: ricerca cases FILE --add NAME -- PROGRAM ARG...")
        return
    table = terminal_table("case", "program", "sizes", "a day", "a run", "a week", "saved", left=("case", "program", "sizes"))
    for column in table.columns[1:3]:
        column.no_wrap = False
    for case in known:
        worth = worth_of_case(study, case)
        sizes = "; ".join(f"{name} = {', '.join(values)}" for name, values in case.sizes)
        table.add_row(
            printable(case.name), printable(" ".join(case.subject.program)), printable(sizes),
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
