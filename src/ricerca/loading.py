"""From a study's rounds to what the engine reads: profiles, sources; and two rounds put together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ricerca.engine.comparison import Comparison, compare
from ricerca.engine.compensation import MOST_SLOWED
from ricerca.engine.first_look import CHARGED, SPENT, own_code_tells, where_spent
from ricerca.engine.layers import MINE, layers_of, with_package
from ricerca.engine.leads import Lead, Scene, find_leads
from ricerca.engine.own_layers import OwnLayer, from_toml, with_own_layers
from ricerca.engine.profile import KIND_PYTHON, Profile, build_profile
from ricerca.engine.ranking import if_faster
from ricerca.engine.reading import ELAPSED, EVERYTHING, WALL, Reading
from ricerca.engine.shown import Shown
from ricerca.engine.source import is_body, text_of
from ricerca.measure.changes import half_widths
from ricerca.measure.estimates import Speedup, median_ns
from ricerca.measure.rounds import drift_between, same_answer, speedup_of, times_in_turn, what_differs
from ricerca.model.answers import AnswerVerdict
from ricerca.model.errors import InputError
from ricerca.model.rounds import LINE, RECORDED, Round, Run
from ricerca.model.run_tables import RunTables
from ricerca.study.store import Study


@dataclass(frozen=True)
class Loaded(Shown):
    """One round, read: a run of it as a reading shows it, and its sources by file name, as they were recorded."""

    round: Round = field(kw_only=True)
    run: Run = field(kw_only=True)
    sources: Mapping[str, str] = field(kw_only=True)

    def with_clock(self, reading: Reading) -> Reading:
        """A reading that does not say which clock, with the one that suits: elapsed time where times add up beside each other."""
        return replace(reading, clock=ELAPSED) if reading.clock == WALL and self.beside_itself else reading

    @cached_property
    def first_look(self) -> Loaded:
        """The round through the reading that tells most of it at first sight; elapsed time where times add up beside each other."""
        charged = self.through(self.with_clock(CHARGED))
        if own_code_tells(charged.profile, charged.figures):
            return charged
        spent = self.through(self.with_clock(SPENT))
        level = where_spent(spent.figures).level
        return spent if level == spent.reading.level else spent.through(replace(spent.reading, level=level))

    @property
    def plain_ns(self) -> int | None:
        """Median of the plain runs."""
        return median_ns(self.round.plain_ns)

    @property
    def best_total_ns(self) -> int:
        """What the round takes: plain where that was measured, else the run's own time, compensated."""
        return self.plain_ns or self.elapsed_ns

    @property
    def slowed(self) -> float | None:
        """How many times as long the program took while it was recorded; None without plain runs, or where only part was recorded."""
        if not self.plain_ns or not self.run.complete:
            return None
        recorded_ns = self.run.wall_ns if self.beside_itself else self.whole.raw_total_ns
        return recorded_ns / self.plain_ns

    def if_faster(self, functions: list[int], factor: float) -> tuple[float, float]:
        """Speed-up of the run if the bodies of these functions were factor times faster, and what it would take then in ns."""
        own_ns = int(self.figures.self_ns[functions].sum())
        speedup = if_faster(min(own_ns / max(self.clock_total_ns, 1), 1.0), factor)
        return speedup, self.best_total_ns / speedup

    @cached_property
    def own_sources(self) -> dict[str, str]:
        """The sources of the person's own code, by file."""
        table = self.whole.functions
        own = {file for file, layer in zip(table.file, table.layer, strict=True) if layer == MINE}
        return {file: text for file, text in self.sources.items() if file in own}

    @cached_property
    def texts(self) -> dict[int, str]:
        """Text of each Python function of the person's own, to tell one that was moved, renamed or edited."""
        functions = self.profile.functions
        return {
            number: text_of(self.sources[functions.file[number]], int(functions.first_line[number]), functions.language_of(number))
            for number in range(len(functions))
            if functions.kind[number] == KIND_PYTHON
            and not is_body(functions.name[number], functions.file[number])
            and functions.file[number] in self.sources
            and functions.layer[number] == MINE
        }


def profile_of(tables: RunTables, roots: tuple[str, ...], own: tuple[OwnLayer, ...] = (), plain_ns: Sequence[int] = (),
               sparse: Sequence[RunTables] = (), package: str = "") -> Profile:  # fmt: skip
    """A profile with its layers found, in agreement with plain and sparse runs.

    Parameters
    ----------
    package : str
        The package that is run by its name: one's own where nothing else is.
    """
    tree = tables.function, tables.parent
    found = layers_of(tables.function_file, tables.function_module, tables.function_kind.tolist(), roots, tree)
    if package:
        found = with_package(found, tables.function_module, tables.function_kind.tolist(), package)
    layers = with_own_layers(found, own, tables.function_module, tables.function_name, tables.function_file)
    swing = max(plain_ns) / max(min(plain_ns), 1) if len(plain_ns) > 1 else MOST_SLOWED
    return build_profile(tables, layers, median_ns(plain_ns), sparse, swing)


