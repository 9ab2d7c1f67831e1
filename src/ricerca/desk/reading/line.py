"""The sentence above the pages that states what is looked at; each part of it is a control."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QActionGroup, QColor
from PyQt6.QtWidgets import QColorDialog, QFrame, QHBoxLayout, QInputDialog, QLabel, QMenu, QPushButton, QVBoxLayout, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.flow import FlowLayout
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.row_menu import add_claims, add_reading_actions, copy_text, plain
from ricerca.desk.reading.clause_box import ClauseBox
from ricerca.desk.reading.words import round_words
from ricerca.desk.rounds.column import describe, expected_of
from ricerca.desk.state import DeskState
from ricerca.engine.levels import LEVELS
from ricerca.engine.own_layers import CLAIMED, OwnLayer
from ricerca.engine.reading import ALL_OTHERS, CLOCKS, ELAPSED, ON_CPU, WAITING, WALL, Reading, parse
from ricerca.loading import Loaded
from ricerca.measure.estimates import BY_PAIRS, FASTER, NO_DIFFERENCE, SLOWER, UNDECIDED
from ricerca.model.answers import ANOTHER
from ricerca.model.cases import Part
from ricerca.model.errors import RicercaError
from ricerca.model.rounds import Round
from ricerca.report.notes import comparison_notes
from ricerca.report.wording import factor_text, plural, short_name

CLOCK_WORDS = {
    WALL: "Time by the clock on the wall, waiting included. Threads and processes are added up.",
    ELAPSED: "The run's own time: each moment counts once, shared among the threads and processes that ran in it. "
    "When none ran, it goes to what the main thread waited in.",
    ON_CPU: "Only the time in which the thread ran on a processor.",
    WAITING: "Only the time in which the thread waited: for a sleep, a lock, a file, a socket or a child process.",
}
LEVEL_WORDS = {
    "function": "One row for each function.",
    "class": "One row for each class.",
    "module": "One row for each module.",
    "package": "One row for each package.",
}
CHARGED, RUNS = "charged to my code", "not charged"


class ReadingLine(QFrame):
    """Reading *round* against *round* · *wall time* · *inside f* · *charged to my code* · by *function*."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("ruled")
        self._state = state
        self.round_button = self._clause("Which round is looked at")
        self.against_button = self._clause("Which round it is compared with")
        self.case_button = self._clause("Which case is looked at, and in which size")
        self.clock_button = self._clause("Which time is looked at")
        self.thread_button = self._clause("Which threads are looked at")
        self.charge_button = self._clause("Where the time of other people's code counts (Ctrl+G)")
        self.level_button = self._clause("What a row stands for")
        self.add_button = QPushButton("+ clause")
        self.add_button.setObjectName("clause")
        self.add_button.setAccessibleName("Add a clause")
        self.add_button.setToolTip("Add a clause: type a function, module, layer, thread, clock or level (Ctrl+Shift+K).")
        self.add_button.setCursor(Qt.CursorShape.PointingHandCursor)
        self.add_button.clicked.connect(lambda _checked: self.add_clause())
        self._adding = False
        self.clause_box = ClauseBox(state)
        self.clause_box.left.connect(self._hide_box)
        self.clause_box.hide()
        self.more_button = self._clause("Reset the reading, save it, layers")
        self.more_button.setText("more")
        self._more_menu = self.more_button.menu()
        if self._more_menu is not None:
            self._more_menu.aboutToShow.connect(self._fill_more)
        self.back = self._step("‹", "Back to the previous reading (Alt+Left)", state.back)
        self.forward = self._step("›", "Forward (Alt+Right)", state.forward)
        self.verdict = QLabel()
        self.verdict.setTextFormat(Qt.TextFormat.RichText)
        words = QWidget()
        self._flow = FlowLayout(words, 7, 2)
        self._flow.setContentsMargins(0, 0, 0, 0)
        self._words: list[QWidget] = []
        self._chips: list[QPushButton] = []
        right = QHBoxLayout()
        right.setSpacing(4)
        self.in_turn = QPushButton("Run in turn")
        self.in_turn.setObjectName("quiet")
        self.in_turn.setToolTip(tip(
            "Run both rounds in turn until the verdict is settled, at most two minutes. The code of both is brought back from the "
            "study for these runs alone; your files stay as they are."
        ))  # fmt: skip
        right.addWidget(self.verdict)
        right.addWidget(self.in_turn)
        right.addSpacing(8)
        right.addWidget(self.back)
        right.addWidget(self.forward)
        column = QVBoxLayout()
        column.addLayout(right)
        column.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 8, 12, 8)
        layout.setSpacing(16)
        layout.addWidget(words, 1)
        layout.addLayout(column)
        state.rounds_changed.connect(self._fill)
        state.view_changed.connect(self._fill)
        state.loading.connect(lambda: self.verdict.setText("reading …"))
        self._fill()

    # ---- parts

    def _clause(self, name: str) -> QPushButton:
        button = QPushButton()
        button.setObjectName("clause")
        button.setAccessibleName(name)
        button.setToolTip(name + ".")
        button.setMenu(QMenu(button))
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        return button

    def add_clause(self) -> None:
        """Open the box in which a clause is typed."""
        self._adding = True
        self._fill()
        self.clause_box.setFocus()

    def _hide_box(self) -> None:
        if self._adding:
            self._adding = False
            self._fill()

    def _step(self, sign: str, name: str, act: Callable[[], None]) -> QPushButton:
        button = QPushButton(sign)
        button.setObjectName("quiet")
        button.setAccessibleName(name)
        button.setToolTip(name + ".")
        button.setFixedWidth(24)
        button.clicked.connect(lambda _checked: act())
        return button

    def _word(self, text: str) -> QLabel:
        label = QLabel(text)
        self._words.append(label)
        return label

    def _chip(self, text: str, name: str, without: Reading) -> QPushButton:
        """A clause that goes away when it is pressed."""
        button = QPushButton(f"{text} ×")
        button.setObjectName("clause")
        button.setToolTip(tip(f"{name}. Press to remove this clause."))
        button.setAccessibleName(f"Remove: {text}")
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.clicked.connect(lambda _checked: self._state.set_reading(without))
        self._chips.append(button)
        return button

    # ---- filling

    def _fill(self) -> None:
        state = self._state
        rounds = state.measured()
        now = next((round_ for round_ in rounds if round_.number == state.number), None)
        base = next((round_ for round_ in rounds if round_.number == state.against), None)
        while self._flow.count():
            self._flow.takeAt(0)
        for old in (*self._words, *self._chips):
            old.hide()
            old.deleteLater()
        self._words, self._chips = [], []
        self.back.setEnabled(state.can_go_back)
        self.forward.setEnabled(state.can_go_forward)
        fixed = (self.round_button, self.against_button, self.case_button, self.clock_button, self.thread_button, self.charge_button,
                 self.level_button, self.add_button, self.clause_box, self.more_button)  # fmt: skip
        for part in (*fixed, self.verdict, self.in_turn, self.back, self.forward):
            part.setVisible(False)
        if now is None:
            return
        for part in (self.verdict, self.back, self.forward):
            part.setVisible(True)
        parts: list[QWidget] = [self._word("Reading"), self.round_button]
        if len(rounds) > 1:
            parts += [self._word("against"), self.against_button]
        if len(state.cases) > 1 or len(now.sizes) > 1:
            parts += [self._word("· case"), self.case_button]
            self._fill_case(now)
        parts += self._clauses(state.reading)
        for shown in parts:
            self._flow.addWidget(shown)
            shown.setVisible(True)
        self._flow.invalidate()
        self.round_button.setText(round_words(now))
        self.against_button.setText(round_words(base) if base else "nothing")
        self._choices(
            self.round_button,
            [(round_words(round_), round_ is now, partial(state.look_at, round_.number, state.against)) for round_ in rounds],
        )
        others = [
            (round_words(round_), round_ is base, partial(state.look_at, state.number, round_.number))
            for round_ in rounds
            if round_ is not now
        ]
        self._choices(self.against_button, [*others, ("nothing", base is None, partial(state.look_at, state.number, None))])
        pair = state.view.pair if state.view is not None else None
        self.in_turn.setVisible(pair is not None and not pair.other_work)
        self.verdict.setText("" if state.view is None else verdict_words(state))
        self.verdict.setToolTip("" if state.view is None else tip(verdict_facts(state)))
        self.updateGeometry()

    def _fill_case(self, now: Round) -> None:
        """The cases of the study, and the sizes of the one that is looked at."""
        self.case_button.setText(", ".join(filter(None, [short_name(now.case), now.size])))
        self._choices(
            self.case_button, [(name, name == now.case, partial(self._state.look_at_part, Part(name))) for name in self._state.cases]
        )
        menu = self.case_button.menu()
        if menu is None or len(now.sizes) < 2:
            return
        menu.addSeparator()
        group = QActionGroup(menu)
        for size in now.sizes:
            action = QAction(plain(size), menu)
            action.setCheckable(True)
            action.setChecked(size == now.size)
            action.triggered.connect(lambda _checked, size=size: self._state.look_at_part(Part(now.case, size)))
            group.addAction(action)
            menu.addAction(action)

    def _clauses(self, reading: Reading) -> list[QWidget]:
        found: list[QWidget] = [self._word("·"), self.clock_button]
        self.clock_button.setText(f"{reading.clock} time" + (", raw" if reading.raw else ""))
        self.clock_button.setToolTip(CLOCK_WORDS[reading.clock])
        self._choices(
            self.clock_button, [(f"{clock} time", clock == reading.clock, self._reads(replace(reading, clock=clock))) for clock in CLOCKS]
        )
        self._tick(self.clock_button, "with the recording overhead (raw)", reading.raw, replace(reading, raw=not reading.raw))
        names = self._thread_names()
        if len(names) > 1 or reading.threads or reading.processes:
            chosen = [*reading.threads, *(f"process {number}" for number in reading.processes)]
            found += [self._word("·"), self.thread_button]
            self.thread_button.setText(", ".join(chosen) or "all threads")
            everywhere = replace(reading, threads=(), processes=())
            choices = [(name, name in reading.threads, self._reads(replace(reading, threads=(name,)))) for name in names]
            self._choices(self.thread_button, [("all threads", not chosen, self._reads(everywhere)), *choices])
            for number in self._processes():
                self._tick(self.thread_button, f"process {number}", number in reading.processes, replace(reading, processes=(number,)))
        for field, word in (("inside", "inside"), ("without", "without")):
            for name in getattr(reading, field):
                rest = tuple(other for other in getattr(reading, field) if other != name)
                change = {field: rest}
                found += [self._word("·"), self._chip(f"{word} {short_name(name)}", f"{word} {name}", replace(reading, **change))]  # type: ignore[arg-type]
        if reading.stretch:
            found += [self._word("·"), self._stretch_chip(reading, reading.stretch)]
        own = tuple(name for name in reading.charged if name != ALL_OTHERS)
        for name in own:
            rest = tuple(other for other in reading.charged if other != name)
            said = f"The time of {name} counts at its callers"
            found += [self._word("·"), self._chip(f"charging {short_name(name)}", said, replace(reading, charged=rest))]
        charged = ALL_OTHERS in reading.charged
        found += [self._word("·"), self.charge_button]
        self.charge_button.setText(CHARGED if charged else RUNS)
        self.charge_button.setToolTip(
            tip("The time of libraries and builtins counts at the line of your code that asked for it. Ctrl+G switches.")
            if charged else tip("Time counts in the function it was spent in. Ctrl+G switches.")
        )  # fmt: skip
        self._choices(self.charge_button, [(CHARGED, charged, self._reads(replace(reading, charged=(*own, ALL_OTHERS)))),
                                           (RUNS, not charged, self._reads(replace(reading, charged=own)))])  # fmt: skip
        self._tick(self.charge_button, "imports as one item each", not reading.machinery, replace(reading, machinery=not reading.machinery))
        found += [
            self._word("· by"),
            self.level_button,
            self._word("·"),
            self.clause_box if self._adding else self.add_button,
            self._word("·"),
            self.more_button,
        ]
        self.level_button.setText(reading.level)
        self.level_button.setToolTip(LEVEL_WORDS[reading.level])
        self._choices(self.level_button, [(level, level == reading.level, self._reads(replace(reading, level=level))) for level in LEVELS])
        return found

    def _thread_names(self) -> list[str]:
        view = self._state.view
        return list(dict.fromkeys(view.loaded.whole.thread_name)) if view else []

    def _processes(self) -> list[int]:
        view = self._state.view
        found = sorted({int(number) for number in view.loaded.whole.thread_process}) if view else []
        return found if len(found) > 1 else []

    def _stretch_chip(self, reading: Reading, stretch: tuple[int, int]) -> QPushButton:
        view = self._state.view
        said, base = "Only a stretch of the run", view.base if view else None
        if base is not None and base.reading.stretch:
            said += f"; round {base.round.number} did the same work {self._stretch_words(base.reading.stretch, base)}"
        return self._chip(self._stretch_words(stretch, view.loaded if view else None), said, replace(reading, stretch=None))

    def _stretch_words(self, stretch: tuple[int, int], of: Loaded | None) -> str:
        from ricerca.report.wording import time_text

        slice_ns = of.whole.facts.slice_ns if of else 0.0
        if not slice_ns:
            return f"slices {stretch[0]} to {stretch[1]}"
        return f"from {time_text(stretch[0] * slice_ns)} to {time_text(stretch[1] * slice_ns)}"

    # ---- menus

    def _choices(self, button: QPushButton, choices: Iterable[tuple[str, bool, Callable[[], None]]]) -> None:
        """Fill a button's menu with choices of which one is made."""
        menu = button.menu()
        if menu is None:
            return
        menu.clear()
        group = QActionGroup(menu)
        for text, chosen, choose in choices:
            action = QAction(plain(text), menu)
            action.setCheckable(True)
            action.setChecked(chosen)
            action.triggered.connect(lambda _checked, choose=choose: choose())
            group.addAction(action)
            menu.addAction(action)

    def _reads(self, reading: Reading) -> Callable[[], None]:
        return partial(self._state.set_reading, reading)

    def _tick(self, button: QPushButton, text: str, ticked: bool, reading: Reading) -> None:
        menu = button.menu()
        if menu is None:
            return
        action = QAction(text, menu)
        action.setCheckable(True)
        action.setChecked(ticked)
        action.triggered.connect(lambda _checked: self._state.set_reading(reading))
        menu.addAction(action)

    def _fill_more(self) -> None:
        menu = self._more_menu
        if menu is None:
            return
        menu.clear()
        add_reading_actions(menu, self._state)
        menu.addSeparator()
        add_claims(menu, self._state)
        pattern = self._state.selected_pattern()
        if pattern:
            menu.addAction(plain(f"Put {pattern} in a layer…"), self.ask_layer)
        for layer in self._state.own_layers:
            self._add_layer(menu, layer)
        menu.addSeparator()
        menu.addAction("Reset the reading", lambda: self._state.set_reading(Reading()))
        menu.addAction("Copy this reading as text", self.copy)
        menu.addAction("Enter a reading…", self.ask)
        menu.addAction("Save this reading…", self.keep)
        kept = self._state.kept_readings
        if kept:
            menu.addSeparator()
            for name, text in kept.items():
                menu.addAction(plain(f"{name}: {text}"), lambda text=text: self.read_text(text))

    def _add_layer(self, menu: QMenu, layer: OwnLayer) -> None:
        inner = menu.addMenu(plain(f"Layer {layer.name} ({short_name(', '.join(layer.patterns))})"))
        if inner is None:
            return
        if layer.name in CLAIMED:
            inner.addAction("Patterns…", partial(self._reshape_layer, layer))
            inner.addAction("Delete", partial(self._state.drop_layer, layer.name))
            return
        inner.addAction("Rename…", partial(self._rename_layer, layer))
        inner.addAction("Change colour…", partial(self._colour_layer, layer))
        inner.addAction("Patterns…", partial(self._reshape_layer, layer))
        inner.addAction("Delete", partial(self._state.drop_layer, layer.name))

    def _rename_layer(self, layer: OwnLayer) -> None:
        name, given = QInputDialog.getText(self, "Name of the layer", f"New name for {layer.name}:", text=layer.name)
        if given:
            self._state.change_layer(layer.name, replace(layer, name=name.strip()))

    def _colour_layer(self, layer: OwnLayer) -> None:
        colour = QColorDialog.getColor(QColor(layer.colour), self, f"Colour of the layer {layer.name}")
        if colour.isValid():
            self._state.change_layer(layer.name, replace(layer, colour=colour.name()))

    def _reshape_layer(self, layer: OwnLayer) -> None:
        asked = f"What belongs to {layer.name}, a pattern in each line: a module or package, a name with * or ?, or a folder."
        text, given = QInputDialog.getMultiLineText(self, "Patterns of the layer", asked, "\n".join(layer.patterns))
        if given:
            patterns = tuple(dict.fromkeys(line.strip() for line in text.splitlines() if line.strip()))
            self._state.change_layer(layer.name, replace(layer, patterns=patterns))

    def ask_layer(self) -> None:
        """Ask for a layer's name and what belongs to it."""
        pattern = self._state.selected_pattern()
        asked = "Pattern: a module or package, a name with * or ?, or a folder. Make it broader or narrower:"
        chosen, given = QInputDialog.getText(self, "Put code in a layer", asked, text=pattern)
        if not given or not chosen.strip():
            return
        known = [layer.name for layer in self._state.own_layers] or [chosen.strip()]
        name, given = QInputDialog.getItem(self, "Put code in a layer", "Name of the layer:", known)
        if given and name.strip():
            self._state.put_in_layer(name, chosen)

    def copy(self) -> None:
        """Put the reading on the clipboard, as `rank --reading` takes it."""
        copy_text(self._state.whole_reading.text)

    def ask(self) -> None:
        """Ask for a reading as text."""
        text, given = QInputDialog.getText(self, "Enter a reading", "A reading, such as: round 2; inside fit; on-CPU time; by module")
        if given and text.strip():
            self.read_text(text)

    def keep(self) -> None:
        """Ask for a name and keep the reading in the study."""
        name, given = QInputDialog.getText(self, "Save this reading", f"A name for: {self._state.reading.text}")
        if given and name.strip():
            self._state.keep_reading(name.strip())

    def read_text(self, text: str) -> None:
        """Enter a reading, or say what is wrong with it."""
        try:
            self._state.set_reading(parse(text))
        except RicercaError as problem:
            self._state.failed.emit(str(problem))


