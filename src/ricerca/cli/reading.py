"""Commands that read what a study holds: rankings, comparisons, exports."""

from __future__ import annotations

import difflib
import signal
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ricerca.cli.group import json_text, main, opened, say
from ricerca.model.cases import WHOLE, Part
from ricerca.model.errors import InputError
from ricerca.options import pair_count

if TYPE_CHECKING:
    from ricerca.engine.reading import Reading
    from ricerca.study.store import Study


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
@click.option("--case", "case_name", default="", metavar="NAME", help="The case to look at. Default: the first.")
@click.option("--growth", is_flag=True, help="Say how calls and times grow with the size of the input.")
@click.option("--by", type=click.Choice(["self", "inclusive", "calls", "gain"]), default="self", show_default=True,
              help="Order; gain is against the first round.")  # fmt: skip
@click.option("--lines", is_flag=True, help="Rank lines too.")
@click.option("--edges", is_flag=True, help="Show callers and callees too.")
@click.option("--leads", is_flag=True, help="Say first what deserves a look, and why.")
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What to look at, such as: round 2; on-CPU time; inside fit; charged to my code; by module.")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows of each. Default: 20; all with --json.")
@click.option("--json", "as_json", is_flag=True, help="As JSON, times in nanoseconds.")
def rank(file: Path, number: int | None, case_name: str, growth: bool, by: str, lines: bool, edges: bool, leads: bool, sentence: str,
         top: int | None, as_json: bool) -> None:  # fmt: skip
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
    from ricerca.report.besides import besides_leads
    from ricerca.report.facts import edge_rows, function_rows, lead_rows, line_rows, reading_facts, round_facts

    reading = parse(sentence) if sentence or as_json else Reading(machinery=False)
    reading = replace(reading, case=case_name or reading.case)
    number = number if number is not None else reading.round
    if by == "gain":
        _compare(file, reading.against, number, as_json, top, reading)
        return
    if growth and not as_json:
        _show_growth(file, number, reading, top or 20)
        return
    with opened(file, _part(reading)) as study:
        new = load(study, number)
        growth_rows = _growth_rows(study, number, reading) if growth else None
        grown, worth = besides_leads(study, new) if leads else ([], "")
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
            facts["leads"] = lead_rows(paired(base, new, reading if named_clock else new.with_clock(reading))) + grown
            facts["worth"] = worth or None
        if growth_rows is not None:
            facts["growth"] = growth_rows[:top]
        facts |= reading_facts(loaded)
        click.echo(json_text(facts))
        return
    if leads:
        tables.show_leads(pair, [*(row["sentence"] for row in grown), *filter(None, [worth])])
    tables.show_functions(loaded, by, top or 20)
    if lines:
        tables.show_lines(loaded, top or 20)
    if edges:
        tables.show_edges(loaded, top or 20)


def _part(reading: Reading) -> Part:
    return Part(reading.case, reading.size)


def _growth_rows(study: Study, number: int | None, reading: Reading) -> list[dict[str, Any]]:
    from ricerca.report.growth import growth_facts, growth_of, load_sizes

    return growth_facts(growth_of(load_sizes(study, number, reading)))


def _show_growth(file: Path, number: int | None, reading: Reading, top: int) -> None:
    from ricerca.report.growth import growth_of, load_sizes, show_growth

    with opened(file, _part(reading)) as study:
        sizes = load_sizes(study, number, reading)
    show_growth(sizes, growth_of(sizes), top)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.argument("rounds", type=int, nargs=-1, metavar="[ROUND]...")
@click.option("--case", "case_name", default="", metavar="NAME", help="The case to look at. Default: the first.")
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What of both rounds to look at, such as: inside fit; by module.")  # fmt: skip
@click.option("--pairs", callback=pair_count, metavar="N|auto",
              help="First run both states of the code in turn: N pairs, or until it is settled, at most two minutes.")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows. Default: 20; all with --json.")
