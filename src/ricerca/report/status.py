"""How a run was recorded, in a line; and which calls its interpreter does not tell of."""

from __future__ import annotations

from ricerca.loading import Loaded
from ricerca.measure.estimates import spread
from ricerca.model.languages import PYTHON
from ricerca.report.wording import count_text, factor_text, plural, share_text, time_text


def not_told(loaded: Loaded) -> str:
    """Which kinds of calls the interpreter does not tell of; empty where it tells of all."""
    facts = loaded.profile.facts
    if not facts.calls_not_shown:
        return ""
    kinds = ", ".join(facts.calls_not_shown)
    return f"Python {facts.python} does not report calls of {kinds}; their time counts in their callers."


def _written_in(loaded: Loaded) -> str:
    """The languages of what ran; Python with its version."""
    facts = loaded.profile.facts
    others = [name for name in dict.fromkeys([facts.language, *loaded.profile.functions.language]) if name and name != PYTHON]
    return ", ".join([*([f"Python {facts.python}"] if facts.python else []), *others])


def status_words(loaded: Loaded) -> str:
    """How the run was recorded, whatever of it is read."""
    parts = []
    if loaded.slowed:
        parts.append(f"recording made it {factor_text(loaded.slowed)} slower; that cost is deducted")
    parts.append(plural(loaded.whole.total_calls, "call"))
    parts.append(f"{count_text(int((loaded.whole.parent >= 0).sum()))} contexts")
    wide = spread(loaded.round.plain_ns)
    if loaded.round.plain_ns:
        parts.append(plural(len(loaded.round.plain_ns), "plain run") + (f", ±{share_text(wide)}" if wide is not None else ""))
    else:
        parts.append("no plain runs, so the time without the recorder is not known")
    slower = ", with the slower recorder in Python" if loaded.profile.facts.hook == "python" else ""
    parts.append(_written_in(loaded) + slower)
    if loaded.profile.facts.hook == "stream":
        parts.append("the cost of writing its events is in these times")
    if not loaded.run.complete:
        parts.append(f"NOT COMPLETE: {'; '.join(loaded.run.because)}")
    if loaded.beside_itself:
        parts.insert(0, f"{time_text(loaded.elapsed_ns)} elapsed, {time_text(loaded.whole.total_ns)} of all threads added up")
    return " · ".join(parts)
