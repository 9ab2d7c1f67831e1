"""How figures are written for people: times with three significant digits, thin spaces in thousands, which no line breaks at."""

from __future__ import annotations

import math
from typing import Any

THIN = "\u202f"
_UNITS = ((1e9, "s"), (1e6, "ms"), (1e3, "µs"), (1, "ns"))


def time_text(ns: float) -> str:
    """A time with three significant digits and its unit.

    >>> time_text(1_234_567_890), time_text(12_345), time_text(0)
    ('1.23\u202fs', '12.3\u202fµs', '0')
    """
    size = abs(ns)
    if size < 0.5:
        return "0"
    for scale, unit in _UNITS:
        # 999.6 µs is written as 1.00 ms, so the unit is chosen after rounding
        if size >= scale * 0.9995 or unit == "ns":
            return f"{_three_digits(ns / scale, whole=unit == 'ns')}{THIN}{unit}"
    raise AssertionError("unreachable")


def time_ns(text: str) -> float:
    """The time that a text of ``time_text`` means, in ns.

    >>> time_ns("1.23\u202fms"), time_ns("1.23\u2009ms"), time_ns("0")
    (1230000.0, 1230000.0, 0.0)
    """
    value = text.replace(",", ".").split()
    scale = {unit: size for size, unit in _UNITS}[value[-1]] if len(value) > 1 else 1
    return float("".join(value[:-1] or value)) * scale


def _three_digits(value: float, whole: bool = False) -> str:
    size = abs(value)
    digits = 0 if whole or size >= 99.95 else 1 if size >= 9.995 else 2
    if size >= 999.5:
        return count_text(round(value))
    return f"{value:.{digits}f}"


def count_text(number: int) -> str:
    """A count with thin spaces between thousands.

    >>> count_text(1204331), count_text(-4200)
    ('1\u202f204\u202f331', '-4\u202f200')
    """
    return f"{number:,}".replace(",", THIN)


def brief_count(number: int) -> str:
    """A count in few letters, where an exact one has no room: two or three digits, thousands as k, millions as M.

    >>> brief_count(705), brief_count(35_040), brief_count(6_175_800), brief_count(999_999)
    ('705', '35\u202fk', '6.2\u202fM', '1.0\u202fM')
    """
    for scale, unit in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if number >= scale * 0.9995:
            return f"{number / scale:.0f}{THIN}{unit}" if number / scale >= 9.95 else f"{number / scale:.1f}{THIN}{unit}"
    return str(number)


def share_text(share: float) -> str:
    """A share of the whole in percent.

    >>> share_text(0.314), share_text(0.0004), share_text(0.0)
    ('31\u202f%', '<0.1\u202f%', '0\u202f%')
    """
    percent = share * 100
    if percent == 0:
        return f"0{THIN}%"
    if abs(percent) < 0.1:
        return f"<0.1{THIN}%"
    return f"{percent:.1f}{THIN}%" if abs(percent) < 9.95 else f"{percent:.0f}{THIN}%"


def factor_text(factor: float) -> str:
    """A speed-up or other factor.

    >>> factor_text(3.66), factor_text(1.062), factor_text(float("inf"))
    ('3.7×', '1.06×', 'any number ×')
    """
    if math.isinf(factor):
        return "any number ×"
    if math.isnan(factor):
        return "?"
    if factor >= 99.5:
        return f"{count_text(round(factor))}×"
    return f"{factor:.1f}×" if factor >= 1.95 else f"{factor:.2f}×"


def signed_time_text(ns: float) -> str:
    """A difference of times with its sign.

    >>> signed_time_text(-2_500_000)
    '\u22122.50\u202fms'
    """
    sign = "+" if ns > 0 else "\u2212" if ns < 0 else ""
    return sign + time_text(abs(ns))


def printable(text: str) -> str:
    r"""A text in which control characters and bytes that are no UTF-8 are written out, so that a terminal does nothing of it.

    >>> printable("a\x1b[31mb"), printable("caf\u00e9"), printable("\udcff")
    ('a\\x1b[31mb', 'café', '\\xff')
    """
    if text.isprintable():
        return text
    return "".join(letter if letter.isprintable() or letter in ("\n", THIN) else _written_out(letter) for letter in text)


def _written_out(letter: str) -> str:
    code = ord(letter)
    if 0xDC80 <= code <= 0xDCFF:
        code -= 0xDC00
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"


def plural(count: int, one: str, many: str = "") -> str:
    """A count with its noun.

    >>> plural(1, "call"), plural(1200, "call")
    ('1 call', '1\u202f200 calls')
    """
    return f"{count_text(count)} {one if count == 1 else many or one + 's'}"


def place_text(file: str, line: int, module: str) -> str:
    """Where a function lies: the file's name and the line, or the module of what has no file.

    >>> place_text("/home/me/tides/fit.py", 12, "fit"), place_text("", 0, "time")
    ('fit.py:12', 'time')
    """
    return f"{file.rsplit('/', 1)[-1]}:{line}" if file else module


def short_name(name: str, most: int = 32) -> str:
    """A name cut at its end to a length.

    >>> short_name("tables.Reader.rows", 10)
    'tables.Re…'
    """
    return name if len(name) <= most else name[: most - 1] + "…"


def cycle_name(names: list[str]) -> str:
    """A cycle by the functions in it, the first few named.

    >>> cycle_name(["fit", "step", "solve", "norm"])
    'cycle of 4: fit, step, solve …'
    """
    return f"cycle of {len(names)}: {', '.join(names[:3])}" + (" …" if len(names) > 3 else "")


def half_text(figure: float, half: float) -> str:
    """Half the width of a figure's interval as a share of it; empty where it is not known.

    >>> half_text(100, 12), half_text(100, 0.1), half_text(100, float("nan")), half_text(0, 1)
    ('12\u202f%', '<1\u202f%', '', '')
    """
    if math.isnan(half) or figure <= 0:
        return ""
    percent = 100 * half / figure
    return f"<1{THIN}%" if percent < 0.95 else f">99{THIN}%" if percent > 99 else f"{percent:.0f}{THIN}%"


def interval_words(figure: float, half: float) -> str:
    """The interval of a figure in a sentence.

    >>> interval_words(2e6, 1e6)
    'The true time is between 1.00\u202fms and 3.00\u202fms in 95 of 100 cases.'
    """
    return f"The true time is between {time_text(max(figure - half, 0))} and {time_text(figure + half)} in 95 of 100 cases."


def verdict_text(found: Any) -> str:
    """A speed-up in a phrase, with its interval.

    Parameters
    ----------
    found : ricerca.measure.estimates.Speedup
    """
    factor = factor_text(found.ratio)
    between = f", between {factor_text(found.interval[0])} and {factor_text(found.interval[1])}" if found.interval else ""
    if found.ratio != found.ratio:
        return "no verdict"
    if found.verdict == "undecided":
        return f"{factor}{between}: undecided"
    return f"{factor}{between}: {found.verdict}"


def evidence_text(found: Any) -> str:
    """What a verdict rests on, and what would settle it."""
    if not found.evidence:
        return f"No verdict: {found.why or 'there are no plain runs; record with --plain 5'}"
    if found.verdict != "undecided":
        return f"From {found.why}" if found.evidence == "pairs" else f"Weaker evidence: {found.why}"
    more = f"; about {plural(found.more, 'more pair')} would settle it" if found.more else ""
    return f"Undecided: {found.why}{more}"
