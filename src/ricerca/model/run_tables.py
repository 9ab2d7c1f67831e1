"""A run as plain arrays: what a study keeps and the engine reads, free of files and ticks."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ricerca.model.languages import PYTHON
from ricerca.model.marks import FLAG_PUBLIC_ONLY, FLAG_SLICES_FULL, FLAG_SPANS_FULL, FLAG_TIMED_ONLY

if TYPE_CHECKING:  # recording a program must not wait for NumPy to load
    import numpy as np


def _no_rows() -> np.ndarray:
    import numpy as np

    return np.zeros(0, np.int64)


@dataclass(frozen=True)
class RunFacts:
    """What is known of a run as a whole.

    Costs are the recorder's own, in ns per event: *inside* falls on the callee, *outside* on its
    caller; a callback is Python code that a builtin calls. ``bytecode_factor`` is how much slower
    bytecode itself runs while it is recorded, ``names_factor`` the same for the bodies of modules.
    ``lookup_factor`` is that of a loop with ``lookup_share`` per mille of look-ups.
    *work* is the time the hook takes at an entry: during calibration, and as often as it was watched
    while the program ran. It tells how fast the machine was then.
    ``parent_pid`` is the process that started this one as another program; 0 where it was forked.
    ``setup_ns`` is what it took to begin recording; the program had not begun then.
    ``commands`` are programs that a shell started: the command as it stood, how often, ns together, how often it failed.
    ``binaries`` are the compiled programs and libraries whose functions were told.
    Slices are ``slice_ns`` long; calls of at least ``span_ns`` have a span.
    *unseen* parts could not be followed; ``strange_stacks`` counts how often a stack did not show what ran, as with green
    threads: the calls are exact, some time may be booked on another function.
    """

    python: str = ""
    hook: str = "profile"
    pid: int = 0
    parent_pid: int = 0
    setup_ns: int = 0
    start_unix_ns: int = 0
    duration_ns: int = 0
    flags: int = 0
    closed: bool = True
    inside: str = ""
    python_inside_ns: float = 0.0
    python_outside_ns: float = 0.0
    callback_inside_ns: float = 0.0
    callback_outside_ns: float = 0.0
    builtin_inside_ns: float = 0.0
    builtin_outside_ns: float = 0.0
    bytecode_factor: float = 1.0
    names_factor: float = 1.0
    lookup_factor: float = 1.0
    lookup_share: float = 0.0
    python_work_ns: float = 0.0
    builtin_work_ns: float = 0.0
    python_watched: int = 0
    python_watched_ns: int = 0
    builtin_watched: int = 0
    builtin_watched_ns: int = 0
    slice_ns: float = 0.0
    span_ns: float = 0.0
    unseen_threads: int = 0
    unseen_interpreters: int = 0
    taken_hooks: int = 0
    strange_stacks: int = 0
    unwatched_call_ns: float = 0.0
    unwatched_deep_ns: float = 0.0
    unwatched_resume_ns: float = 0.0
    deep_calls: int = 0
    language: str = PYTHON
    commands: tuple[tuple[str, int, int, int], ...] = ()
    binaries: tuple[str, ...] = ()

    @property
    def public_only(self) -> bool:
        """Whether the interpreter was newer than the tested ones, so that only its public interfaces were used."""
        return bool(self.flags & FLAG_PUBLIC_ONLY)

    @property
    def timed_only(self) -> bool:
        """Whether only calls of chosen functions were timed."""
        return bool(self.flags & FLAG_TIMED_ONLY)

    @property
    def not_by_time(self) -> str:
        """What is not known by time, in words; empty where all is.

        >>> RunFacts(flags=FLAG_SPANS_FULL).not_by_time
        'only the first long calls are known one by one'
        """
        found = ["only the first part of the run is known by time"] if self.flags & FLAG_SLICES_FULL else []
        found += ["only the first long calls are known one by one"] if self.flags & FLAG_SPANS_FULL else []
        return "; ".join(found)

    @property
    def calls_not_shown(self) -> tuple[str, ...]:
        """Kinds of calls that the interpreter did not tell of; their time counts to their callers.

        >>> RunFacts(python="3.13.0").calls_not_shown
        ()
        """
        version = tuple(int(part) for part in self.python.split(".")[:2] if part.isdigit())
        if not version or version >= (3, 12):
            return ()
        return ("classes", "partial objects", "ufuncs", "functions of extension languages", "slot wrappers")

    @property
    def python_slowness(self) -> float:
        """How many times as slow a call of a Python function was as in calibration, told by the hook's own work at its entry.

        1 where it was hardly watched.
        """
        return _slowness(self.python_work_ns, self.python_watched, self.python_watched_ns)

    @property
    def builtin_slowness(self) -> float:
        """The same of a builtin's call."""
        return _slowness(self.builtin_work_ns, self.builtin_watched, self.builtin_watched_ns)


