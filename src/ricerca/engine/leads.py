"""Leads: the few places of a reading that deserve a look, as facts: reason, evidence, ceiling. The words are the report's."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from ricerca.engine import layers
from ricerca.engine.comparison import Comparison
from ricerca.engine.cycles import Cycle
from ricerca.engine.forest import homes_of, not_nested
from ricerca.engine.layers import MINE
from ricerca.engine.lines import LineFigures
from ricerca.engine.neighbours import Edges, neighbours
from ricerca.engine.profile import KIND_THREAD, Profile, group_sums
from ricerca.engine.ranking import FunctionFigures, ceiling, ranked
from ricerca.engine.reading import charged_functions
from ricerca.engine.slices import Growth
from ricerca.engine.waits import held_up, waiting_by_class
from ricerca.model.languages import SHELLS
from ricerca.model.marks import KIND_CHILD, KIND_COLLECTION, KIND_IMPORT

BODY, OFTEN, SELDOM, GROWS, CYCLE = "body", "often", "seldom", "grows", "cycle"
WAITING, COLLECTION, IMPORTS, PROGRAMS, SLOWER, NEW, LITTLE = "waiting", "collection", "imports", "programs", "slower", "new", "little"
GROWTH = "growth"
"""How it grows with the size of the input: known only where a case was measured in several, so not found here."""
MOST, MOST_FUNCTIONS, WANTED = 7, 4, 3
CLEAR, LEAST = 0.05, 0.02
"""Shares of the whole: worth a card; worth one where there are few others."""
OFTEN_CALLS, OFTEN_NS, SELDOM_CALLS = 10_000, 50_000, 10
LEAST_SHARE = {WAITING: 0.10, COLLECTION: 0.04, IMPORTS: 0.15, PROGRAMS: 0.05, CYCLE: 0.10, SLOWER: 0.03}
HANDFUL = 8  # functions of a cycle that is worth telling: of more nobody can say where to look
CYCLE_CALLS = 1000
CHARGED_SHARE, LINE_SHARE, ALL_OF_IT = 0.25, 0.3, 0.8
LITTLE_CEILING = 1.1


# What a piece of evidence tells.
PER_CALL, EACH, RESUMED, FIRST_LAST, CALLER, CALLEE, LINE, MORE = (
    "per call", "calls", "resumed", "first and last", "caller", "callee", "line", "more than before")  # fmt: skip
WAITS_FOR, WAITS_IN, UNDER, SLOWEST, MODULES, MEMBERS, ENTRIES, BEFORE_AFTER, TEN = (
    "waits for", "waits in", "called under", "slowest", "modules", "members", "entries", "before and after", "ten slowest")  # fmt: skip
HELPED, REPEATED = "helpers", "started again"
HELPERS = frozenset("basename cat cut date dirname expr grep head seq sed tail tr uname wc which".split())  # noqa: SIM905
"""Short programs whose work a shell can do by itself in many cases."""
OFTEN_STARTED, MOST_HELPERS = 3, 4
SIZES, TEN_TIMES = "sizes", "ten times the data"


@dataclass(frozen=True)
class Evidence:
    """One fact behind a lead; only what its kind speaks of is set. Times in ns, shares from 0 to 1."""

    kind: str
    name: str = ""
    calls: int = 0
    time_ns: float = 0
    later_ns: float = 0
    share: float = 0.0
    line: int = 0
    parts: tuple[tuple[str, int], ...] = ()
    """Names with the time of each."""
    low: float = 0.0
    high: float = 0.0
    """Ends of an interval."""


@dataclass(frozen=True)
class Lead:
    """One place worth a look; times in ns.

    ``own_ns`` is what could be gained at most, ``inclusive_ns`` with what it calls; ``function`` is -1
    and ``line`` 0 where it is about none. Uncertain: the interval of its time is too wide to act on.
    """

    kind: str
    name: str
    """The function, or what is waited for most."""
    calls: int
    share: float
    """Of what is read."""
    evidence: tuple[Evidence, ...]
    own_ns: int
    inclusive_ns: int
    ceiling: float
    layer: str = MINE
    function: int = -1
    line: int = 0
    uncertain: bool = False
    with_others: bool = False
    """Whether time of code that it calls is counted in its own."""
    factor: float = 1.0
    """How many times as long a call takes at the end as at the start."""
    base_number: int = 0
    law: str = ""
    """Of growth: what it grows as, such as n^2."""
    of_calls: bool = False
    """Whether that is the law of its calls, which is exact, or that of its time."""


@dataclass(frozen=True)
class Charges:
    """Time that is charged, by the function it is charged to, the line there, and what was called from it."""

    caller: np.ndarray
    callee: np.ndarray
    line: np.ndarray
    calls: np.ndarray
    self_ns: np.ndarray


def charges(profile: Profile, away: np.ndarray) -> Charges:
    """Where charged time goes to; away says of each function whether it is charged."""
    roots = profile.parent < 0
    stays = ~away[profile.function] | roots
    home, top = homes_of(stays, profile.parent)
    gone = np.flatnonzero(~stays & ~roots[home])
    count, width = len(profile.functions), int(profile.line.max(initial=0)) + 1
    key = (profile.function[home[gone]] * count + profile.function[top[gone]]) * width + profile.line[top[gone]]
    keys, group = np.unique(key, return_inverse=True)
    pair, line = np.divmod(keys, width)
    caller, callee = np.divmod(pair, count)
    first = top[gone] == gone
    calls = group_sums(group[first], profile.calls[gone[first]], len(keys))
    return Charges(caller, callee, line, calls, group_sums(group, profile.self_ns[gone], len(keys)))


@dataclass(frozen=True)
class Scene:
    """All that leads are told from: what a reading shows, and the same part of the run with nothing charged away."""

    profile: Profile
    figures: FunctionFigures
    edges: Edges
    cycles: Sequence[Cycle]
    uncharged: Profile
    whole_ns: int
    lines: LineFigures | None = None
    growing: Mapping[int, Growth] = field(default_factory=dict)
    comparison: Comparison | None = None
    base_number: int = 0
    wall: bool = True
    """Whether waiting counts in what is read."""
    charged: tuple[str, ...] = ()
    """Names of the layers and functions whose time counts at their callers."""
    sure: np.ndarray | None = None
    """Which changes are more than chance, by row of the comparison; None: all are taken to be."""

    @cached_property
    def charges(self) -> Charges | None:
        """What was charged where; None where nothing is, or a row stands for several functions."""
        if not self.charged or self.uncharged.functions is not self.profile.functions:
            return None
        return charges(self.uncharged, charged_functions(self.uncharged, self.charged))

    @property
    def total_ns(self) -> int:
        """Time of what is read."""
        return max(self.profile.total_ns, 1)

    def lead(self, kind: str, own_ns: int, evidence: Sequence[Evidence | None], inclusive_ns: int = 0, function: int = -1,
             **more: Any) -> Lead:  # fmt: skip
        """A lead with its share and ceiling; of a function with its name and layer."""
        table = self.profile.functions
        more = {"name": table.name[function] if function >= 0 else "", "calls": 0,
                "layer": table.layer[function] if function >= 0 else MINE, **more}  # fmt: skip
        told = tuple(fact for fact in evidence if fact is not None)
        free = ceiling(own_ns, max(self.whole_ns, 1))
        return Lead(kind=kind, share=own_ns / self.total_ns, evidence=told, own_ns=own_ns, inclusive_ns=max(own_ns, inclusive_ns),
                    ceiling=free, function=function, **more)  # fmt: skip


def find_leads(scene: Scene) -> tuple[Lead, ...]:
    """The leads of a reading, those with most to gain first: three to seven, fewer where there is no evidence for more."""
    if scene.profile.total_ns <= 0:
        return ()
    slower, waiting = _slower(scene), _waiting(scene)
    wide = [one for find in (_collection, _imports, _programs, _cycle) if (one := find(scene)) is not None]
    found = _of_functions(scene, max(WANTED - len(wide) - (waiting is not None), 0))
    if any(lead.kind == IMPORTS for lead in wide):
        found = [lead for lead in found if not _only_imports(scene, lead)]
    found = wide + found
    if waiting is not None:
        found = _with_waiting(scene, found, waiting)
    if slower is not None:
        same = next((at for at, lead in enumerate(found) if lead.function == slower.function), -1)
        if same < 0:
            found.append(slower)
        else:
            more = Evidence(MORE, time_ns=slower.own_ns, calls=scene.base_number)
            found[same] = replace(found[same], evidence=(*found[same].evidence, more))
    found = sorted(found, key=lambda lead: -lead.own_ns)[:MOST]
    little = _little(scene, found)
    return (*found, little) if little is not None else tuple(found)


def _only_imports(scene: Scene, lead: Lead) -> bool:
    """Whether nearly all time of a function's own is that of its imports, which are told by themselves."""
    found = scene.charges
    if found is None:
        return False
    imports = np.asarray(scene.uncharged.functions.kind)[found.callee] == KIND_IMPORT
    return bool(found.self_ns[imports & (found.caller == lead.function)].sum() >= ALL_OF_IT * lead.own_ns)