def load(study: Study, number: int | None = None) -> Loaded:
    """Read a round.

    Raises
    ------
    InputError
        The round is not there or has no recording.
    """
    one = study.round(number)
    run = one.last_run(RECORDED) or one.last_run(LINE)
    if run is None:
        raise InputError(f"Round {one.number} “{one.name}” has no recorded run.", "Record it again.")
    tables = study.tables(run.id)
    own = from_toml(study.layers_toml())
    whole = run.kind == RECORDED and run.complete  # what is not whole is never scaled to what the whole takes
    sparse = [study.tables(other.id) for other in one.sparse_runs] if whole else []
    profile = profile_of(tables, one.subject.roots, own, one.plain_ns if whole else (), sparse, one.subject.package)
    line_run = one.last_run(LINE)
    line_profile = None
    if line_run is not None and line_run.id != run.id:
        line_profile = profile_of(study.tables(line_run.id), one.subject.roots, own, package=one.subject.package)
    hashes = study.sources(run.id)
    if line_run is not None:
        hashes = {**study.sources(line_run.id), **hashes}
    sources = {file: study.source_text(digest) for file, digest in hashes.items() if file not in tables.facts.binaries}
    return Loaded(profile, line_profile, profile, round=one, run=run, sources=sources)


@dataclass(frozen=True)
class Pair:
    """A round, and the one it is compared with; ``base`` is None where there is none. Here alone two rounds are put together."""

    new: Loaded
    base: Loaded | None = None

    @cached_property
    def comparison(self) -> Comparison | None:
        """Both beside each other, functions paired."""
        if self.base is None:
            return None
        return compare(self.base.profile, self.new.profile, self.base.texts, self.new.texts)

    @property
    def other_work(self) -> str:
        """In what the two rounds' work differs, in words; empty where they do the same."""
        return self.base.round.subject.other_work(self.new.round.subject) if self.base is not None else ""

    @cached_property
    def verdict(self) -> Speedup | None:
        """Speed-up over the base: from plain runs; from compensated times, without a verdict, where there are none."""
        if self.base is None:
            return None
        return judge(self.base.round, self.new.round, (self.base.elapsed_ns, self.new.elapsed_ns))

    @cached_property
    def _in_turn_ns(self) -> tuple[int, int] | None:
        return times_in_turn(self.base.round, self.new.round) if self.base is not None else None

    @property
    def base_ns(self) -> int:
        """What the base round takes: beside the new one where both were run in turn, else as it was measured."""
        if self._in_turn_ns is not None:
            return self._in_turn_ns[0]
        return self.base.best_total_ns if self.base is not None else 0

    @property
    def new_ns(self) -> int:
        """What the new round takes, beside the base where both were run in turn."""
        return self._in_turn_ns[1] if self._in_turn_ns is not None else self.new.best_total_ns

    @cached_property
    def answer(self) -> AnswerVerdict:
        """Whether both rounds answer the same."""
        return same_answer(self.base.round, self.new.round) if self.base is not None else AnswerVerdict("")

    @cached_property
    def differs(self) -> list[str]:
        """What else than the code differs between the rounds, in words."""
        return what_differs(self.base.round, self.new.round) if self.base is not None else []

    @cached_property
    def edited_files(self) -> tuple[str, ...]:
        """The person's own files that read otherwise than in the base round; of those that ran in one alone nothing is known."""
        if self.base is None:
            return ()
        before, after = self.base.own_sources, self.new.own_sources
        return tuple(sorted(file for file in before.keys() & after.keys() if before[file] != after[file]))

    @cached_property
    def drift(self) -> tuple[float, float]:
        """How the machine's speed changed since the base was measured, and how well that is known; see ``drift_between``."""
        assert self.base is not None
        return drift_between(self.base.round, self.new.round)

    @cached_property
    def change_half_ns(self) -> np.ndarray:
        """Half the width of the 95 % interval of each function's change of self time, by row of the comparison; see ``half_widths``."""
        found = self.comparison
        if found is None or self.base is None:
            return np.zeros(0)
        sides = (self.base.figures, [m.base for m in found.matches]), (self.new.figures, [m.new for m in found.matches])
        spreads = []
        for figures, numbers in sides:
            with np.errstate(divide="ignore", invalid="ignore"):
                share = figures.self_half_ns / figures.self_ns
            spreads.append(np.asarray([share[n] if n >= 0 else np.nan for n in numbers], float))
        factor, drift = self.drift
        return half_widths(found.self_ns[:, 0] * factor, found.self_ns[:, 1].astype(float), spreads[0], spreads[1], drift)

    @cached_property
    def sure(self) -> np.ndarray:
        """Which changes of self time are more than chance, by row of the comparison."""
        if self.comparison is None or self.base is None:
            return np.zeros(0, bool)
        factor, _doubt = self.drift
        change = np.abs(self.comparison.self_ns[:, 0] * factor - self.comparison.self_ns[:, 1])
        return change > self.change_half_ns

    def is_sure(self, row: int, base_ns: int, new_ns: int) -> bool:
        """Whether a change of a part of a function, as of a line of it, is more than chance, as far as the function itself is known."""
        found = self.comparison
        if found is None or self.base is None:
            return False
        match, spreads = found.matches[row], []
        for figures, number in ((self.base.figures, match.base), (self.new.figures, match.new)):
            whole = float(figures.inclusive_ns[number]) if number >= 0 else 0.0
            spreads.append(np.asarray([figures.inclusive_half_ns[number] / whole if whole else np.nan]))
        factor, drift = self.drift
        half = half_widths(np.asarray([base_ns * factor]), np.asarray([float(new_ns)]), spreads[0], spreads[1], drift)
        return bool(abs(base_ns * factor - new_ns) > half[0])

    @cached_property
    def other_counts(self) -> list[tuple[str, int, int]]:
        """Where both rounds are of the same code: the functions that were called another number of times, with both counts."""
        found = self.comparison
        if found is None or self.edited_files or self.other_work:
            return []
        rows = [
            row
            for row, match in enumerate(found.matches)
            if match.base >= 0 and match.new >= 0 and found.calls[row, 0] != found.calls[row, 1]
        ]
        names = self.new.profile.functions.name
        return [(names[found.matches[row].new], int(found.calls[row, 0]), int(found.calls[row, 1])) for row in rows]

    @cached_property
    def leads(self) -> tuple[Lead, ...]:
        """The places that deserve a look; with a base also what became slower, where the work is the same."""
        new, base = self.new, self.base
        comparison = None if self.other_work else self.comparison
        scene = Scene(
            new.profile, new.figures, new.edges, new.cycles, new.uncharged, new.clock_total_ns, new.lines, new.growing,
            comparison, base.round.number if base else 0, new.reading.clock in (WALL, ELAPSED), new.reading.charged,
            self.sure if comparison is not None else None,
        )  # fmt: skip
        return find_leads(scene)


