"""Commands about the cases of a study, and the one that measures them again."""

from __future__ import annotations

import signal
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from ricerca.cli.group import OWN_ERROR, json_text, main, say
from ricerca.cli.recording import say_outcomes
from ricerca.manners import leave_as, pass_signals_on
from ricerca.model.errors import InputError
from ricerca.options import variables


@main.command(context_settings={"ignore_unknown_options": True, "allow_interspersed_args": True})
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--add", "name", default="", metavar="NAME", help="Add a case, or give the one of this name a new program: -- PROGRAM ARG...")
@click.option("--change", "changed", default="", metavar="NAME", help="Change how a case is run, its program as it is.")
@click.option("--drop", "drops", multiple=True, metavar="NAME", help="Measure a case no more; what was measured stays.")
@click.option("--runs-per-day", "per_day", type=click.FloatRange(min=0), help="How often the case is run in a day.")
@click.option("--size", "sizes", multiple=True, metavar="NAME=VALUE,...", help="Sizes to run it in, put for {NAME}.")
@click.option("--prepare", metavar="COMMAND", help="Shell command that makes the input of a size, run before it.")
@click.option("--input", "input_", metavar="PATH", help="The file that the program reads from its standard input.")
@click.option("--answer", multiple=True, metavar="PATH", help="A file that holds what the program answers.")
@click.option("--python", help="Interpreter of the program. Default: the one Ricerca runs in.")
@click.option("--cwd", help="Working folder of the program.")
@click.option("--env", "env", multiple=True, metavar="NAME=VALUE", callback=variables, help="Set in the program's environment.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
@click.argument("program", nargs=-1, type=click.UNPROCESSED)
def cases(file: Path, name: str, changed: str, drops: tuple[str, ...], per_day: float | None, sizes: tuple[str, ...], prepare: str | None,
          input_: str | None, answer: tuple[str, ...], python: str | None, cwd: str | None, env: tuple[tuple[str, str], ...],
          as_json: bool, program: tuple[str, ...]) -> None:  # fmt: skip
    """Show the cases of a study, after adding, changing or dropping some.

    A round measures all cases unless told otherwise. How often a case is run says what it costs in a week.

    \b
    Examples:
      ricerca cases harbour.ricerca
      ricerca cases harbour.ricerca --add year --runs-per-day 4 -- tidebook.py readings.csv
      ricerca cases harbour.ricerca --add growing --size days=30,60,120 -- tidebook.py readings.csv --days {days}
      ricerca cases harbour.ricerca --change year --runs-per-day 24
    """
    from ricerca.model.cases import Case, refuse_unused, sizes_of
    from ricerca.report.cases import case_rows, show_cases
    from ricerca.runner.program import describe
    from ricerca.study.store import Study

    if name and not program:
        raise InputError(f"What does the case {name!r} run?", f"Say: ricerca cases {file.name} --add {name} -- PROGRAM ARG...")
    if program and not name:
        raise InputError("What is the case called?", f"Say: ricerca cases {file.name} --add NAME -- {' '.join(program)}")
    if name and changed:
        raise InputError("A case is either added or changed, not both.")
    with Study.open(file, create=bool(name)) as study:
        with study.transaction():
            if name or changed:
                known = {case.name: case for case in study.cases()}
                if name:
                    before = known.get(name)
                    subject = describe(program, cwd, python, env)
                    case = Case(name, subject, before.runs_per_day if before else None)
                else:
                    case = study.case(changed)
                    if python or cwd or env:
                        raise InputError("Interpreter, folder and environment belong to the program.", "Give them with --add.")
                subject = replace(case.subject, input=case.subject.input if input_ is None else input_,
                                  answer=answer or case.subject.answer)  # fmt: skip
                case = replace(case, subject=subject, runs_per_day=case.runs_per_day if per_day is None else per_day,
                               sizes=sizes_of(sizes) or case.sizes, prepare=case.prepare if prepare is None else prepare)  # fmt: skip
                refuse_unused(case.subject, case.sizes, case.prepare)
                study.keep_case(case)
            for dropped in drops:
                study.drop_case(dropped)
        if as_json:
            click.echo(json_text(case_rows(study)))
        else:
            show_cases(study)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--round", "round_name", default="", help="Name of the round.")
@click.option("--note", default="", help="What was changed and why.")
@click.option("--case", "names", multiple=True, metavar="NAME", help="Measure this case. Default: all.")
@click.option("--plain", "plain_runs", type=click.IntRange(0, 1000), help="Plain runs of each. Default: as many as in the round before.")
@click.option("--at", "revision", default="", metavar="REVISION", help="Measure this git revision in place of your files.")
@click.option("--each", "between", default="", metavar="REV1..REV2",
              help="A round for each commit from REV1 to REV2; those that are measured already are left out.")  # fmt: skip
@click.option("--bisect", is_flag=True, help="With --each, only the rounds it takes to find the commit that made it slow.")
@click.option("--from", "made_from", type=int, metavar="ROUND", help="The round whose code was changed. Default: the last one kept.")
@click.option("--quiet", is_flag=True, help="Say nothing.")
@click.option("--json", "as_json", is_flag=True, help="As JSON: the number of the round, and how each run ended.")
def again(file: Path, round_name: str, note: str, names: tuple[str, ...], plain_runs: int | None, revision: str,
          between: str, bisect: bool, made_from: int | None, quiet: bool, as_json: bool) -> None:  # fmt: skip
    """Measure once more what the study knows, as a new round.

    Exit status and output are those of the programs; the exit status is that of the first that does not end with 0.

    \b
    Examples:
      ricerca again harbour.ricerca --round "speeds kept"
      ricerca again harbour.ricerca --case start-up --plain 5
      ricerca again harbour.ricerca --each v1.0..main
      ricerca again harbour.ricerca --each v1.0..main --bisect
    """
    from ricerca.model.cases import Part
    from ricerca.runner.series import Series, as_before, last_of, plans_of, status_of
    from ricerca.runner.session import Plan, Streams
    from ricerca.study.store import Study

    place = file.expanduser().absolute()
    plans = []
    if bisect and not between:
        raise InputError("--bisect needs a range of commits.", f"Say: ricerca again {file.name} --each REV1..REV2 --bisect")
    if between and (revision or round_name):
        raise InputError("--each makes a round for each commit, named after it.", "Leave out --at and --round.")
    with Study.open(place) as study:
        if made_from is not None:
            study.round(made_from)
        if round_name and any(round_.name == round_name for round_ in study.rounds()):
            raise InputError(f"There is a round “{round_name}” already.", "Give the new one another name.")
        for case in [study.case(name) for name in names] or study.cases():
            plan = Plan(case.subject, place, round_name, note, plain_runs or 0, at=revision, made_from=made_from)
            if plain_runs is None:
                plan = as_before(plan, last_of(study.of(Part(case.name)).rounds()))
            plans += plans_of(case, plan)
    if between:
        _measure_commits(place, plans, between, bisect, quiet, as_json)
        return
    series = Series(plans, Streams())
    pass_signals_on(series)
    outcomes = series.run()
    if not quiet:
        say_outcomes(outcomes, place)
    if as_json:
        click.echo(json_text(_outcome_facts(series, outcomes)))
    leave_as(status_of(outcomes))


def _measure_commits(place: Path, plans: list[Any], between: str, bisect: bool, quiet: bool, as_json: bool) -> None:
    """The commits of a range, each as a round, or those that it takes to find the culprit; their output is not shown."""
    from ricerca.measure.bisection import places_of
    from ricerca.runner.commits import Commits
    from ricerca.runner.revisions import revisions_of
    from ricerca.runner.session import Streams

    if not plans:
        raise InputError("There is no case to measure.", f"Add one with: ricerca cases {place.name} --add NAME -- PROGRAM")
    revisions = revisions_of(plans[0].subject.cwd, between)
    nothing = subprocess.DEVNULL
    commits = Commits(place, plans, revisions, Streams(nothing, nothing, nothing, own_group=True))
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda number, _frame: commits.finish_now(number))
    last = ""

    def look() -> None:
        nonlocal last
        if commits.step != last and not quiet:
            last = commits.step
            say(last)

    found = None
    if bisect:
        found = commits.bisect(look)
    else:
        commits.measure_all(look)
    culprit, before = places_of(revisions, found) if found else (None, None)
    why = "stopped; run it again to go on" if commits.stopped else found.why if found else f"{len(revisions)} commits"
    if not quiet:
        for skip in commits.skipped:
            say(f"commit {skip.revision} is left out: {skip.why}.")
    facts = {"rounds": commits.made, "culprit": culprit, "before": before, "why": why,
             "skipped": [{"revision": skip.revision, "why": skip.why} for skip in commits.skipped]}  # fmt: skip
    if as_json:
        click.echo(json_text(facts))
    elif culprit:
        click.echo(f"{culprit} changed it, {before} did not: {why} ({commits.made} rounds made).")
    else:
        click.echo(f"{commits.made} rounds made: {why}.")
    sys.exit(OWN_ERROR if commits.stopped else 0)


def _outcome_facts(series: Any, outcomes: list[Any]) -> dict[str, Any]:
    from ricerca.model.cases import size_text

    return {
        "round": outcomes[0].round_number,
        "runs": [
            {"case": plan.case, "size": size_text(plan.size), "exit_status": outcome.recorded.exit_status if outcome.recorded else None}
            for plan, outcome in zip(series.plans, outcomes, strict=False)
        ],
    }
