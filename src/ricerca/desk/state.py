"""What the window shows now: the study, the reading, the selected function. Plain signals, no widgets."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from ricerca.desk.kept_rounds import Followed, Readings, edited_names, judge_rounds, read_rounds
from ricerca.desk.view import View
from ricerca.desk.work import Workers
from ricerca.engine.first_look import CHARGED
from ricerca.engine.layers import MINE
from ricerca.engine.levels import FUNCTION
from ricerca.engine.own_layers import CLAIMED, OwnLayer, added, changed, claimed, from_toml, patterns_of, reshaped, to_toml
from ricerca.engine.profile import KIND_BUILTIN, KIND_PYTHON
from ricerca.engine.reading import ALL_OTHERS, EVERYTHING, WALL, Reading, parse
from ricerca.measure.estimates import Speedup
from ricerca.model.cases import WHOLE, Part
from ricerca.model.errors import RicercaError
from ricerca.model.rounds import LINE, RECORDED, Round
from ricerca.report.wording import short_name
from ricerca.study.store import Study

NARROWING = (
    ("Only inside {}", "Ctrl+I", "inside"),
    ("Leave out {}", "Ctrl+Shift+I", "without"),
    ("Charge {} to its callers", "Ctrl+Shift+G", "charged"),
)


class DeskState(QObject):
    """The one model behind all pages."""

    study_opened = pyqtSignal()
    rounds_changed = pyqtSignal()
    loading = pyqtSignal()
    view_changed = pyqtSignal()
    selection_changed = pyqtSignal()
    layers_changed = pyqtSignal(dict)
    failed = pyqtSignal(str)
    page_asked = pyqtSignal(str)
    line_changed = pyqtSignal(int)
    editor_asked = pyqtSignal()
    snippet_asked = pyqtSignal()

    def __init__(self, workers: Workers, settings: QSettings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.workers = workers
        self.settings = settings
        self.path: Path | None = None
        self.rounds: tuple[Round, ...] = ()
        self.verdicts: dict[int, Speedup] = {}
        self.edited: dict[int, tuple[str, ...]] = {}
        """Names of the files that were edited for each round."""
        self.view: View | None = None
        self.number: int | None = None
        self.against: int | None = None
        self.part = WHOLE
        """The case, and the size of it, that is looked at."""
        self.cases: tuple[str, ...] = ()
        self.reading = CHARGED
        self.kept_readings: dict[str, str] = {}
        self.own_layers: tuple[OwnLayer, ...] = ()
        self._readings = Readings()
        self._before: list[Reading] = []
        self._after: list[Reading] = []
        self.selected = -1
        self.selected_line = 0
        """Line chosen within the selected function, 0 for none."""
        self._wanted_selection: tuple[str, str] | None = None
        self._first_look = False
        """Whether the clock is to be the one that suits the round that is read next: nobody has chosen one yet."""
        workers.failed.connect(self.failed)

    # ---- studies

    def open_study(self, path: Path) -> None:
        """Read a study; the latest round against the first is shown."""
        self.loading.emit()

        def then(rounds: tuple[Round, ...]) -> None:
            self.path = path
            self.part = WHOLE
            self.cases = tuple(dict.fromkeys(case for round_ in rounds for case in round_.cases))
            self._take_rounds(rounds)
            self.view, self.selected = None, -1
            self._remember_recent(path)
            self._before, self._after, self.reading = [], [], CHARGED
            self._fetch_kept()
            self.study_opened.emit()
            self.rounds_changed.emit()
            self._first_reading()

        self.workers.request("study", lambda: read_rounds(path), then)

    def _take_rounds(self, rounds: tuple[Round, ...]) -> None:
        self.rounds, self.verdicts = rounds, {}

        def then(found: tuple[dict[int, Speedup], dict[int, tuple[str, ...]]]) -> None:
            self.verdicts, self.edited = found
            self.rounds_changed.emit()

        path = self.path
        self.workers.request("verdicts", lambda: (judge_rounds(rounds), edited_names(path, rounds)), then)

    def recent(self) -> list[str]:
        """Paths of studies opened lately, the last first."""
        value = self.settings.value("recent", [])
        return [value] if isinstance(value, str) else [str(item) for item in value or []]

    def _remember_recent(self, path: Path) -> None:
        others = [item for item in self.recent() if item != str(path)]
        self.settings.setValue("recent", [str(path), *others][:8])

    def measured(self) -> list[Round]:
        """The rounds that have a recording to read."""
        return [round_ for round_ in self.rounds if round_.last_run(RECORDED, LINE)]

    def _first_reading(self) -> None:
        rounds = self.measured()
        if not rounds:
            self.view_changed.emit()
            return
        numbers = [round_.number for round_ in rounds]
        kept = self.settings.value(f"reading/{self.path}", None)
        number, against = numbers[-1], numbers[0] if len(numbers) > 1 else None
        self._first_look = True
        if isinstance(kept, list) and len(kept) >= 2:
            wanted = [int(part) if str(part).isdigit() else None for part in kept[:2]]
            if wanted[0] in numbers:
                number, against = wanted[0], wanted[1] if wanted[1] in numbers else None
            if len(kept) >= 4:
                self._wanted_selection = (str(kept[2]), str(kept[3]))
            if len(kept) == 5:
                self._recall(str(kept[4]))
                self._first_look = False
        self.read(number, against)

    def refresh_rounds(self, show: int | None = None) -> None:
        """Read the list of rounds again; then show one against the first."""
        if self.path is None:
            return
        path, part = self.path, self.part

        def then(rounds: tuple[Round, ...]) -> None:
            self.cases = tuple(dict.fromkeys([*self.cases, *(case for round_ in rounds for case in round_.cases)]))
            self._take_rounds(rounds)
            self.rounds_changed.emit()
            numbers = [round_.number for round_ in self.measured()]
            if show in numbers:
                base = self.against if self.against in numbers and self.against != show else numbers[0]
                self.read(show, base if base != show else None)

        self.workers.request("study", lambda: read_rounds(path, part), then)

    def look_at_part(self, part: Part) -> None:
        """Look at another case, or at another size of it, in the same way."""
        if self.path is None or part == self.part:
            return
        path = self.path
        self.loading.emit()

        def then(rounds: tuple[Round, ...]) -> None:
            self.part = part
            self._take_rounds(rounds)
            self.rounds_changed.emit()
            numbers = [round_.number for round_ in self.measured()]
            number = self.number if self.number in numbers else numbers[-1] if numbers else None
            self.read(number, self.against if self.against in numbers else None)

        self.workers.request("study", lambda: read_rounds(path, part), then)

    # ---- the reading

    def read(self, number: int | None, against: int | None) -> None:
        """Look at a round, compared with another or none."""
        if self.path is None or number is None:
            return
        if against == number:
            against = None
        self.number, self.against = number, against
        self.loading.emit()
        path, part, reading = self.path, self.part, None if self._first_look else self.reading
        self.workers.request("view", lambda: self._readings.view(path, number, against, reading, part), self._show)

    def follow(self, names: Sequence[tuple[str, str]], then: Callable[[dict[tuple[str, str], Followed]], None]) -> None:
        """Fetch the self times of functions, by module and name, through all rounds."""
        if self.path is not None:
            path, part, reading = self.path, self.part, self.reading
            self.workers.request("followed", lambda: self._readings.followed(path, part, names, reading), then)

    def say_fate(self, number: int, fate: str) -> None:
        """Say that the change of a round was kept or undone; empty takes that back."""
        if self.path is None:
            return
        path = self.path

        def write() -> None:
            with Study.open(path) as study:
                study.describe_round(number, fate=fate)

        self.workers.request("fate", write, lambda _done: self.refresh_rounds())

    def _recall(self, text: str) -> None:
        """Take up a reading that was written down; one that is not understood is left."""
        try:
            self.reading = parse(text)
        except RicercaError:
            return

    @property
    def whole_reading(self) -> Reading:
        """The reading with the rounds it is of."""
        return replace(self.reading, round=self.number, against=self.against, case=self.part.case, size=self.part.size)

    def set_reading(self, reading: Reading) -> None:
        """Look in another way, at the same rounds unless others are named; the way before can be gone back to."""
        wanted = reading if reading.round is not None else replace(reading, round=self.number, against=reading.against or self.against)
        if not wanted.case:
            wanted = replace(wanted, case=self.part.case, size=wanted.size or self.part.size)
        missing = {wanted.round, wanted.against} - {None, *(round_.number for round_ in self.measured())}
        if missing:
            self.failed.emit(f"This study has no recorded round {min(filter(None, missing))} that could be read.")
        elif wanted != self.whole_reading:
            self._before.append(self.whole_reading)
            self._after.clear()
            self._go(wanted)

    def look_at(self, number: int | None, against: int | None) -> None:
        """Look at other rounds in the same way; what was looked at before can be gone back to."""
        self.set_reading(replace(self.reading, round=number, against=against if against != number else None))

    def _go(self, reading: Reading) -> None:
        part = Part(reading.case, reading.size)
        self.reading = reading.of_any_round
        if part != self.part:
            self.number, self.against = reading.round, reading.against
            self.look_at_part(part)
        else:
            self.read(reading.round, reading.against)

    @property
    def can_go_back(self) -> bool:
        """Whether there is a reading before this one."""
        return bool(self._before)

    @property
    def can_go_forward(self) -> bool:
        """Whether there is a reading that was gone back from."""
        return bool(self._after)

    def back(self) -> None:
        """Go back to the reading before."""
        if self._before:
            self._after.append(self.whole_reading)
            self._go(self._before.pop())

    def forward(self) -> None:
        """Go forward again."""
        if self._after:
            self._before.append(self.whole_reading)
            self._go(self._after.pop())

    def switch_charge(self) -> None:
        """Charge other people's code to the person's own, or let time count where it is spent."""
        own = tuple(name for name in self.reading.charged if name != ALL_OTHERS)
        self.set_reading(replace(self.reading, charged=own if ALL_OTHERS in self.reading.charged else (*own, ALL_OTHERS)))

    def narrow(self, clause: str) -> None:
        """Add the selected function to a clause of the reading: inside, without or charged."""
        name = self.selected_name()
        if name is not None and self.reading.level == FUNCTION:
            change: dict[str, Any] = {clause: (*getattr(self.reading, clause), name[1])}
            self.set_reading(replace(self.reading, **change))

    def reading_actions(self) -> list[tuple[str, str, Callable[[], None]]]:
        """What can be done to the reading with the selected function: words, keys, act."""
        name = self.selected_name() if self.reading.level == FUNCTION else None
        found = (
            [(words.format(short_name(name[1])), keys, partial(self.narrow, clause)) for words, keys, clause in NARROWING] if name else []
        )
        words = "Do not charge time to my code" if ALL_OTHERS in self.reading.charged else "Charge other people's code to mine"
        return [*found, (words, "Ctrl+G", self.switch_charge)]

    def put_in_layer(self, name: str, pattern: str) -> None:
        """Put code in a layer of the person's own, kept in the study."""
        self._change_layers(lambda own: added(own, name, pattern))

    def claim(self, pattern: str, mine: bool) -> None:
        """Say that code is the person's own, or that it is not; kept in the study. What is looked at without clauses suits itself."""
        clauses = replace(self.reading.of_any_round, charged=(), machinery=True, level=FUNCTION, clock=WALL)
        look_anew = clauses == EVERYTHING

        def along(reading: Reading) -> Reading:
            if look_anew:
                self._before.append(self.whole_reading)
                self._first_look = True
            return reading

        self._change_layers(lambda own: claimed(own, pattern, mine), along)

    def claims(self) -> tuple[bool, list[tuple[str, str]]]:
        """What the selected row's code can be claimed by, the broadest first: words, pattern. And whether it is not claimed yet."""
        if self.view is None or self.selected < 0:
            return False, []
        table = self.view.loaded.profile.functions
        module, kind = table.module[self.selected], int(table.kind[self.selected])
        if kind not in (KIND_PYTHON, KIND_BUILTIN) or module in ("", "builtins"):
            return False, []
        place = self.selected_place() or (module, "", "")
        choices = [(words, pattern) for words, pattern in patterns_of(*place) if words in ("the module", "the package", "the folder")]
        choices.sort(key=lambda choice: len(choice[1]) if choice[0] != "the folder" else 999)
        return table.layer[self.selected] != MINE, choices

    def reshape_layer(self, name: str, before: str, after: str) -> None:
        """Make a layer broader or narrower: another pattern in the place of one."""
        self._change_layers(lambda own: reshaped(own, name, before, after))

    def change_layer(self, name: str, new: OwnLayer) -> None:
        """Give a layer another name, colour or other patterns; a reading that charges it goes along."""

        def renamed(reading: Reading) -> Reading:
            return replace(reading, charged=tuple(new.name if charged == name else charged for charged in reading.charged))

        self._change_layers(lambda own: changed(own, name, new), renamed)

    def drop_layer(self, name: str) -> None:
        """Take a layer of the person's own away."""
        self._change_layers(lambda own: tuple(layer for layer in own if layer.name != name))

    def _change_layers(
        self, change: Callable[[tuple[OwnLayer, ...]], tuple[OwnLayer, ...]], along: Callable[[Reading], Reading] | None = None
    ) -> None:
        """Change the layers in the study; once that is done the reading goes along."""
        path = self.path
        if path is None:
            return

        def keep() -> None:
            with Study.open(path) as study:
                study.keep_layers(to_toml(change(from_toml(study.layers_toml()))))

        def then(_done: object) -> None:
            self._fetch_kept()
            self._go(along(self.whole_reading) if along is not None else self.whole_reading)

        self.workers.request("layers", keep, then)

    def selected_pattern(self) -> str:
        """What would put the selected function, and its like, in a layer: its package."""
        name = self.selected_name()
        return (name[0].partition(".")[0] or name[1]) if name else ""

    def note_expectation(self, text: str) -> None:
        """Add an expectation to the note of the round that is read."""
        path, number = self.path, self.number
        if path is None or number is None:
            return

        def write() -> None:
            with Study.open(path) as study:
                note = study.round(number).note
                study.describe_round(number, note=f"{note}\n{text}".strip())

        self.workers.request("note", write, lambda _done: self.refresh_rounds())

    def keep_reading(self, name: str) -> None:
        """Keep the reading in the study under a name."""
        path, text = self.path, self.reading.text
        if path is None:
            return

        def keep() -> None:
            with Study.open(path) as study:
                study.keep_reading(name, text)

        self.workers.request("keep reading", keep, lambda _done: self._fetch_kept())

    def _fetch_kept(self) -> None:
        path = self.path

        def fetch() -> tuple[dict[str, str], tuple[OwnLayer, ...]]:
            if path is None:
                return {}, ()
            with Study.open(path) as study:
                return study.readings(), from_toml(study.layers_toml())

        def then(found: tuple[dict[str, str], tuple[OwnLayer, ...]]) -> None:
            self.kept_readings, self.own_layers = found
            self.layers_changed.emit({layer.name: layer.colour for layer in self.own_layers if layer.name not in CLAIMED})

        self.workers.request("kept readings", fetch, then)

    def _show(self, view: View) -> None:
        wanted = self.selected_name() or self._wanted_selection
        self._wanted_selection = None
        self.view = view
        if self._first_look:
            self.reading, self._first_look = view.loaded.reading, False
        self.selected = self._find(wanted) if wanted else -1
        if self.selected < 0:
            figures = view.loaded.figures
            shown_ns = figures.self_ns * figures.shown
            own_ns = shown_ns * np.asarray([layer == MINE for layer in view.loaded.profile.functions.layer])
            self.selected = int(np.argmax(own_ns if own_ns.any() else shown_ns)) if len(shown_ns) else -1
        self._keep_reading()
        self.view_changed.emit()
        self.selection_changed.emit()

    def selected_name(self) -> tuple[str, str] | None:
        """Module and qualified name of the selected function."""
        if self.view is None or self.selected < 0:
            return None
        table = self.view.loaded.profile.functions
        return table.module[self.selected], table.name[self.selected]

    def selected_place(self) -> tuple[str, str, str] | None:
        """Module, qualified name and file of the selected function; None where a row stands for several."""
        if self.view is None or self.selected < 0 or self.reading.level != FUNCTION:
            return None
        table = self.view.loaded.profile.functions
        return table.module[self.selected], table.name[self.selected], table.file[self.selected]

    def _find(self, wanted: tuple[str, str]) -> int:
        table = self.view.loaded.profile.functions
        for number, (module, name) in enumerate(zip(table.module, table.name, strict=True)):
            if (module, name) == wanted:
                return number
        return -1

    def select(self, function: int, line: int = 0) -> None:
        """Show a function in the details and on every page; a line of it is taken along where one is named."""
        self.selected_line, function = line, int(function)
        if self.view is None or function == self.selected or not 0 <= function < len(self.view.loaded.profile.functions):
            return
        self.selected = function
        self._keep_reading()
        self.selection_changed.emit()

    def select_line(self, function: int, line: int) -> None:
        """Show a line, with its function, on every page."""
        self.select(function, line)
        self.line_changed.emit(line)

    def _keep_reading(self) -> None:
        name = self.selected_name() or ("", "")
        self.settings.setValue(f"reading/{self.path}", [str(self.number), str(self.against or ""), *name, self.reading.text])
