"""Leads: the few places of a reading that deserve a look, each with its reason, its evidence and its ceiling."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

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
from ricerca.model.marks import KIND_CHILD, KIND_COLLECTION, KIND_IMPORT
from ricerca.wording import count_text, cycle_name, factor_text, plural, share_text, short_name, time_text

BODY, OFTEN, SELDOM, GROWS, CYCLE = "body", "often", "seldom", "grows", "cycle"
WAITING, COLLECTION, IMPORTS, PROGRAMS, SLOWER, LITTLE = "waiting", "collection", "imports", "programs", "slower", "little"
MOST, MOST_FUNCTIONS, WANTED = 7, 4, 3
CLEAR, LEAST = 0.05, 0.02
"""Shares of the whole: worth a card; worth one where there are few others."""
OFTEN_CALLS, OFTEN_NS, SELDOM_CALLS = 10_000, 50_000, 10
LEAST_SHARE = {WAITING: 0.10, COLLECTION: 0.04, IMPORTS: 0.15, PROGRAMS: 0.05, CYCLE: 0.10, SLOWER: 0.03}
HANDFUL = 8  # functions of a cycle that is worth telling: of more nobody can say where to look
RING_CALLS = 1000
CHARGED_SHARE, LINE_SHARE, ALL_OF_IT = 0.25, 0.3, 0.8
LITTLE_CEILING = 1.1


@dataclass(frozen=True)
class Lead:
    """One place worth a look; times in ns.

    ``own_ns`` is what could be gained at most, ``inclusive_ns`` what it stands in; ``function`` is -1
    and ``line`` 0 where it is about none. Uncertain: more than half of what was measured was the
    recorder's own cost.
    """

    kind: str
    sentence: str
    evidence: tuple[str, ...]
    own_ns: int
    inclusive_ns: int
    ceiling: float
    layer: str = MINE
    function: int = -1
    line: int = 0
    uncertain: bool = False


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
    part: str = "the run"
    """What is read, in words."""
    sure: np.ndarray | None = None
    """Which changes are more than chance, by row of the comparison; None: all are taken to be."""

    @cached_property
    def charges(self) -> Charges | None:
        """What was charged to whom; None where nothing is, or a row stands for several functions."""
        if not self.charged or self.uncharged.functions is not self.profile.functions:
            return None
        return charges(self.uncharged, charged_functions(self.uncharged, self.charged))

    @property
    def total_ns(self) -> int:
        """Time of what is read."""
        return max(self.profile.total_ns, 1)

    def share(self, ns: int) -> str:
        """A share of what is read in words."""
        return f"{share_text(ns / self.total_ns)} of {self.part}"

    def lead(self, kind: str, sentence: str, evidence: Sequence[str], own_ns: int, inclusive_ns: int = 0, function: int = -1,
             line: int = 0, layer: str = "") -> Lead:  # fmt: skip
        """A lead with its ceiling."""
        layer = layer or (self.profile.functions.layer[function] if function >= 0 else MINE)
        free = ceiling(own_ns, max(self.whole_ns, 1))
        return Lead(kind, sentence, tuple(filter(None, evidence)), own_ns, max(own_ns, inclusive_ns), free, layer, function, line)


def find_leads(scene: Scene) -> tuple[Lead, ...]:
    """The leads of a reading, those with most to gain first: three to seven, fewer where there is no evidence for more."""
    if scene.profile.total_ns <= 0:
        return ()
    slower, waiting = _slower(scene), _waiting(scene)
    wide = [one for find in (_collection, _imports, _programs, _cycle) if (one := find(scene)) is not None]
    found = _of_functions(scene, max(WANTED - len(wide) - (waiting is not None), 0))
    if any(one.kind == IMPORTS for one in wide):
        found = [one for one in found if not _only_imports(scene, one)]
    found = wide + found
    if waiting is not None:
        found = _with_waiting(scene, found, waiting)
    if slower is not None:
        same = next((at for at, one in enumerate(found) if one.function == slower.function), -1)
        if same < 0:
            found.append(slower)
        else:
            found[same] = replace(found[same], evidence=(*found[same].evidence, _more(scene, slower.own_ns)))
    found = sorted(found, key=lambda one: -one.own_ns)[:MOST]
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
    more = tuple(text for lead in same if lead.line for text in lead.evidence if text.startswith("line "))
    line = next((lead.line for lead in same if lead.line), 0)
    return [replace(waiting, evidence=waiting.evidence + more, line=line), *(lead for lead in found if lead.function != one)]


# ---- functions


def _of_functions(scene: Scene, wanted: int) -> list[Lead]:
    """The dearest bodies: those that are clear, and as many more as are wanted."""
    figures = scene.figures
    shares = figures.self_ns / scene.total_ns
    order = [int(one) for one in ranked(figures) if scene.profile.functions.kind[one] not in (KIND_IMPORT, KIND_COLLECTION, KIND_CHILD)]
    chosen = [one for one in order[:MOST_FUNCTIONS] if shares[one] >= CLEAR]
    chosen += [one for one in order[len(chosen) : max(len(chosen), wanted)] if shares[one] >= LEAST]
    return [_of_function(scene, one) for one in chosen]


def _of_function(scene: Scene, one: int) -> Lead:
    figures = scene.figures
    name = short_name(scene.profile.functions.name[one], 40)
    calls, own = int(figures.calls[one]), int(figures.self_ns[one])
    per_call = own / max(calls, 1)
    share = scene.share(own)
    caller, (callee, line) = _main_caller(scene, one), _main_callee(scene, one)
    itself = f"{name} itself" + (" and the other code it calls" if callee else "")
    if not callee:
        callee, line = _main_line(scene, one)
    grown = scene.growing.get(one)
    if grown is not None:
        said = f"A call of {name} costs {factor_text(grown.factor)} as much in the end as at first."
        evidence = [f"from {time_text(grown.first_ns)} to {time_text(grown.last_ns)} a call; {plural(calls, 'call')}, {share}", callee]
        kind = GROWS
    elif calls >= OFTEN_CALLS and per_call < OFTEN_NS:
        said = f"{name} is called {plural(calls, 'time')}; that adds up to {share}."
        evidence, kind = [f"{time_text(per_call)} a call", caller, callee], OFTEN
    elif 0 < calls <= SELDOM_CALLS:
        said = f"{plural(calls, 'call')} of {name} {'takes' if calls == 1 else 'take'} {share}."
        evidence, kind = [f"{time_text(per_call)} a call in {itself}", callee, caller], SELDOM
    else:
        said = f"{share[0].upper()}{share[1:]} passes in {itself}."
        resumes = int(figures.resumes[one])
        each = (
            f"{plural(calls, 'call')} of {time_text(per_call)}" if calls else f"gone on with {plural(resumes, 'time')}" if resumes else ""
        )
        evidence, kind = [each, callee, caller], BODY
    found = scene.lead(kind, said, evidence, own, int(figures.inclusive_ns[one]), one, line)
    return replace(found, uncertain=bool(figures.uncertain[one]))


def _main_caller(scene: Scene, one: int) -> str:
    """Where most of its calls come from, where that is one place of several or one of note."""
    callers, _callees = neighbours(scene.edges, one)
    calls = int(scene.figures.calls[one])
    first = max(callers, key=lambda caller: caller.calls, default=None)
    if first is None or first.function < 0 or first.function == one or not calls:
        return ""
    name = short_name(scene.profile.functions.name[first.function], 32)
    share = first.calls / calls
    line = f", line {first.lines[0]}" if len(first.lines) == 1 and first.lines[0] else ""
    if share >= 0.995:
        return f"{'all' if share == 1 else 'nearly all'} from {name}{line}"
    return f"{share_text(share)} of the calls from {name}{line}" if share >= 0.5 else ""


def _main_callee(scene: Scene, one: int) -> tuple[str, int]:
    """What of its charged time one callee brings from one line: words, line; nothing where that is little."""
    found = scene.charges
    if found is None:
        return "", 0
    rows = np.flatnonzero(found.caller == one)
    best = int(rows[np.argmax(found.self_ns[rows])]) if len(rows) else -1
    if best < 0 or found.self_ns[best] < CHARGED_SHARE * int(scene.figures.self_ns[one]):
        return "", 0
    line, calls = int(found.line[best]), plural(int(found.calls[best]), "call")
    name = short_name(scene.uncharged.functions.name[found.callee[best]], 32)
    return f"line {line}: {calls} of {name}, {time_text(int(found.self_ns[best]))}", line


def _main_line(scene: Scene, one: int) -> tuple[str, int]:
    """The line of its body that took most of it, where lines were followed and one stands out: words, line."""
    lines = scene.lines
    if lines is None or scene.uncharged.functions is not scene.profile.functions:
        return "", 0
    rows = np.flatnonzero((lines.function == one) & (lines.self_ns >= 0))
    if not len(rows):
        return "", 0
    best, total = int(rows[np.argmax(lines.self_ns[rows])]), int(lines.self_ns[rows].sum())
    if not total or lines.self_ns[best] < LINE_SHARE * total:
        return "", 0
    line = int(lines.line[best])
    return f"line {line}: {share_text(lines.self_ns[best] / total)} of its own time, reached {plural(int(lines.hits[best]), 'time')}", line


# ---- the program as a whole


def _of_kind(profile: Profile, kind: int) -> tuple[np.ndarray, int, int]:
    """Contexts of a kind that lie below no other of it, their inclusive time, and calls of all of the kind."""
    held = (np.asarray(profile.functions.kind) == kind)[profile.function]
    group = np.where(held, 0, np.arange(1, len(held) + 1))
    tops = np.flatnonzero(held & not_nested(group, profile.end)) if held.any() else np.zeros(0, np.int64)
    return tops, int(profile.inclusive_ns[tops].sum()), int(profile.calls[held].sum())


def _dearest(profile: Profile, rows: np.ndarray, most: int = 3) -> str:
    """The functions that most time of these contexts goes to, with it."""
    times = group_sums(profile.function[rows], profile.inclusive_ns[rows], len(profile.functions))
    order = [int(one) for one in np.argsort(-times, kind="stable")[:most] if times[one] > 0]
    return ", ".join(f"{short_name(profile.functions.name[one], 28)} {time_text(int(times[one]))}" for one in order)


def _callers(profile: Profile, rows: np.ndarray) -> str:
    """The function most of these contexts' time lies under."""
    above = profile.parent[rows]
    rows, above = rows[above >= 0], above[above >= 0]
    times = group_sums(profile.function[above], profile.inclusive_ns[rows], len(profile.functions))
    times[np.asarray(profile.functions.kind) == KIND_THREAD] = 0
    one = int(np.argmax(times))
    return f"most of it under {short_name(profile.functions.name[one], 32)}, {time_text(int(times[one]))}" if times[one] else ""


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
    place = f"most of it in {short_name(scene.profile.functions.name[where], 32)}, {time_text(there_ns)}" if where >= 0 else ""
    said = f"The program waits for {scene.share(total)}, mostly for: {order[0][0]}."
    listed = ", ".join(f"{name} {time_text(ns)}" for name, ns in order[:3])
    return scene.lead(WAITING, said, [listed, place], min(total, scene.total_ns), 0, where)


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


