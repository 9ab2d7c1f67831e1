"""The command that times ways to write the same thing against each other."""

from __future__ import annotations

from pathlib import Path

import click

from ricerca.cli.group import json_text, main
from ricerca.model.errors import InputError


@main.command(context_settings={"allow_interspersed_args": False})
@click.option("--setup", default="", metavar="CODE", help="What is done before the clock starts, such as imports and data.")
@click.option("--python", "pythons", multiple=True, metavar="EXE", help="Interpreter to time them in; may be given several times.")
@click.option("--seconds", type=click.FloatRange(0.1, 3600), default=3.0, show_default=True, help="How long to measure in each.")
@click.option("--collect", is_flag=True, help="Leave the garbage collector on.")
@click.option("--calls", is_flag=True, help="Record them, too, and say how many calls a loop makes.")
@click.option("--cwd", default=".", help="Working folder.")
@click.option("--study", type=click.Path(path_type=Path), help="Study to keep the result in.")
@click.option("--json", "as_json", is_flag=True, help="As JSON, times of one loop in nanoseconds.")
@click.argument("texts", nargs=-1, metavar="SNIPPET...")
def snippet(setup: str, pythons: tuple[str, ...], seconds: float, collect: bool, calls: bool, cwd: str, study: Path | None, as_json: bool,
            texts: tuple[str, ...]) -> None:  # fmt: skip
    """Time ways to write the same thing against each other.

    Blocks of loops are run in turn, so that a change of the machine falls on all of them alike. With a study alone, its
    snippets are shown.

    \b
    Examples:
      ricerca snippet --setup "words = 'a b c'.split()" -- "' '.join(words)" "words[0] + ' ' + words[1] + ' ' + words[2]"
      ricerca snippet --python python3.11 --python python3.13 -- "sum(range(1000))" "sum([n for n in range(1000)])"
    """
    from ricerca.report.snippets import show_snippets, snippet_facts
    from ricerca.runner.snippets import SnippetRequest, SnippetTiming, calls_of_a_loop, keep, kept
    from ricerca.study.store import Study

    if not texts and study is not None:
        with Study.open(study) as opened:
            known = kept(opened)
        if as_json:
            click.echo(json_text(known))
        for facts in [] if as_json else known:
            show_snippets(facts)
        return
    if not texts:
        raise InputError("There is no snippet to time.", "Say: ricerca snippet --setup CODE -- 'FIRST' 'SECOND'")
    request = SnippetRequest(texts, setup, pythons, seconds, collect, cwd)
    found = SnippetTiming(request).run()
    counts = [calls_of_a_loop(request, text, pythons[0] if pythons else "") for text in texts] if calls else []
    facts = snippet_facts(request, found, counts)
    if study is not None:
        keep(study, facts)
    if as_json:
        click.echo(json_text(facts))
    else:
        show_snippets(facts)
