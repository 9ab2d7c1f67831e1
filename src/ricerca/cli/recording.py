"""Commands that run programs and record them."""

from __future__ import annotations

import difflib
import os
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ricerca.cli.group import main, say
from ricerca.manners import leave_as, pass_signals_on, replayable_input
from ricerca.model.errors import InputError
from ricerca.options import AUTO, size, variables

if TYPE_CHECKING:
    from ricerca.runner.session import Outcome, Plan

Sizes = tuple[tuple[str, tuple[str, ...]], ...]


@main.command(context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False})
@click.option("--study", type=click.Path(path_type=Path), help="Study to keep the round in. Default: named after the program.")
@click.option("--round", "round_name", default="", help="Name of the round; runs are added to it where it exists.")
@click.option("--note", default="", help="What was changed and why.")
@click.option("--case", "case_name", default="", metavar="NAME", help="The case that this is, as of several in a study.")
@click.option("--size", "sizes", multiple=True, metavar="NAME=VALUE,...",
              help="Run it once for each value, put for {NAME} in its arguments, environment or input.")  # fmt: skip
@click.option("--prepare", default="", metavar="COMMAND", help="Shell command that makes the input of a size, run before it.")
@click.option("--at", "revision", default="", metavar="REVISION",
              help="Measure this git revision, checked out in a folder of its own, in place of your files.")  # fmt: skip
@click.option("--input", "input_", default="", metavar="PATH", help="The file that the program reads from its standard input.")
@click.option("--python", help="Interpreter of the program. Default: the one Ricerca runs in.")
@click.option("--cwd", help="Working folder of the program.")
@click.option("--env", "env", multiple=True, metavar="NAME=VALUE", callback=variables, help="Set in the program's environment.")
@click.option("--plain", "plain_runs", type=click.IntRange(0, 1000), default=0, show_default=True,
              help="Runs without the recorder, and as many sparse ones, in turn; what they write is compared, not shown.")  # fmt: skip
@click.option("--lines", multiple=True, metavar="PATTERN",
              help="Follow each line of functions, modules or files of this name (* and ? allowed); auto: of the slowest functions of "
              "your code, in a run of its own.")  # fmt: skip
@click.option("--inside", multiple=True, metavar="FUNCTION", help="Record only while a function of this name is active (* and ? allowed).")
@click.option("--answer", "answer", multiple=True, metavar="PATH", help="A file that holds what the program answers.")
@click.option("--limit", "limit_bytes", default="1G", show_default=True, callback=size, help="Largest size of the recording.")
@click.option("--hook", type=click.Choice(["native", "python", "public"]), default="native", show_default=True,
              help="python: the slower recorder that needs no compiler, with the same counts; public: does not look into the "
              "interpreter's frames, as with interpreters newer than the tested ones.")  # fmt: skip