def _with_waiting(scene: Scene, found: list[Lead], waiting: Lead) -> list[Lead]:
    """The waiting beside the other leads; a function that does nothing but wait is not told twice."""
    one = waiting.function
    if one < 0 or scene.figures.waiting_ns[one] < ALL_OF_IT * scene.figures.self_ns[one]:
        return [waiting, *found]
    same = [lead for lead in found if lead.function == one]
    more = tuple(fact for lead in same if lead.line for fact in lead.evidence if fact.line and fact.kind in (CALLEE, LINE))
    line = next((lead.line for lead in same if lead.line), 0)
    return [replace(waiting, evidence=waiting.evidence + more, line=line), *(lead for lead in found if lead.function != one)]


# ---- functions


def _of_functions(scene: Scene, wanted: int) -> list[Lead]:
    """The slowest bodies: those that are clear, and as many more as are wanted."""
    figures = scene.figures
    shares = figures.self_ns / scene.total_ns
    order = [
        int(function)
        for function in ranked(figures)
        if scene.profile.functions.kind[function] not in (KIND_IMPORT, KIND_COLLECTION, KIND_CHILD)
    ]
    chosen = [function for function in order[:MOST_FUNCTIONS] if shares[function] >= CLEAR]
    chosen += [function for function in order[len(chosen) : max(len(chosen), wanted)] if shares[function] >= LEAST]
    return [_of_function(scene, function) for function in chosen]