def _of_items(
    scene: Scene, lead: str, kind: int, layer: str, say: Callable[[int, str], str], tell: Callable[[np.ndarray, int], list[str]]
) -> Lead | None:
    """A lead about all items of a kind, where they take enough.

    say words it by calls and share of the time, tell gives its evidence by contexts and calls.
    """
    rows, time, calls = _of_kind(scene.uncharged, kind)
    if time < LEAST_SHARE[lead] * scene.total_ns:
        return None
    return scene.lead(lead, say(calls, scene.share(time)), tell(rows, calls), time, layer=layer)


def _collection(scene: Scene) -> Lead | None:
    return _of_items(
        scene, COLLECTION, KIND_COLLECTION, layers.COLLECTION,
        lambda calls, share: f"Garbage is collected {plural(calls, 'time')}, which takes {share}.",
        lambda rows, _calls: [_callers(scene.uncharged, rows)],
    )  # fmt: skip


def _imports(scene: Scene) -> Lead | None:
    return _of_items(
        scene, IMPORTS, KIND_IMPORT, layers.IMPORTS,
        lambda _calls, share: f"Imports take {share}.",
        lambda rows, calls: [f"{plural(calls, 'module')}, the dearest: {_dearest(scene.uncharged, rows)}"],
    )  # fmt: skip


