"""The reading: what is looked at, as one value that every figure follows."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ricerca.engine.elapsed import with_elapsed
from ricerca.engine.forest import homes_of
from ricerca.engine.layers import IMPORTS, LAYERS, MINE
from ricerca.engine.levels import FUNCTION, LEVELS, at_level
from ricerca.engine.profile import KIND_BUILTIN, KIND_PYTHON, Profile, retimed
from ricerca.engine.reducing import below, keep, sheltered
from ricerca.engine.slices import in_stretch
from ricerca.model.errors import InputError

WALL, ON_CPU, WAITING, ELAPSED = "wall", "on-CPU", "waiting", "elapsed"
CLOCKS = (WALL, ON_CPU, WAITING, ELAPSED)
ALL_OTHERS = "*"
STEP = " > "


@dataclass(frozen=True)
class Reading:
    """All choices of what is looked at.

    ``round`` and ``against`` are numbers of rounds, None where the sentence does not name them; ``case`` and ``size`` say what of
    them is looked at. Which profile is read is for the caller to choose by them.
    ``inside`` and ``without`` name functions, wherever they occur, or one chain of callers joined
    by " > ". ``charged`` names layers and functions whose time counts at their nearest caller
    outside them; "*" stands for every layer that is found by itself but "mine". ``stretch`` is a range of slices.
    """

    round: int | None = None
    against: int | None = None
    case: str = ""
    size: str = ""
    clock: str = WALL
    raw: bool = False
    threads: tuple[str, ...] = ()
    processes: tuple[int, ...] = ()
    inside: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    stretch: tuple[int, int] | None = None
    charged: tuple[str, ...] = ()
    level: str = FUNCTION
    machinery: bool = True
    """Whether the interpreter's machinery of imports is shown; else it is folded into the imports."""

    @property
    def text(self) -> str:
        """The reading as one sentence, which ``parse`` understands."""
        parts = [f"round {self.round}"] if self.round is not None else []
        parts += [f"against round {self.against}"] if self.against is not None else []
        parts += [f"case {self.case}"] if self.case else []
        parts += [f"size {self.size}"] if self.size else []
        parts += [f"{self.clock} time"] if self.clock != WALL else []
        parts += ["raw"] if self.raw else []
        parts += [f"thread {name}" for name in self.threads]
        parts += [f"process {number}" for number in self.processes]
        parts += [f"inside {name}" for name in self.inside]
        parts += [f"without {name}" for name in self.without]
        parts += [f"slices {self.stretch[0]} to {self.stretch[1]}"] if self.stretch else []
        parts += ["charged to my code" if name == ALL_OTHERS else f"charging {name}" for name in self.charged]
        parts += [f"by {self.level}"] if self.level != FUNCTION else []
        parts += [] if self.machinery else ["imports folded"]
        return "; ".join(parts) or "everything"

    @property
    def of_another_run(self) -> Reading:
        """The same for another run, where a stretch of this one's time (see ``counterpart``) and its process numbers mean nothing."""
        return replace(self, stretch=None, processes=())

    @property
    def of_any_round(self) -> Reading:
        """The same without saying which rounds, and which part of them."""
        return replace(self, round=None, against=None, case="", size="")


EVERYTHING = Reading()
_SLICES = re.compile(r"slices (\d+) to (\d+)")
_ROUND = re.compile(r"(against )?round (\d+)")


def parse(text: str) -> Reading:
    """A reading from its sentence.

    Raises
    ------
    InputError
        A part of it is not understood.

    >>> parse("round 3; on-CPU time; inside fit; charged to my code").text
    'round 3; on-CPU time; inside fit; charged to my code'
    """
    found = Reading()
    for part in filter(None, (part.strip() for part in text.split(";"))):
        found = _with_part(found, part)
    return found


