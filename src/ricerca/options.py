"""What the words after an option of the command line mean."""

from __future__ import annotations

import click

from ricerca.model.errors import InputError

AUTO = "auto"
_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30}


def size(_: click.Context, __: click.Parameter, text: str) -> int:
    """A size such as 500M in bytes."""
    number, unit = text.rstrip("bB"), ""
    if number and number[-1].upper() in "KMG":
        number, unit = number[:-1], number[-1].upper()
    try:
        found = int(float(number) * _UNITS[unit])
    except ValueError:
        raise click.BadParameter(f"{text!r} is not a size; write one like 500M or 2G") from None
    if found < 1 << 20:
        raise click.BadParameter("a recording needs at least 1M")
    return found


def variables(_: click.Context, __: click.Parameter, values: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    """Variables of the environment."""
    from ricerca.runner.program import variables_of

    try:
        return variables_of(values)
    except InputError:
        raise click.BadParameter("write it as NAME=VALUE") from None


def pair_count(_context: click.Context, _option: click.Parameter, value: str | None) -> int | None:
    """A number of pairs; 0 for as many as it takes."""
    if value is None or value == AUTO:
        return None if value is None else 0
    if not value.isdigit() or not 1 <= int(value) <= 1000:
        raise click.BadParameter(f"{value} is neither a number of pairs nor auto.")
    return int(value)
