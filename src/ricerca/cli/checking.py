"""Commands that check a study against a budget, and write a first one."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ricerca.cli.group import json_text, main, opened, say
from ricerca.model.cases import Part
from ricerca.model.errors import InputError
from ricerca.options import pair_count

if TYPE_CHECKING:
    from ricerca.report.budget import Finding, Limit


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--budget", "budget_file", required=True, type=click.Path(path_type=Path, dir_okay=False), help="The limits, as TOML.")
@click.option("--round", "number", type=int, help="Number of the round. Default: the latest.")
@click.option("--case", "case_name", default="", metavar="NAME", help="The case to check. Default: the first.")
@click.option("--pairs", callback=pair_count, metavar="N|auto",
              help="Where a time is limited, first run the base and this round in turn: N pairs, or until it is settled.")  # fmt: skip
@click.option("--strict", is_flag=True, help="A limit that cannot be decided counts as broken.")
@click.option("--junit", type=click.Path(path_type=Path), help="Write the findings as JUnit XML.")
@click.option("--markdown", type=click.Path(path_type=Path, allow_dash=True), help="Write them as Markdown; - for the terminal.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def check(file: Path, budget_file: Path, number: int | None, case_name: str, pairs: int | None, strict: bool, junit: Path | None,
          markdown: Path | None, as_json: bool) -> None:  # fmt: skip
    """Check a round against a budget. Exit status 0 within it, 1 past it, 2 for errors of Ricerca's own.

    Limits on counts are exact and never vary with the machine. A limit on a time is a ratio to a base, best measured in pairs.

    \b
    Examples:
      ricerca check harbour.ricerca --budget budget.toml
      ricerca check harbour.ricerca --budget budget.toml --pairs auto --junit budget.xml --markdown -
    """
    from ricerca.loading import load
    from ricerca.report import budget
    from ricerca.report.export import write_text

    try:
        limits = budget.budget_from(budget_file.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as problem:
        raise InputError(f"The budget {budget_file} cannot be read ({problem}).") from None
    loaded: dict[str, Any] = {}
    findings = []
    for limit in limits:
        case = limit.case or case_name
        if case not in loaded:
            with opened(file, Part(case)) as study:
                loaded[case] = load(study, number)
        if limit.count:
            findings.append(budget.check_count(loaded[case], limit))
        else:
            findings.append(_check_ratio(file, limit, loaded[case], pairs, Part(case)))
    if junit is not None:
        write_text(junit, budget.junit_text(findings, strict))
    if markdown is not None and str(markdown) != "-":
        write_text(markdown, budget.markdown_text(findings))
    if as_json:
        click.echo(json_text(budget.budget_facts(findings)))
    elif markdown is not None and str(markdown) == "-":
        click.echo(budget.markdown_text(findings), nl=False)
    else:
        budget.show_findings(findings)
    sys.exit(1 if budget.is_past(findings, strict) else 0)


def _check_ratio(file: Path, limit: Limit, new: Any, pairs: int | None, part: Part) -> Finding:
    """A limit on a time, measured against a round of this study or of another."""
    from ricerca.cli.reading import make_pairs
    from ricerca.loading import judge, load, paired
    from ricerca.report import budget

    base_file = Path(file.parent, limit.base_study) if limit.base_study else file
    with opened(base_file, part) as study:
        base = load(study, limit.base if limit.base is not None else study.rounds()[0].number if study.rounds() else None)
    same = base_file.resolve() == file.resolve()
    if same and base.round.number == new.round.number:
        return budget.Finding(limit, 1.0, budget.UNDECIDED, f"round {base.round.number} is the base itself")
    if pairs is not None and same:
        make_pairs(file, base.round.number, new.round.number, pairs, part)
        with opened(file, part) as study:
            base, new = (replace(side, round=study.round(side.round.number)) for side in (base, new))
    elif pairs is not None:
        say("pairs can be made only with a base in the same study: its code is kept there.")
    if limit.ratio == "total":
        return budget.check_total(limit, judge(base.round, new.round), base.round.subject.other_work(new.round.subject))
    return budget.check_function(limit, paired(base, new, new.reading))


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--round", "number", type=int, help="Number of the round. Default: the latest.")
@click.option("--case", "case_name", default="", metavar="NAME", help="The case. Default: the first.")
@click.option("--to", "path", default="-", type=click.Path(path_type=Path, allow_dash=True), help="File to write. Default: the terminal.")
def budget(file: Path, number: int | None, case_name: str, path: Path) -> None:
    """Write a first budget: the counts of a round as they are, and its time against the first round.

    \b
    Example:
      ricerca budget harbour.ricerca --to budget.toml
    """
    from ricerca.loading import load
    from ricerca.report.budget import first_budget
    from ricerca.report.export import write_text

    with opened(file, Part(case_name)) as study:
        loaded = load(study, number)
        first = study.rounds()[0].number
    text = first_budget(loaded, first if first != loaded.round.number else None)
    if str(path) == "-":
        click.echo(text, nl=False)
    else:
        write_text(path, text)
        say(f"wrote {path}; check it with: ricerca check {file} --budget {path}")
