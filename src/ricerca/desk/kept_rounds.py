"""Rounds and views of them as the window asks for them, away from the interface; what was seen before is there at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from threading import Lock
from typing import Generic, TypeVar

from ricerca.desk.view import View, make_view
from ricerca.engine.reading import Reading
from ricerca.loading import Loaded, edited_since, judge, load, paired
from ricerca.measure.estimates import Speedup
from ricerca.model.cases import WHOLE, Part, size_number
from ricerca.model.rounds import PLAIN, RECORDED, Round
from ricerca.report.besides import lead_share_of, worth_of_round
from ricerca.report.growth import growth_by_function, growth_leads, growth_of
from ricerca.runner.taking import recover
from ricerca.study.store import Study

MOST_KEPT = 12
Value = TypeVar("Value")


class _Kept(Generic[Value]):
    """The values asked for last, made where they are not there; asked by several threads."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._values: dict[tuple[object, ...], Value] = {}

    def get(self, key: tuple[object, ...], make: Callable[[], Value]) -> Value:
        with self._lock:
            known = self._values.pop(key, None)
        value = known or make()
        with self._lock:
            self._values[key] = value
            while len(self._values) > MOST_KEPT:
                del self._values[next(iter(self._values))]
        return value


class Readings:
    """Rounds that were loaded, and views of them, so that what was seen before is there at once."""

    def __init__(self) -> None:
        self._rounds: _Kept[Loaded] = _Kept()
        self._views: _Kept[View] = _Kept()

    def view(self, path: Path, number: int | None, against: int | None, reading: Reading | None, part: Part = WHOLE) -> View:
        """Read a round, and another to compare it with, and all figures of both; without a reading as suits the round."""
        with Study.open(path, part=part) as study:
            layers = study.layers_toml()
            loaded = self._load(study, number, layers)
            base = self._load(study, against, layers) if against is not None and against != loaded.round.number else None
            sizes = [size for size in loaded.round.sizes if size_number(size) is not None]
            of_sizes = []
            if len(sizes) > 1:
                of_sizes = [self._load(study.of(Part(loaded.round.case, size)), loaded.round.number, layers) for size in sizes]
            worth = worth_of_round(study, loaded.round.case)
        counts = len(loaded.round.runs), len(base.round.runs) if base else 0
        key = (path, loaded.run.id, base.run.id if base else None, reading, counts, layers)
        view = self._views.get(key, lambda: _with_growth(make_view(paired(base, loaded, reading)), of_sizes))
        return replace(view, worth=replace(worth, lead_share=lead_share_of(view.leads)) if worth is not None else None)

    def _load(self, study: Study, number: int | None, layers: str) -> Loaded:
        one = study.round(number)
        key = (study.path, one.id, one.case, one.size, len(one.runs), layers)
        return replace(self._rounds.get(key, lambda: load(study, number)), round=one)

    def followed(self, path: Path, part: Part, names: Sequence[tuple[str, str]], reading: Reading) -> dict[tuple[str, str], Followed]:
        """Self times in ns of functions, by module and name, in each round that has a recorded run, all read alike."""
        found: dict[tuple[str, str], Followed] = {name: {} for name in names}
        with Study.open(path, part=part) as study:
            layers = study.layers_toml()
            for round_ in study.rounds():
                if round_.last_run(RECORDED) is None:
                    continue
                loaded = self._load(study, round_.number, layers).through(replace(reading, stretch=None))
                table = loaded.profile.functions
                for n, name in enumerate(zip(table.module, table.name, strict=True)):
                    if name in found:
                        times = found[name]
                        times[round_.number] = times.get(round_.number, 0) + int(loaded.figures.self_ns[n])
        return found


def _with_growth(view: View, of_sizes: Sequence[Loaded]) -> View:
    """A view with how its functions grow, read at each size as the view is."""
    if not of_sizes:
        return view
    rows = growth_of([loaded.through(replace(view.loaded.reading, stretch=None)) for loaded in of_sizes])
    return replace(view, by_size=growth_by_function(view.loaded, rows), leads=(*view.leads, *growth_leads(view.loaded, rows)))


Followed = dict[int, int]
"""Self time in ns by number of the round."""


def read_rounds(path: Path, part: Part = WHOLE) -> tuple[Round, ...]:
    """The rounds of a study as measured for one case, left-over recordings taken in first."""
    with Study.open(path, part=part) as study:
        recover(study.path)
        return study.rounds()


def judge_rounds(rounds: tuple[Round, ...]) -> dict[int, Speedup]:
    """Each round compared with the first, where both have plain runs."""
    if not rounds or not rounds[0].plain_ns:
        return {}
    return {round_.number: judge(rounds[0], round_) for round_ in rounds[1:] if any(run.kind == PLAIN for run in round_.runs)}


def edited_names(path: Path | None, rounds: tuple[Round, ...]) -> dict[int, tuple[str, ...]]:
    """Names of the files that were edited for each round."""
    if path is None:
        return {}
    with Study.open(path) as study:
        return {number: tuple(Path(file).name for file in files) for number, files in edited_since(study, rounds).items()}