def judge(base: Round, new: Round, recorded_ns: tuple[int, int] | None = None) -> Speedup:
    """Speed-up of one round over another; of different work there is no verdict.

    Parameters
    ----------
    recorded_ns : (int, int), optional
        What the recorded runs took, where there are no plain ones.
    """
    found = speedup_of(base, new)
    if found.ratio == found.ratio or found.why or recorded_ns is None:
        return found
    return replace(found, ratio=recorded_ns[0] / max(recorded_ns[1], 1))


def paired(base: Loaded | None, new: Loaded, reading: Reading | None) -> Pair:
    """Two rounds read alike, None as suits the new one; of a stretch of time, the base shows that in which the same work was done."""
    read = new.first_look if reading is None else new.through(reading)
    return Pair(read, base.beside(read) if base is not None else None)


def load_pair(study: Study, base: int | None, new: int | None, reading: Reading = EVERYTHING) -> Pair:
    """Read two rounds of a study; without a base the first that was measured.

    Raises
    ------
    InputError
        One of them is not there or has no recording, or they are the same.
    """
    known = [round_.number for round_ in study.rounds()]
    if base is None:
        base = known[0] if known else None
    loaded, before = load(study, new), load(study, base)
    if before.round.number == loaded.round.number:
        raise InputError("A round cannot be compared with itself.", f"The study has these rounds: {', '.join(map(str, known))}.")
    return paired(before, loaded, reading)


def load_with_first(study: Study, number: int | None, reading: Reading = EVERYTHING) -> Pair:
    """A round and, where it is another, the first that was recorded, both read alike."""
    loaded = load(study, number)
    first = next((round_ for round_ in study.rounds() if round_.last_run(RECORDED)), None)
    return paired(load(study, first.number) if first and first.number != loaded.round.number else None, loaded, reading)


def edited_since(study: Study, rounds: Sequence[Round]) -> dict[int, tuple[str, ...]]:
    """The person's own files that read otherwise in each round than in the one that was recorded before it."""
    found: dict[int, tuple[str, ...]] = {}
    before: dict[str, str] | None = None
    for round_ in rounds:
        run = round_.last_run(RECORDED)
        if run is None:
            continue
        own = {file: digest for file, digest in study.sources(run.id).items() if _is_own(file, round_.subject.roots)}
        if before is not None:
            # what did not run in one of them was not kept, and tells nothing
            found[round_.number] = tuple(sorted(file for file in before.keys() & own.keys() if before[file] != own[file]))
        before = own
    return found


def _is_own(file: str, roots: tuple[str, ...]) -> bool:
    return any(file.startswith(root.rstrip("/") + "/") for root in roots) and "site-packages" not in file