def verdict_facts(state: DeskState) -> str:
    """What the verdict rests on, in words."""
    view = state.view
    if view is None or view.base is None or view.pair is None:
        return ""
    expected = expected_of(state.rounds, view.loaded.round)
    notes = " ".join(comparison_notes(view.pair))
    return f"{notes} {describe(view.base.round)} {describe(view.loaded.round, expected)}".strip()


def verdict_words(state: DeskState) -> str:
    """What the plain runs say of the two rounds."""
    view = state.view
    if view is None or view.verdict is None or view.base is None or view.pair is None:
        return ""
    found, colours = view.verdict, theme.now()
    strong, soft = "<span style='font-weight:600'>", f"<span style='color:{colours.soft}'>"
    ends = found.interval
    if ends and found.verdict == SLOWER:
        ends = (1 / ends[1], 1 / ends[0])  # as the factor beside it: how many times slower
    between = f" {soft}({factor_text(ends[0])} to {factor_text(ends[1])})</span>" if ends else ""
    if found.ratio != found.ratio or not found.evidence:
        other = view.pair.other_work
        why = (
            "the rounds run different programs or arguments" if other else "failed runs are not measured" if found.why else "no plain runs"
        )
        said = f"{strong}no verdict</span>: {why}"
    else:
        said = {
            FASTER: f"<span style='font-weight:600; color:{colours.faster}'>{factor_text(found.ratio)} faster</span>{between}",
            SLOWER: f"<span style='font-weight:600; color:{colours.slower}'>{factor_text(1 / found.ratio)} slower</span>{between}",
            NO_DIFFERENCE: f"{strong}no difference</span>{between}",
            UNDECIDED: f"{strong}undecided</span>, {factor_text(found.ratio)}{between}",
        }[found.verdict]
        said += f" {soft}{plural(found.pairs, 'pair')}</span>" if found.evidence == BY_PAIRS else f" {soft}not in pairs</span>"
    if view.pair.answer.verdict == ANOTHER:
        said += f" · <span style='font-weight:600; color:{colours.slower}'>another answer</span>"
    expected = expected_of(state.rounds, view.loaded.round)
    if expected is not None and view.loaded.round.plain_ns:
        said += f"<span style='color:{colours.soft}'>, {expected.missed(view.loaded.plain_ns or 0)}</span>"
    return said