def _of_function(scene: Scene, function: int) -> Lead:
    figures = scene.figures
    calls, own, resumes = int(figures.calls[function]), int(figures.self_ns[function]), int(figures.resumes[function])
    per_call = own / max(calls, 1)
    caller, callee = _main_caller(scene, function), _main_callee(scene, function)
    place = callee or _main_line(scene, function)
    grown = scene.growing.get(function)
    groups = scene.uncharged.functions is not scene.profile.functions  # calls of a whole module tell nothing
    factor = 1.0
    if grown is not None:
        kind, factor = GROWS, grown.factor
        evidence = [Evidence(FIRST_LAST, calls=calls, time_ns=grown.first_ns, later_ns=grown.last_ns, share=own / scene.total_ns), place]
    elif calls >= OFTEN_CALLS and per_call < OFTEN_NS and not groups:
        kind, evidence = OFTEN, [Evidence(PER_CALL, time_ns=per_call), caller, place]
    elif 0 < calls <= SELDOM_CALLS and not groups:
        kind, evidence = SELDOM, [Evidence(PER_CALL, time_ns=per_call), place, caller]
    else:
        each = Evidence(EACH, calls=calls, time_ns=per_call) if calls else Evidence(RESUMED, calls=resumes) if resumes else None
        kind, evidence = BODY, [each, place, caller]
    return scene.lead(kind, own, evidence, int(figures.inclusive_ns[function]), function, calls=calls, line=place.line if place else 0,
                      uncertain=bool(figures.uncertain[function]), with_others=callee is not None, factor=factor)  # fmt: skip


def _main_caller(scene: Scene, function: int) -> Evidence | None:
    """Where most of its calls come from, where that is one place of several or one of note."""
    callers, _callees = neighbours(scene.edges, function)
    calls = int(scene.figures.calls[function])
    first = max(callers, key=lambda caller: caller.calls, default=None)
    if first is None or first.function < 0 or first.function == function or not calls or first.calls < calls / 2:
        return None
    line = first.lines[0] if len(first.lines) == 1 else 0
    return Evidence(CALLER, scene.profile.functions.name[first.function], calls=first.calls, share=first.calls / calls, line=line)


def _main_callee(scene: Scene, function: int) -> Evidence | None:
    """What of its charged time one callee brings from one line; None where that is little."""
    found = scene.charges
    if found is None:
        return None
    rows = np.flatnonzero(found.caller == function)
    best = int(rows[np.argmax(found.self_ns[rows])]) if len(rows) else -1
    if best < 0 or found.self_ns[best] < CHARGED_SHARE * int(scene.figures.self_ns[function]):
        return None
    name = scene.uncharged.functions.name[found.callee[best]]
    return Evidence(CALLEE, name, calls=int(found.calls[best]), time_ns=int(found.self_ns[best]), line=int(found.line[best]))


