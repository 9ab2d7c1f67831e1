"""From a study's rounds to what the engine reads: profiles, sources; and two rounds put together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from ricerca.engine.comparison import Comparison, compare
from ricerca.engine.compensation import MOST_SLOWED
from ricerca.engine.layers import layers_of
from ricerca.engine.leads import Lead, Scene, find_leads
from ricerca.engine.own_layers import OwnLayer, from_toml, with_own_layers
from ricerca.engine.profile import KIND_PYTHON, Profile, build_profile
from ricerca.engine.ranking import if_faster
from ricerca.engine.reading import ELAPSED, EVERYTHING, WALL, Reading
from ricerca.engine.shown import Shown
from ricerca.engine.source import body_of
from ricerca.measure.estimates import Speedup, median_ns
from ricerca.measure.rounds import speedup_of
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

    def by_default(self, reading: Reading) -> Loaded:
        """The round through a reading that does not say which clock: elapsed time where times add up beside each other."""
        if reading.clock == WALL and self.beside_itself:
            reading = replace(reading, clock=ELAPSED)
        return self.through(reading)

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
    def texts(self) -> dict[int, str]:
        """Body of each Python function, to tell one that was only renamed."""
        functions = self.profile.functions
        return {
            number: body_of(self.sources[functions.file[number]], int(functions.first_line[number]))
            for number in range(len(functions))
            if functions.kind[number] == KIND_PYTHON and functions.file[number] in self.sources and functions.layer[number] == "mine"
        }


def profile_of(tables: RunTables, roots: tuple[str, ...], own: tuple[OwnLayer, ...] = (), plain_ns: Sequence[int] = (),
               sparse: Sequence[RunTables] = ()) -> Profile:  # fmt: skip
    """A profile with its layers found, in agreement with plain and sparse runs."""
    tree = tables.function, tables.parent
    found = layers_of(tables.function_file, tables.function_module, tables.function_kind.tolist(), roots, tree)
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
    profile = profile_of(tables, one.subject.roots, own, one.plain_ns if whole else (), sparse)
    line_run = one.last_run(LINE)
    line_profile = None
    if line_run is not None and line_run.id != run.id:
        line_profile = profile_of(study.tables(line_run.id), one.subject.roots, own)
    hashes = study.sources(run.id)
    if line_run is not None:
        hashes = {**study.sources(line_run.id), **hashes}
    sources = {file: study.source_text(digest) for file, digest in hashes.items()}
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
    def leads(self) -> tuple[Lead, ...]:
        """The places that deserve a look; with a base also what became slower, where the work is the same."""
        new, base = self.new, self.base
        comparison = None if self.other_work else self.comparison
        scene = Scene(
            new.profile, new.figures, new.edges, new.cycles, new.uncharged, new.clock_total_ns, new.lines, new.growing,
            comparison, base.round.number if base else 0, new.reading.clock in (WALL, ELAPSED), new.reading.charged, new.what,
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


def paired(base: Loaded | None, new: Loaded, reading: Reading, default_clock: bool = False) -> Pair:
    """Two rounds read alike; of a stretch of time, the base shows that in which the same work was done."""
    read = new.by_default(reading) if default_clock else new.through(reading)
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


def load_with_first(study: Study, number: int | None) -> Pair:
    """A round and, where it is another, the first that was recorded."""
    loaded = load(study, number)
    first = next((round_ for round_ in study.rounds() if round_.last_run(RECORDED)), None)
    return Pair(loaded, load(study, first.number) if first and first.number != loaded.round.number else None)
