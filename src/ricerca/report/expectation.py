"""Expectations: what a change should bring, written into a round's note and compared with the next round."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from ricerca.report.wording import count_text, factor_text, share_text, time_ns, time_text

MOST_NAMES = 3
SAME = 0.02
_SENTENCE = re.compile(r"Expected: with (.+) as fast, the run takes ([\d.\s]+(?:ns|µs|ms|s)) \(.+\)\.")


@dataclass(frozen=True)
class Expectation:
    """The sentence in the note, and the time of the whole run that it speaks of."""

    text: str
    total_ns: float

    def missed(self, total_ns: float) -> str:
        """How far a time lies from it, in words.

        >>> Expectation("", 2e9).missed(1.5e9)
        '25\u202f% less time than expected'
        """
        off = total_ns / self.total_ns - 1 if self.total_ns else 0.0
        return "as expected" if abs(off) <= SAME else f"{share_text(abs(off))} {'more' if off > 0 else 'less'} time than expected"

    def held(self, total_ns: float) -> str:
        """What came of it, in words.

        >>> Expectation("", 2e9).held(1.5e9)
        'came to 1.50\u202fs, 25\u202f% less time than expected'
        """
        return f"came to {time_text(total_ns)}, {self.missed(total_ns)}"


def expectation_text(names: Sequence[str], factor: float, total_ns: float, speedup: float) -> str:
    """An expectation as the sentence that goes into a note.

    >>> expectation_text(["fit"], 2, 1.5e9, 1.3)
    'Expected: with fit 2× as fast, the run takes 1.50\u202fs (1.30×).'
    """
    listed = ", ".join(names[:MOST_NAMES])
    if len(names) > MOST_NAMES:
        listed += f" and {count_text(len(names) - MOST_NAMES)} more"
    return f"Expected: with {listed} {factor:g}× as fast, the run takes {time_text(total_ns)} ({factor_text(speedup)})."


def expectations(note: str) -> list[Expectation]:
    """The expectations in a note, the latest last.

    >>> [one.total_ns for one in expectations("Faster?\\nExpected: with fit 2× as fast, the run takes 1.50\u202fs (1.30×).")]
    [1500000000.0]
    """
    return [Expectation(found[0], time_ns(found[2])) for found in _SENTENCE.finditer(note)]