def _with_part(found: Reading, part: str) -> Reading:
    word, _, rest = part.partition(" ")
    rest = rest.strip()
    slices = _SLICES.fullmatch(part)
    if part.removesuffix(" time") in CLOCKS:
        return replace(found, clock=part.removesuffix(" time"))
    of_round = _ROUND.fullmatch(part)
    if of_round:
        return replace(found, against=int(of_round[2])) if of_round[1] else replace(found, round=int(of_round[2]))
    if slices:
        return replace(found, stretch=(int(slices[1]), int(slices[2])))
    if part in ("everything", "raw"):
        return found if part == "everything" else replace(found, raw=True)
    if part == "charged to my code":
        return replace(found, charged=(*found.charged, ALL_OTHERS))
    if part == "imports folded":
        return replace(found, machinery=False)
    if word == "by" and rest in LEVELS:
        return replace(found, level=rest)
    if word in ("case", "size") and rest:
        return replace(found, case=rest) if word == "case" else replace(found, size=rest)
    if word == "process" and rest.isdigit():
        return replace(found, processes=(*found.processes, int(rest)))
    field = {"thread": "threads", "inside": "inside", "without": "without", "charging": "charged"}.get(word)
    if field is None or not rest:
        raise InputError(
            f"This part of the reading is not understood: {part!r}.", 'Say for instance: "inside fit; on-CPU time; by module".'
        )
    change: dict[str, Any] = {field: (*getattr(found, field), rest)}
    return replace(found, **change)


def named(profile: Profile, name: str) -> np.ndarray:
    """Which functions go by this name: qualified, with or without its module in front; else all of a module or package of this name.

    Returns
    -------
    (functions,) bool array
    """
    table = profile.functions
    found = np.asarray([own == name or f"{module}.{own}" == name for own, module in zip(table.name, table.module, strict=True)], bool)
    if found.any() or not name:
        return found
    inside = f"{name}."
    return np.asarray([module == name or module.startswith(inside) for module in table.module], bool)


def unknown_names(profile: Profile, reading: Reading) -> tuple[str, ...]:
    """Names of functions, layers and threads in the reading that the run does not have."""
    layers = {ALL_OTHERS, *LAYERS, *profile.functions.layer}
    chains = [name.strip() for chain in (*reading.inside, *reading.without) for name in chain.split(STEP)]
    functions = [*chains, *(name for name in reading.charged if name not in layers)]
    missing = [name for name in functions if not named(profile, name).any()]
    missing += [name for name in reading.threads if name not in profile.thread_name]
    return (*missing, *(str(number) for number in reading.processes if number not in profile.thread_process))


def contexts_of(profile: Profile, chain: str, there: np.ndarray | None = None, caller: np.ndarray | None = None) -> np.ndarray:
    """The contexts of a function, or of the last function of a chain of callers; (n,) bool array.

    Parameters
    ----------
    profile : Profile
    chain : str
    there : (n,) bool array, optional
        The contexts that are looked at; all when left out.
    caller : (n,) int array, optional
        The nearest caller whose time is not charged to another: a chain of such callers is meant as well.
    """
    found: np.ndarray | None = None
    for name in chain.split(STEP):
        here = named(profile, name.strip())[profile.function]
        if there is not None:
            here &= there
        if found is not None:
            called = found[profile.parent] if caller is None else found[profile.parent] | found[caller]
            here &= (profile.parent >= 0) & called
        found = here
    return found if found is not None else np.zeros(len(profile), bool)


def _timed(profile: Profile, reading: Reading) -> Profile:
    if reading.raw:
        profile = retimed(profile, self_ns=profile.raw_self_ns)
    if reading.clock in (WALL, ELAPSED):
        return profile
    waiting = np.minimum(profile.waiting_ns, profile.self_ns)
    return retimed(profile, self_ns=waiting if reading.clock == WAITING else profile.self_ns - waiting)


def _machinery(profile: Profile, there: np.ndarray | None) -> np.ndarray:
    """The contexts of the machinery of imports, and of the builtins it calls, of what is there."""
    table = profile.functions
    kind = np.asarray(table.kind)
    importing = (np.asarray(table.layer) == IMPORTS) & (kind == KIND_PYTHON)
    if not importing.any():
        return np.zeros(len(profile), bool)
    found = importing[profile.function]
    if there is not None:
        found &= there
    called = (kind[profile.function] == KIND_BUILTIN) & (profile.parent >= 0)
    return found | (called & found[profile.parent])


def charged_functions(profile: Profile, names: tuple[str, ...]) -> np.ndarray:
    """Which functions the names of layers and functions mean; (functions,) bool array."""
    layer = np.asarray(profile.functions.layer)
    found = np.zeros(len(layer), bool)
    for name in names:
        found |= np.isin(layer, LAYERS) & (layer != MINE) if name == ALL_OTHERS else (layer == name) | named(profile, name)
    return found