def _main_line(scene: Scene, function: int) -> Evidence | None:
    """The line of its body that took most of it, where lines were followed and one stands out."""
    lines = scene.lines
    if lines is None or scene.uncharged.functions is not scene.profile.functions:
        return None
    rows = np.flatnonzero((lines.function == function) & (lines.self_ns >= 0))
    if not len(rows):
        return None
    best, total = int(rows[np.argmax(lines.self_ns[rows])]), int(lines.self_ns[rows].sum())
    if not total or lines.self_ns[best] < LINE_SHARE * total:
        return None
    return Evidence(LINE, calls=int(lines.hits[best]), share=float(lines.self_ns[best] / total), line=int(lines.line[best]))


# ---- the program as a whole


def _of_kind(profile: Profile, kind: int) -> tuple[np.ndarray, int, int]:
    """Contexts of a kind that lie below no other of it, their inclusive time, and calls of all of the kind."""
    held = (np.asarray(profile.functions.kind) == kind)[profile.function]
    group = np.where(held, 0, np.arange(1, len(held) + 1))
    tops = np.flatnonzero(held & not_nested(group, profile.end)) if held.any() else np.zeros(0, np.int64)
    return tops, int(profile.inclusive_ns[tops].sum()), int(profile.calls[held].sum())


def _slowest(profile: Profile, rows: np.ndarray, most: int = 3) -> tuple[tuple[str, int], ...]:
    """The functions that most time of these contexts goes to, with it."""
    times = group_sums(profile.function[rows], profile.inclusive_ns[rows], len(profile.functions))
    order = [int(function) for function in np.argsort(-times, kind="stable")[:most] if times[function] > 0]
    return tuple((profile.functions.name[function], int(times[function])) for function in order)


def _callers(profile: Profile, rows: np.ndarray) -> Evidence | None:
    """The function most of these contexts' time lies under."""
    above = profile.parent[rows]
    rows, above = rows[above >= 0], above[above >= 0]
    times = group_sums(profile.function[above], profile.inclusive_ns[rows], len(profile.functions))
    times[np.asarray(profile.functions.kind) == KIND_THREAD] = 0
    function = int(np.argmax(times))
    return Evidence(UNDER, profile.functions.name[function], time_ns=int(times[function])) if times[function] else None


def _waiting(scene: Scene) -> Lead | None:
    """What the program waits for; not the time in which others on the machine held it up."""
    profile = scene.uncharged
    waits = np.where(held_up(profile)[profile.function], 0, profile.waiting_ns)
    total = int(waits.sum())
    if not scene.wall or total < LEAST_SHARE[WAITING] * scene.total_ns:
        return None
    by_class = waiting_by_class(replace(profile, waiting_ns=waits))
    order = sorted(by_class.items(), key=lambda item: -item[1])
    where, there_ns = _where_it_waits(scene, waits)
    place = Evidence(WAITS_IN, scene.profile.functions.name[where], time_ns=there_ns) if where >= 0 else None
    listed = Evidence(WAITS_FOR, parts=tuple((name, int(ns)) for name, ns in order[:3]))
    return scene.lead(WAITING, min(total, scene.total_ns), [listed, place], 0, where, name=order[0][0])


def _where_it_waits(scene: Scene, waits: np.ndarray) -> tuple[int, int]:
    """The function of what is read in which most of this waiting counts, and how much; -1 where rows stand for several."""
    profile = scene.uncharged
    if profile.functions is not scene.profile.functions:
        return -1, 0
    away = charged_functions(profile, scene.charged)[profile.function] & (profile.parent >= 0)
    home, _top = homes_of(~away, profile.parent)
    home = np.where(profile.parent[home] < 0, np.arange(len(home)), home)  # without a caller it counts where it is
    times = group_sums(profile.function[home], waits, len(profile.functions))
    where = int(np.argmax(times))
    return where, int(times[where])


def _of_items(scene: Scene, lead: str, kind: int, layer: str, tell: Callable[[np.ndarray, int], list[Evidence | None]]) -> Lead | None:
    """A lead about all items of a kind, where they take enough; ``tell`` gives its evidence by contexts and calls."""
    rows, time, calls = _of_kind(scene.uncharged, kind)
    if time < LEAST_SHARE[lead] * scene.total_ns:
        return None
    return scene.lead(lead, time, tell(rows, calls), calls=calls, layer=layer)