def _programs(scene: Scene) -> Lead | None:
    return _of_items(
        scene, PROGRAMS, KIND_CHILD, layers.PROGRAMS,
        lambda calls, share: f"{plural(calls, 'other program is', 'other programs are')} started; waiting for them takes {share}.",
        lambda rows, _calls: [_dearest(scene.uncharged, rows), _callers(scene.uncharged, rows)],
    )  # fmt: skip


def _cycle(scene: Scene) -> Lead | None:
    one = next((cycle for cycle in scene.cycles if len(cycle.members) <= HANDFUL), None)
    if one is None or one.self_ns < LEAST_SHARE[CYCLE] * scene.total_ns or one.inner_calls < RING_CALLS:
        return None
    members = one.dearest_first(scene.figures.self_ns)
    names = [short_name(scene.profile.functions.name[member], 24) for member in members]
    said = f"{len(members)} functions call each other in a ring {plural(one.inner_calls, 'time')}, {scene.share(one.self_ns)}."
    evidence = [cycle_name(names), f"entered {plural(one.entries, 'time')} from outside"]
    return scene.lead(CYCLE, said, evidence, one.self_ns, one.inclusive_ns, members[0])


def _slower(scene: Scene) -> Lead | None:
    found = scene.comparison
    if found is None or not len(found.matches):
        return None
    lost = -found.gain_ns if scene.sure is None else np.where(scene.sure, -found.gain_ns, 0)
    row = int(np.argmax(lost))
    match, (before, after) = found.matches[row], found.self_ns[row].tolist()
    if match.new < 0 or lost[row] < LEAST_SHARE[SLOWER] * scene.total_ns:
        return None
    name = short_name(scene.profile.functions.name[match.new], 40)
    said = f"{name} takes {_more(scene, int(lost[row]))}." if before else f"{name} is new and takes {time_text(after)}."
    calls = found.calls[row].tolist()
    evidence = [f"{time_text(before)} before, {time_text(after)} now", f"{count_text(calls[0])} calls before, {count_text(calls[1])} now"]
    return scene.lead(SLOWER, said, evidence, int(lost[row]), int(scene.figures.inclusive_ns[match.new]), match.new)


def _more(scene: Scene, lost_ns: int) -> str:
    return f"{time_text(lost_ns)} more than in round {scene.base_number}"


def _little(scene: Scene, found: Sequence[Lead]) -> Lead | None:
    """That no single place promises much, where that is so."""
    if any(one.ceiling >= LITTLE_CEILING for one in found):
        return None
    times = np.sort(scene.figures.self_ns[scene.figures.shown])[::-1]
    if not len(times) or not times[0]:
        return None
    ten = int(times[:10].sum())
    said = f"No single place is worth much: the dearest function takes {scene.share(int(times[0]))}."
    first = int(ranked(scene.figures)[0])
    return scene.lead(LITTLE, said, [f"the first ten together take {scene.share(ten)}"], int(times[0]), 0, first)