LEAST_WATCHED, MOST_SLOWNESS = 100, 2.0
# A core that is shared slows an interpreter's work, but hardly a reading of the clock, which is half of
# the hook's own. Measured on 3.12 and 3.13 while neighbours came and went: a call 1.8 times as slow goes
# with work that takes 1.35 times as long, in between and the other way round likewise.
FELT = 0.5


def _slowness(work_ns: float, times: int, watched_ns: int) -> float:
    if times < LEAST_WATCHED or work_ns <= 0:
        return 1.0
    ratio = watched_ns / times / work_ns
    slower = 1 + (max(ratio, 1 / max(ratio, 1e-9)) - 1) / FELT
    return min(slower, MOST_SLOWNESS) ** (1 if ratio >= 1 else -1)


@dataclass(frozen=True)
class RunTables:
    """The tables of one run. Contexts are in the order they were made: parent < own index.

    ``parent`` is -1 for the root context of each thread. Times are int64 nanoseconds, raw;
    ``brief_ns`` is the part of ``self_ns`` that came in gaps of a few microseconds between two events.

    ``function_lookups``: per mille of the instructions in a function's loops that look names up.
    ``function_light``: per mille of its long gaps that is bytecode, -1 where nobody looked. Both may be
    empty; they matter for Python 3.11 only. ``function_nesting`` tells functions of one name on one line apart until their
    qualified names are known, and may be empty afterwards. ``function_language`` is empty where all are Python's.

    ``cost_ns`` is the part of ``self_ns`` that the recorder itself took, where its source knows that event by event, and may be empty.

    ``slice_*``: one entry for each context and slice of time in which something happened to it, with the
    calls and times that fell into the slice; over all slices they sum to the context's own.
    ``span_*``: single calls that took long, in ns from the start of the run.
    """

    function_kind: np.ndarray
    function_name: tuple[str, ...]
    function_module: tuple[str, ...]
    function_file: tuple[str, ...]
    function_line: np.ndarray
    overflow_calls: np.ndarray
    overflow_resumes: np.ndarray
    parent: np.ndarray
    function: np.ndarray
    line: np.ndarray
    calls: np.ndarray
    resumes: np.ndarray
    self_ns: np.ndarray
    brief_ns: np.ndarray
    waiting_ns: np.ndarray
    thread: np.ndarray
    thread_name: tuple[str, ...]
    thread_process: np.ndarray
    line_function: np.ndarray
    line_number: np.ndarray
    line_hits: np.ndarray
    line_self_ns: np.ndarray
    facts: RunFacts = field(default_factory=RunFacts)
    function_lookups: np.ndarray = field(default_factory=_no_rows)
    function_light: np.ndarray = field(default_factory=_no_rows)
    function_nesting: np.ndarray = field(default_factory=_no_rows)
    slice_context: np.ndarray = field(default_factory=_no_rows)
    slice_number: np.ndarray = field(default_factory=_no_rows)
    slice_calls: np.ndarray = field(default_factory=_no_rows)
    slice_self_ns: np.ndarray = field(default_factory=_no_rows)
    slice_waiting_ns: np.ndarray = field(default_factory=_no_rows)
    span_context: np.ndarray = field(default_factory=_no_rows)
    span_start_ns: np.ndarray = field(default_factory=_no_rows)
    span_end_ns: np.ndarray = field(default_factory=_no_rows)
    function_language: tuple[str, ...] = ()
    cost_ns: np.ndarray = field(default_factory=_no_rows)

    @property
    def languages(self) -> tuple[str, ...]:
        """Language of each function."""
        return self.function_language or (PYTHON,) * len(self.function_name)

    @property
    def known_cost_ns(self) -> np.ndarray:
        """``cost_ns`` of each context, 0 where it is not known event by event."""
        return self.cost_ns if len(self.cost_ns) else self.self_ns * 0
