"""Budgets: limits on exact counts and on times against a base, as a build server checks them."""

from __future__ import annotations

import fnmatch
import math
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree

import numpy as np

from ricerca.engine.layers import COLLECTION, MINE, PROGRAMS
from ricerca.loading import Loaded, Pair
from ricerca.measure.estimates import Speedup
from ricerca.model.errors import InputError
from ricerca.report.tables import terminal, terminal_table
from ricerca.report.wording import count_text, factor_text, printable

COUNTS = ("calls", "contexts", "imports", "programs")
RATIOS = ("total", "self", "inclusive")
KEPT, BROKEN, UNDECIDED = "kept", "broken", "undecided"
FROM_MINE = "mine"


@dataclass(frozen=True)
class Limit:
    """One limit. Either ``count`` or ``ratio`` says what is limited; ``base`` is a round, of ``base_study`` where that is named."""

    name: str
    at_most: float
    count: str = ""
    ratio: str = ""
    of: str = ""
    caller: str = ""
    base: int | None = None
    base_study: str = ""
    case: str = ""

    @property
    def text(self) -> str:
        """What is limited, in words.

        >>> Limit("rows", 100, count="calls", of="parse_row").text
        'calls of parse_row at most 100'
        """
        what = self.count or f"{self.ratio} time"
        whose = f" of {self.of}" if self.of else ""
        caller = f" from {self.caller}" if self.caller else ""
        if self.count:
            return f"{what}{whose}{caller} at most {_number(self.at_most)}"
        return f"{what}{whose} at most {self.at_most:g} of the base"


@dataclass(frozen=True)
class Finding:
    """What became of a limit. ``value`` is None where it is not known."""

    limit: Limit
    value: float | None
    verdict: str
    why: str


def budget_from(text: str) -> list[Limit]:
    """The limits of a budget in TOML.

    Raises
    ------
    InputError
        It is no TOML, or a limit says something that is not understood.
    """
    try:
        rows = tomllib.loads(text).get("limit", [])
    except tomllib.TOMLDecodeError as problem:
        raise InputError(f"The budget is not readable as TOML ({problem}).") from None
    if not isinstance(rows, list) or not rows or not all(isinstance(row, dict) for row in rows):
        raise InputError("The budget has no limits.", "Write at least one: [[limit]] with count or ratio, and at_most.")
    return [_limit(row, number) for number, row in enumerate(rows, 1)]


def _limit(row: dict[str, Any], number: int) -> Limit:
    name = str(row.get("name", f"limit {number}"))
    known = {"name", "at_most", "count", "ratio", "of", "from", "base", "base_study", "case"}
    unknown = sorted(row.keys() - known)
    if unknown:
        raise InputError(f"The limit {name!r} has a key {unknown[0]!r} that is not understood.", f"Keys are: {', '.join(sorted(known))}.")
    at_most = row.get("at_most")
    if isinstance(at_most, bool) or not isinstance(at_most, int | float) or not math.isfinite(at_most) or at_most < 0:
        raise InputError(f"The limit {name!r} does not say how much it allows.", "Give a number: at_most = 35040")
    count, ratio = row.get("count", ""), row.get("ratio", "")
    if bool(count) == bool(ratio):
        raise InputError(f"The limit {name!r} limits neither a count nor a ratio, or both.", 'Say one: count = "calls", or ratio = "total"')
    for value, allowed in ((count, COUNTS), (ratio, RATIOS)):
        if value and value not in allowed:
            raise InputError(f"The limit {name!r} limits {value!r}, which is not known.", f"Use one of {', '.join(allowed)}.")
    base = row.get("base")
    if base is not None and (isinstance(base, bool) or not isinstance(base, int)):
        raise InputError(f"The base of the limit {name!r} is no number of a round.")
    if ratio in ("self", "inclusive") and not row.get("of"):
        raise InputError(f"The limit {name!r} does not say of which function.", 'Say: of = "parse_row"')
    if row.get("from", FROM_MINE) != FROM_MINE:
        raise InputError(f"The limit {name!r} counts from {row['from']!r}, which is not known.", 'Leave it out, or say: from = "mine"')
    return Limit(name, float(at_most), str(count), str(ratio), str(row.get("of", "")), str(row.get("from", "")), base,
                 str(row.get("base_study", "")), str(row.get("case", "")))  # fmt: skip


