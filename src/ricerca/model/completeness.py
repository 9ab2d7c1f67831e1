"""Whether a run holds all that the program did; decided here alone, asked by everybody else."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ricerca.model import marks

if TYPE_CHECKING:
    from ricerca.model.run_tables import RunFacts

PAUSED, ENDED_EARLY, CUT, INSIDE, FAILED, KILLED = "paused", "ended early", "cut", "inside", "failed", "killed"
OWN_HOOK, THREADS, INTERPRETERS, PROCESSES, UNKNOWN = "own hook", "threads", "interpreters", "processes", "unknown"

_LIMITS = (
    (marks.FLAG_DISK_FULL, "the disk was full"),
    (marks.FLAG_MEMORY_FULL, "the system gave no more memory"),
    (marks.FLAG_LIMIT_REACHED, "the size limit of the recording was reached"),
)
_TABLES = (
    (marks.FLAG_CONTEXTS_FULL, "chains of calls"),
    (marks.FLAG_FUNCTIONS_FULL, "functions"),
    (marks.FLAG_STRINGS_FULL, "names"),
    (marks.FLAG_THREADS_FULL, "threads"),
    (marks.FLAG_LINES_FULL, "lines"),
)


@dataclass(frozen=True)
class Gap:
    """One reason why a run is not whole. ``kind`` is one of this module's words; ``count`` says how many, ``what`` which."""

    kind: str
    count: int = 0
    what: str = ""

    @property
    def text(self) -> str:
        """The reason in words.

        >>> Gap(THREADS, 2).text
        '2 threads could not be followed'
        """
        many = "" if self.count == 1 else "s"
        return {
            PAUSED: "part of the run was left out by a pause",
            ENDED_EARLY: "the recording was ended while the program ran on",
            CUT: self.what,
            INSIDE: f"only what happened inside {self.what} was recorded",
            FAILED: self.what,
            KILLED: f"the program was killed by {self.what}",
            OWN_HOOK: f"the program put a profile hook of its own in {self.count} time{many}; its calls in between are missing",
            THREADS: f"{self.count} thread{many} could not be followed",
            INTERPRETERS: f"{self.count} subinterpreter{many} could not be followed",
            PROCESSES: f"the recording{many} of {self.count} child process{'' if self.count == 1 else 'es'} could not be read",
        }.get(self.kind, "it is not known why")


def gaps_of_recording(facts: RunFacts, by_signal: str | None = None, unreadable: int = 0) -> tuple[Gap, ...]:
    """What is missing in a recorded run.

    Parameters
    ----------
    facts : RunFacts
    by_signal : str, optional
        Name of the signal that ended the program.
    unreadable : int
        Recordings of child processes that could not be read.
    """
    found = []
    if by_signal:
        found.append(Gap(KILLED, what=by_signal))
    if facts.flags & marks.FLAG_PAUSED:
        found.append(Gap(PAUSED))
    if facts.flags & marks.FLAG_FINISHED:
        found.append(Gap(ENDED_EARLY))
    if facts.flags & marks.CUT_FLAGS:
        found.append(Gap(CUT, what=_cut_words(facts.flags)))
    if facts.inside:
        found.append(Gap(INSIDE, what=facts.inside))
    hooks = facts.taken_hooks or int(bool(facts.flags & marks.FLAG_HOOK_TAKEN))
    counted = ((OWN_HOOK, hooks), (THREADS, facts.unseen_threads), (INTERPRETERS, facts.unseen_interpreters), (PROCESSES, unreadable))
    return (*found, *(Gap(kind, count) for kind, count in counted if count))


def _cut_words(flags: int) -> str:
    why = next((words for flag, words in _LIMITS if flags & flag), "a table was full")
    tables = [words for flag, words in _TABLES if flags & flag]
    return f"{why}: there was no room for more {', '.join(tables)}" if tables else why


def gaps_of_exit(exit_status: int | None, usual: int | None) -> tuple[Gap, ...]:
    """A run that ended in another way than the program usually does is no measure of it.

    >>> gaps_of_exit(1, 0)[0].text
    'it ended with exit status 1, which is usually 0'
    >>> gaps_of_exit(3, 3)
    ()
    """
    if usual is None or exit_status is None or exit_status < 0 or exit_status == usual:
        return ()
    return (Gap(FAILED, what=f"it ended with exit status {exit_status}, which is usually {usual}"),)


def usual_exit_status(rounds: Iterable[Iterable[int | None]]) -> int | None:
    """How a program usually ends: as most runs of its first round did; None where none ended by itself.

    >>> usual_exit_status([[0, 0, 1], [1, 1, 1, 1]])
    0
    """
    for statuses in rounds:
        own = [status for status in statuses if status is not None and status >= 0]
        if own:
            return min(set(own), key=lambda status: (-own.count(status), status))
    return None
