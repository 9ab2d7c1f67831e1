"""The command line: the same work as in the window, and the contract for scripts and build servers.

One file, though a long one: a command is its options and a few calls, and they are found side by side. What the options mean is in
``options.py``, what is said in ``report``.
"""

from __future__ import annotations

import difflib
import json
import os
import signal
import sys
import traceback
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ricerca import __version__
from ricerca.manners import leave_as, pass_signals_on, replayable_input
from ricerca.model.errors import InputError, InternalError, RicercaError
from ricerca.options import AUTO, pair_count, size, variables
from ricerca.report.wording import printable

if TYPE_CHECKING:
    from ricerca.engine.reading import Reading

OWN_ERROR = 2
Function = TypeVar("Function", bound=Callable[..., Any])


class _Group(click.Group):
    """Words our errors for people and gives them their exit status."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except RicercaError as problem:
            _say(str(problem))
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


def _say(text: str) -> None:
    """What Ricerca itself has to say; names in it may hold anything."""
    click.echo(f"ricerca: {printable(text)}", err=True)


def _json(facts: Any) -> str:
    """Facts as one line of JSON; a file name that is no UTF-8 has its bytes escaped."""
    return json.dumps(facts, ensure_ascii=False).encode("utf-8", "backslashreplace").decode("utf-8")


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
        _say(f"{outcome.lost_plain} plain runs could not be written into {shown}.")
    if outcome.kept_at is not None:
        _say(f"the recording could not be taken in: {outcome.problem} It stays in {outcome.kept_at}. "
             f"Take it in later with: ricerca recordings take {outcome.kept_at.stem}")  # fmt: skip
        return
    if outcome.run_id is None:
        _say(f"nothing was recorded: {outcome.problem or 'the program ended before it began'}")
        return
    for what, why in (("sparse runs", outcome.not_sparse), ("pairs with the first round", outcome.not_paired),
                      ("line run", outcome.not_followed)):  # fmt: skip
        if why:
            _say(f"no {what}: {why}".rstrip(".") + ".")
    how = f" It is not complete: {'; '.join(gap.text for gap in outcome.gaps)}." if outcome.gaps else ""
    _say(f"round {outcome.round_number} is kept in {shown}.{how} See it with: ricerca rank {shown}")


def _opened(file: Path):
    """A study, with what was left behind of it taken in."""
    from ricerca.runner.taking import recover
    from ricerca.study.store import Study

    study = Study.open(file)
    for taken in recover(study.path):
        if taken.own_round:
            _say(f"a recording whose round is gone was taken into a round of its own, {taken.round_number}.")
    return study


def _refuse_unknown(loaded: Any, reading: Reading) -> None:
    """A reading of something that is not in the run would show nothing, and not say why."""
    from ricerca.engine.reading import unknown_names

    for name in unknown_names(loaded.whole, reading):
        near = difflib.get_close_matches(name, [*loaded.whole.functions.name, *loaded.whole.thread_name], 3)
        advice = f"Did you mean {' or '.join(near)}?" if near else "Look it up with: ricerca rank FILE --top 100"
        raise InputError(f"There is no {name!r} in round {loaded.round.number}.", advice)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--round", "number", type=int, help="Number of the round. Default: the latest.")
@click.option("--by", type=click.Choice(["self", "inclusive", "calls", "gain"]), default="self", show_default=True,
              help="Order; gain is against the first round.")  # fmt: skip
@click.option("--lines", is_flag=True, help="Rank lines too.")
@click.option("--edges", is_flag=True, help="Show callers and callees too.")
@click.option("--leads", is_flag=True, help="Say first what deserves a look, and why.")
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What to look at, such as: round 2; on-CPU time; inside fit; charged to my code; by module.")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows of each. Default: 20; all with --json.")
@click.option("--json", "as_json", is_flag=True, help="As JSON, times in nanoseconds.")
def rank(file: Path, number: int | None, by: str, lines: bool, edges: bool, leads: bool, sentence: str, top: int | None,
         as_json: bool) -> None:  # fmt: skip
    """Rank the functions of a round, the slowest first.

    \b
    Examples:
      ricerca rank harbour.ricerca
      ricerca rank harbour.ricerca --round 2 --lines --edges --json
      ricerca rank harbour.ricerca --leads --reading "charged to my code; imports folded"
      ricerca rank harbour.ricerca --reading "inside fit_station; charged to my code"
    """
    from ricerca.engine.reading import Reading, parse
    from ricerca.loading import load, paired
    from ricerca.report import tables
    from ricerca.report.facts import edge_rows, function_rows, lead_rows, line_rows, reading_facts, round_facts

    reading = parse(sentence) if sentence or as_json else Reading(machinery=False)
    number = number if number is not None else reading.round
    if by == "gain":
        _compare(file, reading.against, number, as_json, top, reading)
        return
    with _opened(file) as study:
        new = load(study, number)
        base = load(study, reading.against) if reading.against is not None else None
    _refuse_unknown(new, reading)
    named_clock = "wall time" in sentence
    pair = paired(base, new, reading if as_json or named_clock else new.with_clock(reading))
    loaded = pair.new
    if as_json:
        facts = round_facts(loaded, str(file))
        facts["functions"] = function_rows(loaded, by, top)
        if lines:
            facts["lines"] = line_rows(loaded, top)
        if edges:
            facts["edges"] = edge_rows(loaded, top)
        if leads:
            facts["leads"] = lead_rows(paired(base, new, reading if named_clock else new.with_clock(reading)))
        facts |= reading_facts(loaded)
        click.echo(_json(facts))
        return
    if leads:
        tables.show_leads(pair)
    tables.show_functions(loaded, by, top or 20)
    if lines:
        tables.show_lines(loaded, top or 20)
    if edges:
        tables.show_edges(loaded, top or 20)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.argument("base", type=int, required=False)
@click.argument("new", type=int, required=False)
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What of both rounds to look at, such as: inside fit; by module.")  # fmt: skip
@click.option("--pairs", callback=pair_count, metavar="N|auto",
              help="First run both states of the code in turn: N pairs, or until it is settled, at most two minutes.")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows. Default: 20; all with --json.")
@click.option("--json", "as_json", is_flag=True, help="As JSON, times in nanoseconds.")
def compare(file: Path, base: int | None, new: int | None, sentence: str, pairs: int | None, top: int | None, as_json: bool) -> None:
    """Compare two rounds. Default: the first with the latest.

    With --pairs the code of both rounds is brought back from what the study keeps, at the same paths, seen by these runs
    alone: your files are left as they are.

    \b
    Examples:
      ricerca compare harbour.ricerca
      ricerca compare harbour.ricerca 1 3 --json
      ricerca compare harbour.ricerca 1 3 --pairs auto
      ricerca compare harbour.ricerca 1 3 --reading "inside fit_station; by module"
    """
    from ricerca.engine.reading import parse

    reading = parse(sentence)
    base, new = base or reading.against, new or reading.round
    if pairs is not None:
        base, new = _make_pairs(file, base, new, pairs)
    _compare(file, base, new, as_json, top, reading)


def _make_pairs(file: Path, base: int | None, new: int | None, pairs: int) -> tuple[int, int]:
    """Run both states in turn, telling how it goes; interrupted, what was made stays. Returns the numbers of the rounds."""
    from ricerca.runner.pairing import TIME_LIMIT_S, Pairing
    from ricerca.runner.restoring import CannotRestoreError

    with _opened(file) as study:
        numbers = [one.number for one in study.rounds()]
        base, new = base or numbers[0] if numbers else 0, new or study.round().number
    pairing = Pairing(file.absolute(), base, new, pairs or None, own_group=True)
    goal = f"{pairs} pairs" if pairs else f"until the verdict is settled, at most {TIME_LIMIT_S:.0f} s"
    _say(f"runs rounds {base} and {new} in turn, {goal}; Ctrl+C ends it and keeps what was made")
    signal.signal(signal.SIGINT, lambda _number, _frame: pairing.stop())
    signal.signal(signal.SIGTERM, lambda _number, _frame: pairing.stop())
    last = ""

    def look() -> None:
        nonlocal last
        if pairing.step != last and sys.stderr.isatty():
            last = pairing.step
            click.echo(f"\r\x1b[2Kricerca: {last}", err=True, nl=False)

    try:
        pairing.run(look)
    except CannotRestoreError as problem:
        raise InputError(problem.what, problem.advice or "The verdict without --pairs rests on runs made apart: weaker evidence.") from None
    finally:
        if last:
            click.echo("", err=True)
    _say(f"made {pairing.made} pairs")
    return base, new


def _compare(file: Path, base: int | None, new: int | None, as_json: bool, top: int | None, reading: Reading) -> None:
    from ricerca.loading import load_pair
    from ricerca.report import tables
    from ricerca.report.facts import comparison_facts

    with _opened(file) as study:
        pair = load_pair(study, base, new, reading)
    facts = comparison_facts(pair, str(file))
    if as_json:
        facts["functions"] = facts["functions"][:top]
        click.echo(_json(facts))
    else:
        tables.show_comparison(pair, facts, top or 20)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--to", "path", required=True, type=click.Path(path_type=Path, allow_dash=True),
              help="File to write: .csv, .json, .md; the call graph: .svg, .pdf, .png, .dot, .graphml; - for the terminal.")  # fmt: skip
@click.option("--round", "number", type=int, help="Number of the round. Default: the latest.")
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What to look at, such as: round 2; inside fit; charged to my code.")  # fmt: skip
@click.option("--what", "--table", "what", type=click.Choice(["functions", "lines", "edges", "graph"]), default="functions",
              show_default=True, help="The table a CSV file holds; for the terminal also the graph, as GraphML.")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows.")
@click.option("--nodes", type=click.IntRange(1), help="About how many nodes the call graph has. Default: 30.")
def export(file: Path, path: Path, number: int | None, sentence: str, what: str, top: int | None, nodes: int | None) -> None:
    """Save a round as a table, as text with the gain over the first round, or its call graph.

    \b
    Examples:
      ricerca export harbour.ricerca --to gain.md
      ricerca export harbour.ricerca --to calls.svg --reading "charged to my code"
      ricerca export harbour.ricerca --to - --what edges
    """
    from ricerca.engine.reading import parse
    from ricerca.loading import load_with_first
    from ricerca.report.export import export_bytes, export_text, write_text
    from ricerca.report.graph import GRAPHS, PICTURES

    reading = parse(sentence)
    with _opened(file) as study:
        pair = load_with_first(study, number if number is not None else reading.round, reading)
    _refuse_unknown(pair.new, reading)
    suffix = path.suffix.lower()
    if str(path) == "-":
        click.echo(export_text(pair, ".graphml" if what == "graph" else ".csv", str(file), what, top, nodes), nl=False)
    elif suffix in PICTURES:
        from ricerca.desk.pages.graph_saving import graph_picture

        export_bytes(path, graph_picture(pair, suffix, nodes))
    else:
        write_text(path, export_text(pair, ".graphml" if what == "graph" and suffix not in GRAPHS else suffix, str(file), what, top, nodes))


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
            click.echo(_json([_recording_facts(one) for one in found]))
        else:
            tables.show_recordings(found)
        return
    failed = 0
    for one in [lying.find(name) for name in names] or [one for one in lying.waiting() if not one.running]:
        try:
            if action == "drop":
                lying.drop(one)
                _say(f"{one.name} is removed.")
            else:
                taken = take_waiting(one)
                own = ", one of its own: the round it was made for is gone" if taken.own_round else ""
                _say(f"{one.name} is now in round {taken.round_number} of {one.about.study}{own}.")
        except RicercaError as problem:
            failed += 1
            _say(str(problem))
    sys.exit(OWN_ERROR if failed else 0)


def _recording_facts(one: Any) -> dict[str, Any]:
    return {
        "name": one.name, "path": str(one.file), "bytes": one.bytes, "study": one.about.study, "round": one.about.round_number,
        "program": list(one.about.subject.program), "running": one.running, "why": one.why,
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
        own = tuple(one for one in own if one.name not in drops)
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
        click.echo(_json([check.__dict__ for check in checks]))
    else:
        show_checks(checks)
    sys.exit(0 if all(check.works for check in checks) else 1)


if __name__ == "__main__":
    main()