def _asked_for(profile: Profile, reading: Reading) -> np.ndarray | None:
    """Which contexts the clauses inside and without leave, None for all."""
    there: np.ndarray | None = None
    caller: np.ndarray | None = None
    if any(STEP in chain for chain in (*reading.inside, *reading.without)) and (reading.charged or not reading.machinery):
        home, _top = homes_of(_stays(profile, reading, None), profile.parent)
        caller = np.where(profile.parent >= 0, home[profile.parent], 0)
    for chain in reading.inside:
        tops = below(profile, np.flatnonzero(contexts_of(profile, chain, there, caller)))
        there = tops if there is None else there & tops
    for chain in reading.without:
        rest = ~below(profile, np.flatnonzero(contexts_of(profile, chain, there, caller)))
        there = rest if there is None else there & rest
    return there


def _stays(profile: Profile, reading: Reading, there: np.ndarray | None) -> np.ndarray:
    """Which contexts stay, of what is there, when the machinery of imports is folded and others' time is charged.

    The machinery goes to the nearest caller outside of it, then what is charged to the nearest one
    outside of that. What has no such caller stays.
    """
    called = profile.parent >= 0
    around = np.ones(len(called), bool) if there is None else there | ~called
    away = np.take(charged_functions(profile, reading.charged), profile.function)
    away &= around & called
    folded = np.zeros(len(called), bool)
    machinery = folded if reading.machinery else _machinery(profile, there) & around & called
    if machinery.any():
        folded = machinery & sheltered(profile, around & ~machinery & called)
        away |= folded
    stays = around & ~away
    # What is folded into something without a home goes there, and that stays.
    return stays | (away & ~folded & ~sheltered(profile, stays & called))


def read(profile: Profile, reading: Reading) -> Profile:
    """The part of a profile, and the view of it, that a reading asks for.

    The result is a profile again, so rankings, lines, edges, trees and comparisons apply to it alike.
    """
    found = with_elapsed(profile) if reading.clock == ELAPSED else profile
    elsewhere = found is not profile  # time is shared out anew
    if reading.stretch is not None:
        found = in_stretch(found, *reading.stretch)
    found = _timed(found, reading)
    if reading.threads or reading.processes:
        found = _of_threads(found, reading)
    there = _asked_for(found, reading)
    doubts = profile.doubts
    if elsewhere or reading.raw or reading.stretch is not None or reading.clock not in (WALL, ELAPSED) or len(found) != len(profile):
        doubts = None
    if reading.charged or not reading.machinery:
        whole_functions = reading.machinery and not reading.inside
        stays = _stays(found, reading, there)
        doubts = doubts.of(stays, there) if doubts is not None else None
        found = keep(found, stays, charged=True, there=there, same_nesting=whole_functions)
    elif there is not None:
        doubts = doubts.of(None, there) if doubts is not None else None
        found = keep(found, there, charged=False, same_nesting=not reading.inside)
    if reading.inside:
        found = without_root_time(found)
    found = found if found.doubts is doubts else replace(found, doubts=doubts)
    return at_level(found, reading.level)


def without_root_time(profile: Profile) -> Profile:
    """The thread roots hold what passes outside the program; a part of a run has none of it."""
    roots = profile.parent < 0
    if not profile.self_ns[roots].any() and not profile.raw_self_ns[roots].any():
        return profile
    return retimed(profile, self_ns=np.where(roots, 0, profile.self_ns), raw_self_ns=np.where(roots, 0, profile.raw_self_ns))


def _of_threads(profile: Profile, reading: Reading) -> Profile:
    chosen = np.asarray(
        [
            (not reading.threads or name in reading.threads) and (not reading.processes or int(process) in reading.processes)
            for name, process in zip(profile.thread_name, profile.thread_process, strict=True)
        ],
        bool,
    )
    rows = chosen[profile.thread]
    zeros: dict[str, Any] = {name: np.where(rows, getattr(profile, name), 0) for name in ("self_ns", "raw_self_ns", "waiting_ns")}
    return keep(replace(profile, **zeros), rows, charged=False)