def _collection(scene: Scene) -> Lead | None:
    return _of_items(scene, COLLECTION, KIND_COLLECTION, layers.COLLECTION, lambda rows, _calls: [_callers(scene.uncharged, rows)])


def _imports(scene: Scene) -> Lead | None:
    def tell(rows: np.ndarray, calls: int) -> list[Evidence | None]:
        return [Evidence(MODULES, calls=calls, parts=_slowest(scene.uncharged, rows))]

    return _of_items(scene, IMPORTS, KIND_IMPORT, layers.IMPORTS, tell)


def _programs(scene: Scene) -> Lead | None:
    def tell(rows: np.ndarray, _calls: int) -> list[Evidence | None]:
        profile = scene.uncharged
        slowest = Evidence(SLOWEST, parts=_slowest(profile, rows))
        return [slowest, _callers(profile, rows), _helpers(profile, rows), _repeated(profile)]

    return _of_items(scene, PROGRAMS, KIND_CHILD, layers.PROGRAMS, tell)


def _helpers(profile: Profile, rows: np.ndarray) -> Evidence | None:
    """Short programs that a shell starts often, although it can do by itself what they do."""
    table = profile.functions
    counts: dict[str, int] = {}
    passed = 0
    for row in rows.tolist():
        name, caller = table.name[profile.function[row]], int(profile.function[profile.parent[row]])
        if name in HELPERS and table.language_of(caller) in SHELLS:
            counts[name] = counts.get(name, 0) + int(profile.calls[row])
            passed += int(profile.self_ns[row])
    parts = tuple(
        sorted(((name, count) for name, count in counts.items() if count >= OFTEN_STARTED), key=lambda part: -part[1])[:MOST_HELPERS]
    )
    return Evidence(HELPED, calls=sum(count for _name, count in parts), time_ns=passed, parts=parts) if parts else None


def _repeated(profile: Profile) -> Evidence | None:
    """The command of a shell that was run most often again with the very same arguments."""
    again = max((command for command in profile.facts.commands if command[1] > 1), key=lambda command: command[2], default=None)
    return Evidence(REPEATED, name=again[0], calls=again[1], time_ns=again[2]) if again is not None else None


def _cycle(scene: Scene) -> Lead | None:
    cycle = next((cycle for cycle in scene.cycles if len(cycle.members) <= HANDFUL), None)
    if cycle is None or cycle.self_ns < LEAST_SHARE[CYCLE] * scene.total_ns or cycle.inner_calls < CYCLE_CALLS:
        return None
    members = cycle.slowest_first(scene.figures.self_ns)
    parts = tuple((scene.profile.functions.name[member], int(scene.figures.self_ns[member])) for member in members)
    evidence = [Evidence(MEMBERS, parts=parts), Evidence(ENTRIES, calls=cycle.entries)]
    return scene.lead(CYCLE, cycle.self_ns, evidence, cycle.inclusive_ns, members[0], calls=cycle.inner_calls)


def _slower(scene: Scene) -> Lead | None:
    found = scene.comparison
    if found is None or not len(found.matches):
        return None
    lost = -found.gain_ns if scene.sure is None else np.where(scene.sure, -found.gain_ns, 0)
    row = int(np.argmax(lost))
    match, (before, after) = found.matches[row], found.self_ns[row].tolist()
    if match.new < 0 or lost[row] < LEAST_SHARE[SLOWER] * scene.total_ns:
        return None
    calls = found.calls[row].tolist()
    evidence = [Evidence(BEFORE_AFTER, time_ns=before, later_ns=after, parts=(("before", calls[0]), ("now", calls[1])))]
    inclusive = int(scene.figures.inclusive_ns[match.new])
    return scene.lead(SLOWER if before else NEW, int(lost[row]), evidence, inclusive, match.new, base_number=scene.base_number)


def _little(scene: Scene, found: Sequence[Lead]) -> Lead | None:
    """That no single place promises much, where that is so."""
    if any(lead.ceiling >= LITTLE_CEILING for lead in found):
        return None
    times = np.sort(scene.figures.self_ns[scene.figures.shown])[::-1]
    if not len(times) or not times[0]:
        return None
    ten = Evidence(TEN, share=int(times[:10].sum()) / scene.total_ns)
    return scene.lead(LITTLE, int(times[0]), [ten], 0, int(ranked(scene.figures)[0]))