def functions_named(loaded: Loaded, pattern: str) -> np.ndarray:
    """Which functions a pattern means: a name, or module and name, with * and ? allowed; (functions,) bool array."""
    table = loaded.profile.functions
    if not pattern:
        return np.ones(len(table), bool)
    return np.asarray(
        [
            fnmatch.fnmatchcase(name, pattern) or fnmatch.fnmatchcase(f"{module}.{name}", pattern)
            for name, module in zip(table.name, table.module, strict=True)
        ],
        bool,
    )


def count_of(loaded: Loaded, limit: Limit) -> int:
    """The exact count that a limit is about."""
    profile = loaded.profile
    named = functions_named(loaded, limit.of)
    there = named[profile.function] & (profile.parent >= 0)
    if limit.count == "imports":
        there &= np.asarray([name.startswith("import ") for name in profile.functions.name], bool)[profile.function]
    elif limit.count == "programs":
        there &= (np.asarray(profile.functions.layer) == PROGRAMS)[profile.function]
    if limit.caller == FROM_MINE:
        layer = np.asarray(profile.functions.layer)
        there &= (layer == MINE)[profile.function][profile.parent] & (layer != COLLECTION)[profile.function]
    return int(there.sum()) if limit.count == "contexts" else int(profile.calls[there].sum())


def check_count(loaded: Loaded, limit: Limit) -> Finding:
    """Whether an exact count is within its limit; not decided where the run is not whole."""
    value = count_of(loaded, limit)
    ended = f"; the program ended with {loaded.run.ended}" if loaded.run.exit_status else ""
    if value > limit.at_most:
        return Finding(limit, value, BROKEN, f"{count_text(value)}, {count_text(value - int(limit.at_most))} too many")
    if not loaded.run.complete:
        return Finding(limit, value, UNDECIDED, f"the recording is not complete: {'; '.join(loaded.run.because)}")
    if limit.of and not functions_named(loaded, limit.of).any():
        return Finding(limit, value, KEPT, f"no function {limit.of} was called{ended}")
    return Finding(limit, value, KEPT, f"{count_text(value)}, exact{ended}")


def check_total(limit: Limit, found: Speedup, other_work: str = "") -> Finding:
    """Whether the whole run takes at most so many times what the base takes."""
    if other_work or found.ratio != found.ratio:
        return Finding(limit, None, UNDECIDED, other_work or found.why or "there are no plain runs to compare")
    value = 1 / found.ratio
    if found.interval is None:
        return Finding(limit, value, UNDECIDED, found.why or "there are too few plain runs to tell")
    low, high = 1 / found.interval[1], 1 / found.interval[0]
    return _judged(limit, value, low, high, found.why)


def check_function(limit: Limit, pair: Pair) -> Finding:
    """Whether functions take at most so many times what they took in the base round."""
    sides = []
    assert pair.base is not None
    if pair.other_work:
        return Finding(limit, None, UNDECIDED, f"the rounds are of different work ({pair.other_work})")
    for loaded in (pair.base, pair.new):
        named, figures = np.flatnonzero(functions_named(loaded, limit.of)), loaded.figures
        times = figures.self_ns if limit.ratio == "self" else figures.inclusive_ns
        halves = figures.self_half_ns if limit.ratio == "self" else figures.inclusive_half_ns
        sides.append((float(times[named].sum()), float(np.sqrt((np.asarray(halves, float)[named] ** 2).sum()))))
    factor, drift = pair.drift
    (base_ns, base_half), (new_ns, new_half) = sides
    if not base_ns:
        return Finding(limit, None, UNDECIDED, f"{limit.of} takes no time in the base")
    value = new_ns / (base_ns * factor)
    if math.isnan(base_half) or math.isnan(new_half) or not new_ns:
        verdict = KEPT if not new_ns else UNDECIDED
        return Finding(
            limit, value, verdict, "it is not called any more" if not new_ns else "how exact its time is is not known: add --plain 5"
        )
    half = math.hypot(base_half / base_ns, new_half / new_ns, drift)
    return _judged(limit, value, value * math.exp(-half), value * math.exp(half), "from recorded and sparse runs")


def _judged(limit: Limit, value: float, low: float, high: float, from_what: str) -> Finding:
    verdict = KEPT if high <= limit.at_most else BROKEN if low > limit.at_most else UNDECIDED
    between = f"{factor_text(value)} the base, between {factor_text(low)} and {factor_text(high)}"
    return Finding(limit, value, verdict, f"{between}; {from_what}" if from_what else between)