@click.option("--json", "as_json", is_flag=True, help="As JSON, times in nanoseconds.")
def compare(file: Path, rounds: tuple[int, ...], case_name: str, sentence: str, pairs: int | None, top: int | None,
            as_json: bool) -> None:  # fmt: skip
    """Compare rounds. Default: the first with the latest; with more than two, each with each.

    With --pairs the code of both rounds is brought back from what the study keeps, at the same paths, seen by these runs
    alone: your files are left as they are.

    \b
    Examples:
      ricerca compare harbour.ricerca
      ricerca compare harbour.ricerca 1 3 --json
      ricerca compare harbour.ricerca 1 3 --pairs auto
      ricerca compare harbour.ricerca 2 3 4
      ricerca compare harbour.ricerca 1 3 --reading "inside fit_station; by module"
    """
    from ricerca.engine.reading import parse

    reading = parse(sentence)
    reading = replace(reading, case=case_name or reading.case)
    if len(rounds) > 2:
        _compare_all(file, rounds, pairs, _part(reading), as_json)
        return
    base, new = [*rounds, None, None][:2]
    base, new = base or reading.against, new or reading.round
    if pairs is not None:
        base, new = make_pairs(file, base, new, pairs, _part(reading))
    _compare(file, base, new, as_json, top, reading)


def _compare_all(file: Path, numbers: tuple[int, ...], pairs: int | None, part: Part, as_json: bool) -> None:
    """Several rounds with each other, in one table."""
    from itertools import combinations

    from ricerca.report.verdicts import between_all, judged_facts, show_between

    if pairs is not None:
        for base, new in combinations(numbers, 2):
            make_pairs(file, base, new, pairs, part)
    with opened(file, part) as study:
        found = between_all(study, numbers)
        known = [study.round(number) for number in numbers]
    if as_json:
        click.echo(json_text({"rounds": list(numbers), "pairs": [judged_facts(judged) for judged in found]}))
    else:
        show_between(found, known)


def make_pairs(file: Path, base: int | None, new: int | None, pairs: int, part: Part = WHOLE) -> tuple[int, int]:
    """Run both states in turn, telling how it goes; interrupted, what was made stays. Returns the numbers of the rounds."""
    from ricerca.runner.pairing import TIME_LIMIT_S, Pairing
    from ricerca.runner.restoring import CannotRestoreError

    with opened(file, part) as study:
        numbers = [round_.number for round_ in study.rounds()]
        base, new = base or numbers[0] if numbers else 0, new or study.round().number
    pairing = Pairing(file.absolute(), base, new, pairs or None, own_group=True, part=part)
    goal = f"{pairs} pairs" if pairs else f"until the verdict is settled, at most {TIME_LIMIT_S:.0f} s"
    say(f"runs rounds {base} and {new} in turn, {goal}; Ctrl+C ends it and keeps what was made")
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
    say(f"made {pairing.made} pairs")
    return base, new


def _compare(file: Path, base: int | None, new: int | None, as_json: bool, top: int | None, reading: Reading) -> None:
    from ricerca.loading import load_pair
    from ricerca.report import tables
    from ricerca.report.facts import comparison_facts
    from ricerca.report.verdicts import judged_facts, of_other_cases, show_cases_between

    with opened(file, _part(reading)) as study:
        pair = load_pair(study, base, new, reading)
        assert pair.base is not None
        others = of_other_cases(study, pair.base.round.number, pair.new.round.number, pair.new.round.case)
    facts = comparison_facts(pair, str(file))
    facts["other_cases"] = [judged_facts(judged) for judged in others]
    if as_json:
        facts["functions"] = facts["functions"][:top]
        click.echo(json_text(facts))
    else:
        tables.show_comparison(pair, facts, top or 20)
        show_cases_between(others)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--to", "path", required=True, type=click.Path(path_type=Path, allow_dash=True),
              help="File to write: .csv, .json, .md; a report: .html, .pdf; the call graph: .svg, .png, .dot, .graphml, and with "
              "--what graph .pdf; - for the terminal.")  # fmt: skip
