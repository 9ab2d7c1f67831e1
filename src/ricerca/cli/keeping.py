"""Commands that look after a study, its recordings and this installation."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from ricerca import __version__
from ricerca.cli.group import OWN_ERROR, json_text, main, say
from ricerca.model.errors import InputError, RicercaError
from ricerca.options import variables


@main.command()
@click.argument("action", type=click.Choice(["take", "drop"]), required=False)
@click.argument("names", nargs=-1)
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def recordings(action: str | None, names: tuple[str, ...], as_json: bool) -> None:
    """List recordings that are not in a study yet: where they lie, of what they are, and why.

    take puts them into the round they were made for, drop removes them; without names, take takes all.

    \b
    Examples:
      ricerca recordings
      ricerca recordings take
      ricerca recordings drop 5f2c9a01-1-4711-123456
    """
    from ricerca.report import tables
    from ricerca.runner import recordings as lying
    from ricerca.runner.taking import take_waiting

    if action == "drop" and not names:
        raise InputError("Which recording is to be dropped?", "Name it, as ricerca recordings lists it.")
    if action is None:
        found = list(lying.waiting())
        if as_json:
            click.echo(json_text([_recording_facts(recording) for recording in found]))
        else:
            tables.show_recordings(found)
        return
    failed = 0
    for recording in [lying.find(name) for name in names] or [recording for recording in lying.waiting() if not recording.running]:
        try:
            if action == "drop":
                lying.drop(recording)
                say(f"{recording.name} is removed.")
            else:
                taken = take_waiting(recording)
                own = ", one of its own: the round it was made for is gone" if taken.own_round else ""
                say(f"{recording.name} is now in round {taken.round_number} of {recording.about.study}{own}.")
        except RicercaError as problem:
            failed += 1
            say(str(problem))
    sys.exit(OWN_ERROR if failed else 0)


@main.command()
@click.argument("file", type=click.Path(path_type=Path, allow_dash=True))
@click.option("--study", type=click.Path(path_type=Path), help="Study to keep the round in. Default: named after the file.")
@click.option("--round", "round_name", default="", help="Name of the round.")
@click.option("--case", "case_name", default="", metavar="NAME", help="The case that this is, as of several in a study.")
@click.option("--cwd", default="", help="Folder that relative names of files start from. Default: the current one.")
def take(file: Path, study: Path | None, round_name: str, case_name: str, cwd: str) -> None:
    """Take a stream of events into a study, as a recorded run.

    The file holds lines of JSON, as docs/formats.md describes: any program can write them. - reads the standard input, as long as it is
    written to.

    \b
    Examples:
      ricerca take run.events --study mine.ricerca
      ./simulate --events - | ricerca take - --study mine.ricerca
    """
    from ricerca.runner.streams import take_stream

    place = study or Path(f"{file.stem if str(file) != '-' else 'stream'}.ricerca")
    try:
        with click.open_file(str(file), encoding="utf-8", errors="replace") as lines:
            round_ = take_stream(lines, place, round_name, case_name, cwd, file.name if str(file) != "-" else "the stream")
    except OSError as problem:
        raise InputError(f"{file} cannot be read ({problem.strerror}).") from None
    whole = "" if round_.runs[-1].complete else f" It is not complete: {'; '.join(round_.runs[-1].because)}."
    say(f"round {round_.number} is kept in {place}.{whole} See it with: ricerca rank {place}")


def _recording_facts(recording: Any) -> dict[str, Any]:
    return {
        "name": recording.name, "path": str(recording.file), "bytes": recording.bytes,
        "study": recording.about.study, "round": recording.about.round_number,
        "program": list(recording.about.subject.program), "running": recording.running, "why": recording.why,
    }  # fmt: skip


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--add", "additions", multiple=True, metavar="NAME=PATTERN", callback=variables,
              help="Put code in a layer: a module or package, a name with * or ?, or a folder.")  # fmt: skip
@click.option("--drop", "drops", multiple=True, metavar="NAME", help="Take a layer away.")
@click.option("--from", "source", type=click.Path(path_type=Path, dir_okay=False), help="Take the layers from a TOML file.")
def layers(file: Path, additions: tuple[tuple[str, str], ...], drops: tuple[str, ...], source: Path | None) -> None:
    """Show a study's own layers as TOML, after changing them.

    \b
    Examples:
      ricerca layers harbour.ricerca --add numbers=numpy --add numbers=scipy
      ricerca layers harbour.ricerca > layers.toml
      ricerca layers other.ricerca --from layers.toml
    """
    from ricerca.engine.own_layers import added, from_toml, to_toml
    from ricerca.study.store import Study

    with Study.open(file) as study:
        own = from_toml(study.layers_toml())
        if source is not None:
            try:
                own = from_toml(source.read_text("utf-8"))
            except (OSError, UnicodeDecodeError) as problem:
                raise InputError(f"{source} cannot be read ({problem}).") from None
        for name, pattern in additions:
            own = added(own, name, pattern)
        own = tuple(layer for layer in own if layer.name not in drops)
        if additions or drops or source:
            study.keep_layers(to_toml(own))
    click.echo(to_toml(own), nl=False)


@main.command()
@click.option(
    "--into", type=click.Path(path_type=Path), help="Data folder. Default: ~/.local/share, for you alone; /usr/local/share for everyone."
)
@click.option("--remove", is_flag=True, help="Take all of it away again.")
def integrate(into: Path | None, remove: bool) -> None:
    """Put Ricerca into the desktop: menu entry, icon, studies that open by a double click, completions of bash and zsh, manual page.

    \b
    Examples:
      ricerca integrate
      sudo ricerca integrate --into /usr/local/share
    """
    from platformdirs import user_data_path

    from ricerca import integration

    folder = into or user_data_path()
    act = integration.remove if remove else integration.integrate
    for file in act(main, __version__, folder):
        click.echo(f"{'removed' if remove else 'wrote'} {file}")


@main.command()
@click.argument("language", default="c")
def flags(language: str) -> None:
    """Print what to give the compiler so that a program can be recorded: LANGUAGE is c, c++ or fortran.

    They belong to compiling and to linking; optimisation stays as you have it. With the compiler's option
    -finstrument-functions-exclude-file-list=PATH what lies in PATH stays untold.

    \b
    Examples:
      gcc -O2 $(ricerca flags) -o simulate simulate.c
      cmake -DCMAKE_Fortran_FLAGS="$(ricerca flags fortran)" ..
    """
    from ricerca.runner.compiled import flags_for

    click.echo(flags_for(language))


@main.command()
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def selftest(as_json: bool) -> None:
    """Say what works on this machine, and what to do where it does not.

    \b
    Example:
      ricerca selftest
    """
    from ricerca.report.tables import show_checks
    from ricerca.runner.selfcheck import check_machine

    checks = check_machine()
    if as_json:
        click.echo(json_text([check.__dict__ for check in checks]))
    else:
        show_checks(checks)
    sys.exit(0 if all(check.works for check in checks) else 1)