def budget_facts(findings: Sequence[Finding]) -> dict[str, Any]:
    """The findings as JSON."""
    return {
        "limits": [
            {"name": finding.limit.name, "value": finding.value, "at_most": _number(finding.limit.at_most), "verdict": finding.verdict,
             "why": finding.why, "what": finding.limit.text}
            for finding in findings
        ]
    }  # fmt: skip


def _number(value: float) -> float | int:
    return int(value) if value == int(value) else value


def is_past(findings: Sequence[Finding], strict: bool) -> bool:
    """Whether a limit is broken; with strict also where one is undecided."""
    return any(finding.verdict == BROKEN or (strict and finding.verdict == UNDECIDED) for finding in findings)


def junit_text(findings: Sequence[Finding], strict: bool) -> str:
    """The findings as JUnit XML: a broken limit is a failure, an undecided one is skipped."""
    failed = [finding for finding in findings if is_past([finding], strict)]
    skipped = [finding for finding in findings if finding.verdict == UNDECIDED and finding not in failed]
    suite = ElementTree.Element("testsuite", name="ricerca", tests=str(len(findings)), failures=str(len(failed)),
                                skipped=str(len(skipped)), errors="0")  # fmt: skip
    for finding in findings:
        case = ElementTree.SubElement(suite, "testcase", classname="budget", name=_xml(finding.limit.name))
        if finding in failed:
            ElementTree.SubElement(case, "failure", message=_xml(finding.why)).text = _xml(f"{finding.limit.text}: {finding.why}")
        elif finding in skipped:
            ElementTree.SubElement(case, "skipped", message=_xml(finding.why))
    ElementTree.indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suite, "unicode") + "\n"


def _xml(text: str) -> str:
    return "".join(sign for sign in printable(text) if sign >= " ")


def markdown_text(findings: Sequence[Finding]) -> str:
    """The findings as a table for a merge request."""
    rows = ["| limit | | found |", "|---|---|---|"]
    for finding in findings:
        cells = [cell.replace("|", "\\|") for cell in (f"{finding.limit.name}: {finding.limit.text}", finding.verdict, finding.why)]
        rows.append(
            f"| {cells[0]} | **{cells[1]}** | {cells[2]} |" if finding.verdict != KEPT else f"| {cells[0]} | {cells[1]} | {cells[2]} |"
        )
    return "\n".join(rows) + "\n"


def show_findings(findings: Sequence[Finding]) -> None:
    """The findings in the terminal."""
    console = terminal()
    table = terminal_table("", "limit", "found", left=("", "limit", "found"))
    for column in table.columns[1:]:
        column.no_wrap = False
    for finding in findings:
        limit = f"{finding.limit.name}: {finding.limit.text}" if finding.limit.name != finding.limit.text else finding.limit.name
        table.add_row(finding.verdict, printable(limit), printable(finding.why))
    console.print(table)


def first_budget(loaded: Loaded, base: int | None, most: int = 5) -> str:
    """A budget that a round keeps exactly: its counts as they are, and no more than 5 % over a base in time."""
    table, figures = loaded.profile.functions, loaded.figures
    own = np.asarray(table.layer) == MINE
    python = np.asarray([bool(file) and not name.startswith("<") for file, name in zip(table.file, table.name, strict=True)], bool)
    order = [int(n) for n in np.argsort(-figures.self_ns, kind="stable") if own[n] and python[n] and figures.calls[n]][:most]
    made = count_of(loaded, Limit("", 0, "calls", caller=FROM_MINE))  # imports make other calls where code was compiled before
    limits = [("calls made by my code", "calls", "", made)]
    names = [f"{table.module[n]}.{table.name[n]}" for n in order]
    limits += [(f"calls of {name}", "calls", name, count_of(loaded, Limit("", 0, "calls", of=name))) for name in names]
    programs = count_of(loaded, Limit("", 0, "programs"))
    limits.append(("started programs", "programs", "", programs))
    parts = [f"# Limits of round {loaded.round.number} “{loaded.round.name}”. Counts are exact: they do not vary with the machine."]
    for name, count, of, at_most in limits:
        whose = f"\nof = {_toml(of)}" if of else '\nfrom = "mine"' if count == "calls" else ""
        parts.append(f"[[limit]]\nname = {_toml(name)}\ncount = {_toml(count)}{whose}\nat_most = {at_most}")
    if base is not None:
        parts.append(f'[[limit]]\nname = "no slower than round {base}"\nratio = "total"\nbase = {base}\nat_most = 1.05')
    return "\n\n".join(parts) + "\n"


def _toml(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