@click.option("--round", "number", type=int, help="Number of the round. Default: the latest.")
@click.option("--reading", "sentence", default="", metavar="SENTENCE",
              help="What to look at, such as: round 2; inside fit; charged to my code.")  # fmt: skip
@click.option("--what", "--table", "what",
              type=click.Choice(["functions", "lines", "edges", "graph", "timeline", "report"]), default="functions", show_default=True,
              help="A CSV file's table; the graph; the timeline (.svg, .csv); a report (.html, .pdf, .md, .json).")  # fmt: skip
@click.option("--top", type=click.IntRange(1), help="At most so many rows.")
@click.option("--nodes", type=click.IntRange(1), help="About how many nodes the call graph has. Default: 30.")
def export(file: Path, path: Path, number: int | None, sentence: str, what: str, top: int | None, nodes: int | None) -> None:
    """Save a round as a table, as text with the gain over the first round, or its call graph.

    \b
    Examples:
      ricerca export harbour.ricerca --to gain.md
      ricerca export harbour.ricerca --to report.html
      ricerca export harbour.ricerca --to calls.svg --reading "charged to my code"
      ricerca export harbour.ricerca --to - --what edges
    """
    from ricerca.engine.reading import parse
    from ricerca.loading import load_pair, load_with_first
    from ricerca.report.account import account_facts, account_of
    from ricerca.report.export import export_bytes, export_text, write_text
    from ricerca.report.graph import GRAPHS, PICTURES
    from ricerca.report.page import merge_request

    reading = parse(sentence)
    suffix = path.suffix.lower()
    is_page = suffix in (".html", ".htm") or (suffix == ".pdf" and what != "graph")
    account = None
    with opened(file, _part(reading)) as study:
        number = number if number is not None else reading.round
        if reading.against is not None:
            pair = load_pair(study, reading.against, number, reading)
        else:
            pair = load_with_first(study, number, reading)
        if is_page or what in ("report", "timeline"):
            account = account_of(study, pair, top)
    _refuse_unknown(pair.new, reading)
    if is_page and account is not None:
        from ricerca.desk.report_pages import html_report, pdf_report

        export_bytes(path, pdf_report(account, nodes) if suffix == ".pdf" else html_report(account, nodes))
    elif what == "timeline":
        export_bytes(path, _timeline(account, suffix))
    elif what == "report" and suffix in (".json", ".md", "") and account is not None:
        text = merge_request(account) if suffix == ".md" else json_text(account_facts(account)) + "\n"
        click.echo(text, nl=False) if str(path) == "-" else write_text(path, text)
    elif str(path) == "-":
        click.echo(export_text(pair, ".graphml" if what == "graph" else ".csv", str(file), what, top, nodes), nl=False)
    elif suffix in PICTURES:
        from ricerca.desk.pages.graph_saving import graph_picture

        export_bytes(path, graph_picture(pair, suffix, nodes))
    else:
        write_text(path, export_text(pair, ".graphml" if what == "graph" and suffix not in GRAPHS else suffix, str(file), what, top, nodes))


def _timeline(account: Any, suffix: str) -> bytes:
    """The timeline as a picture, or as a table: self time of each thread and layer in each slice."""
    from ricerca.report.export import timeline_csv

    if suffix == ".csv":
        return timeline_csv(account.loaded).encode()
    if suffix != ".svg":
        raise InputError(f"There is no export of the timeline to {suffix or 'a file without a suffix'}.", "Use .svg or .csv.")
    from ricerca.desk.report_pages import application, pictures

    application()
    found = dict(pictures(account)).get("Timeline")
    if found is None:
        raise InputError("This round has no timeline: it was recorded without slices of time.")
    return found
