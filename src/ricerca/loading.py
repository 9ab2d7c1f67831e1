"""From a study's round to what the engine reads: profiles, sources, comparisons."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

from ricerca.engine.believable import Speedup, median_ns, speedup
from ricerca.engine.comparison import Comparison, compare
from ricerca.engine.cycles import Cycle, function_cycles
from ricerca.engine.layers import layers_of
from ricerca.engine.leads import Lead, Scene, find_leads
from ricerca.engine.levels import FUNCTION
from ricerca.engine.lines import LineFigures, line_figures
from ricerca.engine.neighbours import Edges, edges
from ricerca.engine.own_layers import OwnLayer, from_toml, with_own_layers
from ricerca.engine.profile import KIND_PYTHON, Profile, build_profile
from ricerca.engine.ranking import FunctionFigures, function_figures, if_faster
from ricerca.engine.reading import EVERYTHING, WALL, Reading, charged_functions, read
from ricerca.engine.reducing import merged
from ricerca.engine.slices import Growth, counterpart, growing
from ricerca.engine.source import body_of
from ricerca.model.errors import InputError
from ricerca.model.rounds import LINE, RECORDED, Round, Run
from ricerca.model.run_tables import RunTables
from ricerca.study.store import Study


@dataclass(frozen=True)
class Loaded:
    """One round, read: its main profile, its line figures, its sources by file name."""

    round: Round
    run: Run
    profile: Profile
    line_profile: Profile | None
    """Of the round's line run, where there is one."""
    sources: Mapping[str, str]
    """Texts as they were recorded."""
    whole: Profile
    """The whole run; ``profile`` is the part of it that the reading shows."""
    reading: Reading = EVERYTHING

    def through(self, reading: Reading) -> Loaded:
        """The same round, read in another way; which rounds the reading names does not matter here."""
        reading = reading.of_any_round
        if reading == self.reading:
            return self
        return replace(self, profile=read(self.whole, reading), reading=reading)

    def beside(self, other: Loaded) -> Loaded:
        """This round read as another is, to hold that one against it: of a stretch of time, that in which the same work was done."""
        reading = other.reading.of_another_run
        if other.reading.stretch is not None:
            reading = replace(reading, stretch=counterpart(other.whole, *other.reading.stretch, self.whole))
        return self.through(reading)

    @cached_property
    def figures(self) -> FunctionFigures:
        """Figures by function."""
        return function_figures(self.profile)

    @cached_property
    def uncharged(self) -> Profile:
        """The same part of the run by function, with all time where it was spent."""
        if not self.reading.charged and self.reading.level == FUNCTION:
            return self.profile
        return read(self.whole, replace(self.reading, charged=(), level=FUNCTION))

    @cached_property
    def lines(self) -> LineFigures:
        """Figures by line; of the line run where there is one."""
        # A line's time is that of what it calls, charged or not; only lines whose own time is charged away go.
        shown = self.uncharged
        found = line_figures(shown, self.line_profile)
        return found.of(~charged_functions(shown, self.reading.charged)) if self.reading.charged else found

    @cached_property
    def tree(self) -> Profile:
        """The profile with equal chains of calls put together, for the call tree."""
        return self.profile if self.reading == EVERYTHING else merged(self.profile)

    @cached_property
    def edges(self) -> Edges:
        """Callers and callees."""
        return edges(self.profile)

    @cached_property
    def cycles(self) -> tuple[Cycle, ...]:
        """Functions that call each other in a ring."""
        return function_cycles(self.profile, self.edges)

    @cached_property
    def growing(self) -> dict[int, Growth]:
        """The functions whose calls became dearer over the run."""
        return growing(self.profile, self.figures.self_ns)

    @property
    def what(self) -> str:
        """What shares are shares of."""
        reading = self.reading
        partly = any((reading.inside, reading.without, reading.stretch, reading.threads, reading.processes, reading.clock != WALL))
        return "what is read" if partly else "the run"

    def leads(self, base: Loaded | None = None, comparison: Comparison | None = None) -> tuple[Lead, ...]:
        """The places that deserve a look; with a comparison also what became slower since that round."""
        reading, number = self.reading, base.round.number if base else 0
        scene = Scene(
            self.profile, self.figures, self.edges, self.cycles, self.uncharged, self.whole.total_ns, self.lines, self.growing,
            comparison, number, reading.clock == WALL, reading.charged, self.what,
        )  # fmt: skip
        return find_leads(scene)

    @property
    def plain_ns(self) -> int | None:
        """Median of the plain runs."""
        return median_ns(self.round.plain_ns)

    @property
    def best_total_ns(self) -> int:
        """What the round takes: plain where that was measured, else compensated."""
        return self.plain_ns or self.whole.total_ns

    def if_faster(self, functions: list[int], factor: float) -> tuple[float, float]:
        """Speed-up of the run if the bodies of these functions were factor times faster, and what it would take then in ns."""
        own_ns = int(self.figures.self_ns[functions].sum())
        speedup = if_faster(min(own_ns / max(self.whole.total_ns, 1), 1.0), factor)
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


def profile_of(tables: RunTables, roots: tuple[str, ...], plain_ns: int | None = None, own: tuple[OwnLayer, ...] = ()) -> Profile:
    """A profile with its layers found."""
    tree = tables.function, tables.parent
    found = layers_of(tables.function_file, tables.function_module, tables.function_kind.tolist(), roots, tree)
    layers = with_own_layers(found, own, tables.function_module, tables.function_name, tables.function_file)
    return build_profile(tables, layers, plain_ns)


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
    plain_ns = median_ns(one.plain_ns)
    tables = study.tables(run.id)
    own = from_toml(study.layers_toml())
    profile = profile_of(tables, one.subject.roots, plain_ns if run.kind == RECORDED and not tables.facts.inside else None, own)
    line_run = one.last_run(LINE)
    line_profile = None
    if line_run is not None and line_run.id != run.id:
        line_profile = profile_of(study.tables(line_run.id), one.subject.roots, None, own)
    hashes = study.sources(run.id)
    if line_run is not None:
        hashes = {**study.sources(line_run.id), **hashes}
    return Loaded(one, run, profile, line_profile, {file: study.source_text(digest) for file, digest in hashes.items()}, profile)


def compared(base: Loaded, new: Loaded) -> Comparison:
    """Two rounds, functions paired."""
    return compare(base.profile, new.profile, base.texts, new.texts)


def judged(base: Loaded, new: Loaded) -> Speedup:
    """Speed-up of one round over another: from plain runs; from compensated totals, without a verdict, where there are none."""
    found = speedup(base.round.plain_ns, new.round.plain_ns)
    if found.ratio == found.ratio:
        return found
    return Speedup(base.whole.total_ns / max(new.whole.total_ns, 1), None, found.verdict)
