"""Commands that run programs and record them."""

from __future__ import annotations

import difflib
import os
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from ricerca.cli.group import main, say
from ricerca.manners import leave_as, pass_signals_on, replayable_input
from ricerca.model.errors import InputError
from ricerca.options import AUTO, size, variables


@main.command(context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False})
@click.option("--study", type=click.Path(path_type=Path), help="Study to keep the round in. Default: named after the program.")
@click.option("--round", "round_name", default="", help="Name of the round; runs are added to it where it exists.")
@click.option("--note", default="", help="What was changed and why.")
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
def record(study: Path | None, round_name: str, note: str, python: str | None, cwd: str | None, env: tuple[tuple[str, str], ...],
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
    """
    from ricerca.runner.program import describe, name_of
    from ricerca.runner.session import Plan, Session, Streams

    _refuse_mistyped(program)
    follow = AUTO in lines
    named = tuple(pattern for pattern in lines if pattern != AUTO)
    subject = replace(describe(program, cwd, python, env, named, inside), answer=answer)
    name = name_of(subject)
    place = (study or Path(f"{name}.ricerca")).expanduser().absolute()
    plan = Plan(subject, place, round_name, note, plain_runs, True, limit_bytes, paused, hook, follow=follow)
    session = Session(plan, Streams(stdin=replayable_input(plain_runs or follow)))
    pass_signals_on(session)
    outcome = session.run()
    if not quiet:
        _say_outcome(outcome, place)
    leave_as(outcome.recorded.exit_status if outcome.recorded else 0)


def _refuse_mistyped(program: tuple[str, ...]) -> None:
    """An option that there is not must not be taken for the program's name."""
    word = program[0].partition("=")[0]
    if not word.startswith("--") or word == "--check-hash-based-pycs":
        return
    known = [name for option in record.params for name in option.opts if name.startswith("--")]
    near = difflib.get_close_matches(word, known, 1)
    raise InputError(f"There is no option {word}.", f"Did you mean {near[0]}?" if near else "See: ricerca record --help")


def _say_outcome(outcome: Any, place: Path) -> None:
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
