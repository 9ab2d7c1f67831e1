"""Leads in words: what the engine found, said to a person."""

from __future__ import annotations

import math

from ricerca.engine import leads
from ricerca.engine.leads import Evidence, Lead
from ricerca.report.wording import count_text, cycle_name, factor_text, plural, share_text, short_name, time_text

NAME, OTHER_NAME, PART_NAME = 40, 32, 28
"""How many letters of a name a sentence has room for: of what it is about, of others, of each in a list."""


def lead_sentence(lead: Lead, part: str = "the run") -> str:
    """What a lead says first.

    Parameters
    ----------
    part : str
        What its share is a share of.
    """
    name, calls, share = short_name(lead.name, NAME), lead.calls, f"{share_text(lead.share)} of {part}"
    with_others = f"{name} and the library code it calls" if lead.with_others else f"{name} itself"
    match lead.kind:
        case leads.GROWS:
            return f"A call of {name} takes {factor_text(lead.factor)} as long at the end of the run as at its start."
        case leads.OFTEN:
            return f"{name} is called {plural(calls, 'time')}, which adds up to {share}."
        case leads.SELDOM:
            return f"{plural(calls, 'call')} of {name} {'takes' if calls == 1 else 'take'} {share}."
        case leads.BODY:
            return f"{with_others} {'take' if lead.with_others else 'takes'} {share}."
        case leads.WAITING:
            return f"The program waits for {share}. It mostly waits for: {lead.name}."
        case leads.COLLECTION:
            return f"Garbage is collected {plural(calls, 'time')}, which takes {share}."
        case leads.IMPORTS:
            return f"Imports take {share}."
        case leads.PROGRAMS:
            started = plural(calls, "other program is", "other programs are")
            return f"{started} started. Waiting for {'it' if calls == 1 else 'them'} takes {share}."
        case leads.CYCLE:
            members = next(len(fact.parts) for fact in lead.evidence if fact.kind == leads.MEMBERS)
            return f"{members} functions are mutually recursive: {plural(calls, 'call')} among them, {share}."
        case leads.SLOWER:
            return f"{name} takes {time_text(lead.own_ns)} more than in round {lead.base_number}."
        case leads.NEW:
            return f"{name} is new and takes {time_text(lead.own_ns)}."
        case leads.GROWTH:
            return f"The {'calls' if lead.of_calls else 'time'} of {name} {'grow' if lead.of_calls else 'grows'} as {lead.law}."
        case leads.LITTLE:
            return f"No single place is worth much: the slowest function takes {share}."
    raise ValueError(f"unknown kind of lead: {lead.kind}")


def lead_evidence(lead: Lead, part: str = "the run") -> list[str]:
    """What stands behind a lead, each fact a phrase."""
    return [_fact(fact, lead, part) for fact in lead.evidence]


def _fact(fact: Evidence, lead: Lead, part: str) -> str:
    name, calls, time = short_name(fact.name, OTHER_NAME), fact.calls, time_text(fact.time_ns)
    listed = ", ".join(f"{short_name(of, PART_NAME)} {time_text(ns)}" for of, ns in fact.parts)
    match fact.kind:
        case leads.PER_CALL:
            return f"{time} per call" + (f" in {short_name(lead.name, NAME)} and the library code it calls" if lead.with_others else "")
        case leads.EACH:
            return f"{plural(calls, 'call')} of {time}"
        case leads.RESUMED:
            return f"resumed {plural(calls, 'time')}"
        case leads.FIRST_LAST:
            return f"from {time} to {time_text(fact.later_ns)} per call; {plural(calls, 'call')}, {share_text(fact.share)} of {part}"
        case leads.CALLER:
            line = f", line {fact.line}" if fact.line else ""
            if fact.share >= 0.995:
                return f"{'all' if fact.share == 1 else 'nearly all'} calls come from {name}{line}"
            return f"{share_text(fact.share)} of the calls come from {name}{line}"
        case leads.CALLEE:
            return f"line {fact.line}: {plural(calls, 'call')} of {name}, {time}"
        case leads.LINE:
            return f"line {fact.line}: {share_text(fact.share)} of its self time, {plural(calls, 'hit')}"
        case leads.MORE:
            return f"{time} more than in round {calls}"
        case leads.WAITS_FOR:
            return listed
        case leads.WAITS_IN:
            return f"most of it in {name}, {time}"
        case leads.UNDER:
            return f"most of it under {name}, {time}"
        case leads.SLOWEST:
            return listed
        case leads.MODULES:
            return f"{plural(calls, 'module')}; the slowest: {listed}"
        case leads.MEMBERS:
            return cycle_name([short_name(of, 24) for of, _ns in fact.parts])
        case leads.ENTRIES:
            return f"entered {plural(calls, 'time')} from outside"
        case leads.BEFORE_AFTER:
            before, now = (count_text(count) for _when, count in fact.parts)
            return f"{time} before, {time_text(fact.later_ns)} now; {before} calls before, {now} now"
        case leads.HELPED:
            named = ", ".join(f"{of} {count_text(count)}×" for of, count in fact.parts)
            return f"{plural(calls, 'start')} of short programs whose work the shell may do by itself ({named}), {time}"
        case leads.REPEATED:
            return f"started {plural(calls, 'time')} with the same arguments, {time}: {short_name(fact.name, NAME)}"
        case leads.SIZES:
            if lead.of_calls:
                return f"counts exact at {calls} sizes"
            return f"between n^{fact.low:.1f} and n^{fact.high:.1f} at {calls} sizes"
        case leads.TEN_TIMES:
            return f"with ten times the data it would take {time} of {time_text(fact.later_ns)}"
        case leads.TEN:
            return f"the ten slowest together take {share_text(fact.share)}"
    raise ValueError(f"unknown kind of evidence: {fact.kind}")


def ceiling_words(ceiling: float) -> tuple[str, str, str]:
    """How much faster the run could become at most: figure, caption, and the explanation in a sentence."""
    if math.isinf(ceiling):
        return "all", "of the run", "The whole run happens here."
    factor = factor_text(ceiling)
    return factor, "faster at most", f"Without it the run would be {factor} faster. No change here can gain more."
