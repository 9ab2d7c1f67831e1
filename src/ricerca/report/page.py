"""The account as a page: HTML in one file that needs no network, or Markdown for a merge request."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from importlib.resources import files

from jinja2 import Environment, StrictUndefined
from markupsafe import Markup

from ricerca.report.account import Account, account_facts
from ricerca.report.wording import count_text, factor_text, place_text, share_text, time_text, verdict_text


@dataclass(frozen=True)
class Colours:
    """Colours of a page, and of each layer: its own time, and the time in what it called."""

    names: Mapping[str, str]
    own: Callable[[str], str] = field(repr=False)
    called: Callable[[str], str] = field(repr=False)
    fonts: str = field(default="", repr=False)
    """Style that brings the fonts along."""


def page(account: Account, colours: Colours, pictures: Sequence[tuple[str, str]] = (), template: str = "page.html") -> str:
    """The account as HTML, or as what else the template is.

    Parameters
    ----------
    pictures : sequence of (str, str)
        Title and SVG, or what else a picture is put in as, of each picture.
    """
    facts = account_facts(account)
    environment = Environment(undefined=StrictUndefined, autoescape=template.endswith(".html"), trim_blocks=True, lstrip_blocks=True)
    machine = facts["machine"]
    processors = f"{machine['processors']} processors" if machine["processors"] else ""
    python = f"Python {machine['python']}" if machine["python"] else ""
    packages = [" ".join(package) for package in machine["packages"]]
    parts = [machine["host"], machine["processor"], processors, machine["system"], python, *packages]
    return environment.from_string(files("ricerca.report").joinpath(template).read_text("utf-8")).render(
        a=account,
        f=facts,
        c=colours.names,
        own=colours.own,
        called=colours.called,
        new_ns=account.pair.new_ns,
        longest=max((row.of_first for row in account.history), default=1.0) or 1.0,
        fonts=Markup(colours.fonts),
        widest=max((row["inclusive_ns"] for row in facts["functions"]), default=1) or 1,
        total=max(account.loaded.profile.total_ns, 1),
        pictures=[(name, Markup(picture)) for name, picture in pictures],
        machine=[part for part in parts if part],
        time=time_text,
        count=count_text,
        share=share_text,
        factor=factor_text,
        place=place_text,
        verdict=verdict_text,
        cell=lambda text: text.replace("|", "\\|").replace("`", "'"),
    )


PAPER = Colours({}, lambda _layer: "", lambda _layer: "")
"""Colours of a page that has none."""


def merge_request(account: Account) -> str:
    """The account as Markdown, as long as a merge request or an issue has room for; its tables fold away."""
    return page(account, PAPER, template="page.md")