@click.option("--paused", is_flag=True, help="Count nothing until SIGUSR1 says so.")
@click.option("--quiet", is_flag=True, help="Say nothing.")
@click.argument("program", nargs=-1, type=click.UNPROCESSED, required=True)
def record(study: Path | None, round_name: str, note: str, case_name: str, sizes: tuple[str, ...], prepare: str, revision: str,
           input_: str, python: str | None, cwd: str | None, env: tuple[tuple[str, str], ...],
           plain_runs: int, lines: tuple[str, ...], inside: tuple[str, ...],
           answer: tuple[str, ...], limit_bytes: int, hook: str, paused: bool, quiet: bool,
           program: tuple[str, ...]) -> None:  # fmt: skip
    """Run a program and record every call.

    PROGRAM is a script, -m MODULE, or a command that is a Python program. Exit status, input and
    output are the program's own; what Ricerca has to say goes to the error stream. Sent to Ricerca,
    the signal USR1 pauses the recording or lets it go on, USR2 ends it; the program itself runs on.

    \b
    Examples:
      ricerca record tidebook.py readings.csv
      ricerca record --study harbour.ricerca --round "speeds kept" --plain 5 -- tidebook.py readings.csv
      ricerca record --lines auto --plain 5 -- tidebook.py readings.csv
      ricerca record --lines fit_station -- -m tidebook readings.csv
      ricerca record --size n=1000,2000,4000 -- tidebook.py --hours {n}
      ricerca record --at HEAD~3 -- tidebook.py readings.csv
    """
    from ricerca.model.cases import refuse_unused, sizes_of
    from ricerca.runner.launch import refuse_what_only_python_knows
    from ricerca.runner.program import describe
    from ricerca.runner.series import Series, status_of
    from ricerca.runner.session import Plan, Streams

    _refuse_mistyped(program)
    follow = AUTO in lines
    named = tuple(pattern for pattern in lines if pattern != AUTO)
    subject = replace(describe(program, cwd, python, env, named, inside), answer=answer, input=input_)
    refuse_what_only_python_knows(subject, paused)
    own_sizes = sizes_of(sizes)
    refuse_unused(subject, own_sizes, prepare)
    name = subject.title
    place = (study or Path(f"{name}.ricerca")).expanduser().absolute()
    plan = Plan(subject, place, round_name, note, plain_runs, True, limit_bytes, paused, hook, follow=follow, case=case_name,
                prepare=prepare, at=revision)  # fmt: skip
    plans = [plan]
    if own_sizes or prepare:
        plans = _sized_plans(plan, own_sizes)
    series = Series(plans, Streams(stdin=replayable_input(not input_ and (plain_runs or follow or len(plans) > 1))))
    pass_signals_on(series)
    outcomes = series.run()
    if not quiet:
        say_outcomes(outcomes, place)
    leave_as(status_of(outcomes))


def _sized_plans(plan: Plan, sizes: Sizes) -> list[Plan]:
    """A plan for each size, the case kept in the study."""
    from ricerca.model.cases import Case
    from ricerca.runner.series import plans_of
    from ricerca.study.cases import known_case
    from ricerca.study.store import Study

    with Study.open(plan.study, create=True) as study:
        name = plan.case or study.case_for(plan.subject).name
        before = known_case(study, name, plan.subject)
        per_day = before.runs_per_day if before else None
        case = study.keep_case(Case(name, plan.subject, per_day, sizes, plan.prepare))
    return plans_of(case, plan)


def _refuse_mistyped(program: tuple[str, ...]) -> None:
    """An option that there is not must not be taken for the program's name."""
    word = program[0].partition("=")[0]
    if not word.startswith("--") or word == "--check-hash-based-pycs":
        return
    known = [name for option in record.params for name in option.opts if name.startswith("--")]
    near = difflib.get_close_matches(word, known, 1)
    raise InputError(f"There is no option {word}.", f"Did you mean {near[0]}?" if near else "See: ricerca record --help")


def say_outcomes(outcomes: list[Outcome], place: Path) -> None:
    """What came of the runs of a round: of each case and size what did not work, of the last also where the round is."""
    for outcome in outcomes[:-1]:
        if outcome.problem or outcome.gaps or outcome.kept_at:
            _say_outcome(outcome, place)
    if outcomes:
        _say_outcome(outcomes[-1], place)


def _say_outcome(outcome: Outcome, place: Path) -> None:
    shown = os.path.relpath(place) if place.is_relative_to(Path.cwd()) else str(place)
    if outcome.lost_plain:
        say(f"{outcome.lost_plain} plain runs could not be written into {shown}.")
    if outcome.kept_at is not None:
        say(f"the recording could not be taken in: {outcome.problem} It stays in {outcome.kept_at}. "
             f"Take it in later with: ricerca recordings take {outcome.kept_at.stem}")  # fmt: skip
        return
    if outcome.run_id is None:
        say(f"nothing was recorded: {outcome.problem or 'the program ended before it began'}")
        return
    for what, why in (("sparse runs", outcome.not_sparse), ("pairs with the first round", outcome.not_paired),
                      ("line run", outcome.not_followed)):  # fmt: skip
        if why:
            say(f"no {what}: {why}".rstrip(".") + ".")
    how = f" It is not complete: {'; '.join(gap.text for gap in outcome.gaps)}." if outcome.gaps else ""
    say(f"round {outcome.round_number} is kept in {shown}.{how} See it with: ricerca rank {shown}")
