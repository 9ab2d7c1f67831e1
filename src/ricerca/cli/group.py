"""The group of commands, and what all of them use: their words, their JSON, their errors."""

from __future__ import annotations

import json
import os
import sys
import traceback
from pathlib import Path
from typing import Any

import click

from ricerca import __version__
from ricerca.model.cases import WHOLE, Part
from ricerca.model.errors import InternalError, RicercaError
from ricerca.report.wording import printable

OWN_ERROR = 2


class _Group(click.Group):
    """Words our errors for people and gives them their exit status."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except RicercaError as problem:
            say(str(problem))
            ctx.exit(OWN_ERROR)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except BrokenPipeError:  # as when piped into head
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)
        except Exception:
            traceback.print_exc()
            click.echo(f"ricerca: {InternalError('Something went wrong in Ricerca.', 'Please report the lines above.')}", err=True)
            ctx.exit(OWN_ERROR)


def say(text: str) -> None:
    """What Ricerca itself has to say; names in it may hold anything."""
    click.echo(f"ricerca: {printable(text)}", err=True)


def json_text(facts: Any) -> str:
    """Facts as one line of JSON; a file name that is no UTF-8 has its bytes escaped."""
    return json.dumps(facts, ensure_ascii=False).encode("utf-8", "backslashreplace").decode("utf-8")


def opened(file: Path, part: Part = WHOLE):
    """A study, with what was left behind of it taken in."""
    from ricerca.runner.taking import recover
    from ricerca.study.store import Study

    study = Study.open(file, part=part)
    if part.case:
        study.case(part.case)
    for taken in recover(study.path):
        if taken.own_round:
            say(f"a recording whose round is gone was taken into a round of its own, {taken.round_number}.")
    return study


@click.group(cls=_Group, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="ricerca")
@click.pass_context
def main(ctx: click.Context) -> None:
    """Record a program exactly, see where its time goes, and prove what a change gained.

    Without a command, opens the window.

    \b
    Example:
      ricerca record --study harbour.ricerca --plain 5 tidebook.py readings.csv
      ricerca rank harbour.ricerca
    """
    if ctx.invoked_subcommand is None:
        from ricerca.desk.application import run_desk

        ctx.exit(run_desk(None))


@main.command("open")
@click.argument("file", type=click.Path(path_type=Path), required=False)
def open_command(file: Path | None) -> None:
    """Open a study in the window; without one the start page.

    \b
    Example:
      ricerca open harbour.ricerca
    """
    from ricerca.desk.application import run_desk
    from ricerca.study.store import Study

    if file is not None:
        Study.open(file).close()
    sys.exit(run_desk(file))
