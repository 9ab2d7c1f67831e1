"""The page of all rounds from the first on: a picture for each case, and a table of what each change gained."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.kept_rounds import Followed
from ricerca.desk.look import theme
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.graph_saving import picture
from ricerca.desk.pages.seen import SeenPage
from ricerca.desk.state import DeskState, View
from ricerca.measure.estimates import FASTER, SLOWER
from ricerca.model.rounds import KEPT, UNDONE
from ricerca.report.export import export_bytes
from ricerca.report.history import History, Place, beside_text, history_csv, place_text, read_history, short_verdict, turns_offered
from ricerca.report.wording import plural, short_name, time_text
from ricerca.study.store import Study

COLUMNS = ("round", "name", "from", "outcome", "a run takes", "against the first", "against its base", "against alternatives")
NUMBERS = (0, 2, 4)
MOST_FOLLOWED = 3
MOST_SHARE = 3.0
"""Of what the first round takes, where the scale ends at the latest."""
TABLE_ROW_PX, COLUMN_AIR_PX = 30, 14
Name = tuple[str, str]


class HistoryPage(SeenPage):
    """All rounds of the study, for each case."""

    pairs_asked = pyqtSignal(list)
    """Numbers of rounds to run in turn, by twos."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(state, parent)
        self.history = History(())
        self.followed: dict[Name, Followed] = {}
        self.summary = QLabel()
        self.summary.setObjectName("soft")
        self.summary.setWordWrap(True)
        self.follow_button = QPushButton("Follow selected")
        self.follow_button.setObjectName("quiet")
        self.follow_button.setToolTip(tip("Show the selected function's self time through all rounds. Press again to stop."))
        self.follow_button.clicked.connect(self.follow_selected)
        self.save_button = QPushButton("Save…")
        self.save_button.setObjectName("quiet")
        self.save_button.setToolTip("Save the picture as SVG, PDF or PNG, or the figures as CSV.")
        self.save_button.clicked.connect(self._ask_place)
        head = QHBoxLayout()
        head.setContentsMargins(16, 10, 12, 4)
        head.addWidget(self.summary, 1)
        head.addWidget(self.follow_button)
        head.addWidget(self.save_button)
        self.plot: Any = None
        self._plot_holder = QVBoxLayout()
        self._plot_holder.setContentsMargins(8, 0, 12, 0)
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setAccessibleName("History of rounds")
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setTabKeyNavigation(False)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        self.table.itemActivated.connect(lambda item: self._state.look_at(self.history.places[item.row()].row.number, self._state.against))
        side, top = self.table.verticalHeader(), self.table.horizontalHeader()
        if side is not None and top is not None:
            side.hide()
            side.setDefaultSectionSize(TABLE_ROW_PX)
            top.setHighlightSections(False)
            top.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addLayout(self._plot_holder, 3)
        layout.addWidget(self.table, 2)
        state.rounds_changed.connect(self.refresh)
        state.study_opened.connect(self.followed.clear)

    # ---- reading

    def draw(self, view: View) -> None:
        """Judge the rounds away from the interface, then show them."""
        path, part = self._state.path, self._state.part
        if path is None:
            return

        def make() -> History:
            with Study.open(path) as study:
                return read_history(study, part)

        self._state.workers.request("history", make, self._show)
        if self.followed:
            self._state.follow(list(self.followed), self._show_followed)

    def clear(self) -> None:
        """Show that there is nothing to read."""
        self.table.setRowCount(0)

    def follow_selected(self) -> None:
        """Follow the selected function through the rounds, or stop following it."""
        name = self._state.selected_name()
        if name is None:
            return
        if name in self.followed:
            del self.followed[name]
            self._paint()
            return
        names = [*self.followed, name][-MOST_FOLLOWED:]
        self._state.follow(names, self._show_followed)

    def _show_followed(self, found: dict[Name, Followed]) -> None:
        self.followed = found
        self._paint()

    def _show(self, history: History) -> None:
        self.history = history
        places = history.places
        self._fill_table(places)
        changes, cases = len(places) - 1, 1 + sum(len(own) > 1 for _case, own in history.cases[1:])
        words = f"{plural(len(places), 'round')}"
        if changes > 0:
            words += ". What a run takes, as a share of the first round, with 95 % intervals; from runs made in turn where there are some"
        if cases > 1:
            words += f". {plural(cases - 1, 'other case')} beside it"
        self.summary.setText(words + ".")
        self._paint()

    # ---- the table

    def _fill_table(self, places: tuple[Place, ...]) -> None:
        colours = theme.now()
        self.table.setRowCount(len(places))
        for at, place in enumerate(places):
            row = place.row
            texts = (str(row.number), row.name, str(place.parent or ""), row.fate or "", time_text(row.run_ns or 0),
                     short_verdict(row.judged) or "baseline", short_verdict(place.against_parent), beside_text(place))  # fmt: skip
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(tip(place_text(place)))
                if column in NUMBERS:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                verdict = {5: row.judged, 6: place.against_parent}.get(column)
                if verdict is not None and verdict.speedup.verdict in (FASTER, SLOWER):
                    item.setForeground(QColor(colours.faster if verdict.speedup.verdict == FASTER else colours.slower))
                self.table.setItem(at, column, item)
            if row.number == self._state.number:
                self.table.selectRow(at)
        self.table.setColumnHidden(2, all(place.parent == (places[at - 1].row.number if at else None) for at, place in enumerate(places)))
        self.table.setColumnHidden(3, not any(place.row.fate for place in places))
        self.table.setColumnHidden(7, not any(place.beside for place in places))
        self.table.resizeColumnsToContents()
        for column in range(len(COLUMNS)):
            self.table.setColumnWidth(column, self.table.columnWidth(column) + COLUMN_AIR_PX)
            head = self.table.horizontalHeaderItem(column)
            if head is not None and column in NUMBERS:
                head.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        header = self.table.horizontalHeader()
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
            header.setStretchLastSection(True)

    def _menu(self, at: QPoint) -> None:
        item = self.table.itemAt(at)
        viewport = self.table.viewport()
        if item is None or viewport is None:
            return
        number = self.history.places[item.row()].row.number
        menu = QMenu(self)
        menu.addAction("Read this round", lambda: self._state.look_at(number, self._state.against))
        menu.addAction("Compare with it", lambda: self._state.look_at(self._state.number, number))
        for text, pairs in turns_offered(self.history.places, item.row()):
            menu.addAction(text, lambda pairs=pairs: self.pairs_asked.emit(pairs))
        for text, fate in (("The change was kept", KEPT), ("The change was undone", UNDONE), ("Neither yet", "")):
            menu.addAction(text, lambda fate=fate: self._state.say_fate(number, fate))
        menu.exec(viewport.mapToGlobal(at))
        menu.deleteLater()

    # ---- the picture

    def _paint(self) -> None:
        """Draw the rounds of all cases, and the functions that are followed."""
        import pyqtgraph as pg

        colours = theme.now()
        if self.plot is None:
            self.plot = pg.PlotWidget()
            self.plot.setMenuEnabled(False)
            self.plot.hideButtons()
            self.plot.setMouseEnabled(x=False, y=False)
            self.plot.setAccessibleName("What a run takes, round by round")
            self._plot_holder.addWidget(self.plot)
        plot = self.plot
        plot.clear()
        plot.setBackground(colours.paper)
        for side in ("left", "bottom"):
            axis = plot.getAxis(side)
            axis.setPen(colours.rule)
            axis.setTextPen(colours.soft)
            axis.setStyle(tickFont=theme.font(theme.SMALL_PX), tickTextOffset=6)
        places = self.history.places
        highest = self._top()
        for number, (case, own) in reversed(list(enumerate(self.history.cases))):
            if number and len(own) < 2:
                continue  # one round alone tells nothing beside the others
            colour = colours.own("mine") if number == 0 else QColor(colours.soft)
            self._paint_case(pg, own, colour, case if len(self.history.cases) > 1 else "", number == 0, highest)
        first_ns = places[0].row.run_ns if places else None
        for name, times in self.followed.items():
            self._paint_followed(pg, places, name, times, first_ns or 1)
        self._paint_axes(plot, places, highest)

    def _top(self) -> float:
        """Where the scale ends: the picture has room for all of the case that is looked at, and for what is not much slower than it."""
        own = max((_high(place) for place in self.history.places), default=1.0)
        others = [_high(place) for _case, places in self.history.cases[1:] for place in places]
        return max([1.0, min(own, MOST_SHARE), *(high for high in others if high <= max(own, 1.0) * 2)])

    def _paint_case(self, pg: Any, places: tuple[Place, ...], colour: QColor, name: str, main: bool, top: float) -> None:
        """One case: lines from each round to those made from it, points with intervals; what lies above the scale ends at its edge."""
        across = {place.row.number: place.x for place in self.history.places}
        places = tuple(replace(place, x=across.get(place.row.number, place.x)) for place in places)
        at = {place.row.number: place for place in places}
        for place in places:
            if place.parent is not None:
                before = at[place.parent]
                style = Qt.PenStyle.DotLine if place.row.fate == UNDONE else Qt.PenStyle.SolidLine
                pen = pg.mkPen(colour, width=2 if main else 1, style=style)
                ends = [min(side.row.of_first, top) for side in (before, place)]
                self.plot.plot([before.x, place.x], ends, pen=pen, antialias=True)
        for place in places:
            share, speedup = place.row.of_first, place.row.judged.speedup if place.row.judged else None
            if share > top:
                self._label(pg, f"{share:.3g}×", place.x, top, colour)
            elif speedup is not None and speedup.interval is not None:
                low, high = 1 / speedup.interval[1], min(1 / speedup.interval[0], top)
                bar = pg.ErrorBarItem(x=_one(place.x), y=_one(share), top=_one(high - share), bottom=_one(share - low), beam=0.05,
                                      pen=pg.mkPen(colour, width=1.2))  # fmt: skip
                self.plot.addItem(bar)
            if main and place.expected_ns and places[0].row.run_ns and place.parent is not None:
                expected = place.expected_ns / (at[place.parent].row.run_ns or 1) * at[place.parent].row.of_first
                self.plot.plot([place.x - 0.09, place.x + 0.09], [expected, expected], pen=pg.mkPen(theme.now().ink, width=2))
        hollow = QColor(theme.now().paper)
        spots = []
        for place in places:
            brush = hollow if place.row.fate == UNDONE else colour
            size = (12 if place.row.number == self._state.number else 9) if main else 6
            spots.append(
                {
                    "pos": (place.x, min(place.row.of_first, top)),
                    "symbol": "o" if place.row.of_first <= top else "t1",
                    "brush": brush,
                    "pen": pg.mkPen(colour, width=2),
                    "size": size,
                }
            )
        self.plot.addItem(pg.ScatterPlotItem(spots=spots))
        if name and places:
            self._label(pg, name, places[-1].x, min(places[-1].row.of_first, top), colour, below=not main)

    def _paint_followed(self, pg: Any, places: tuple[Place, ...], name: Name, times: Followed, first_ns: int) -> None:
        """A function through the rounds: its self time as a share of what the first round takes."""
        colour = QColor(theme.now().accent)
        points = [(place.x, times.get(place.row.number, 0) / (place.row.run_ns or 1) * place.row.of_first) for place in places]
        if not points:
            return
        xs, ys = zip(*points, strict=True)
        self.plot.plot(xs, ys, pen=pg.mkPen(colour, width=1.5, style=Qt.PenStyle.DashLine), symbol="s", symbolSize=5, symbolBrush=colour,
                       symbolPen=colour, antialias=True)  # fmt: skip
        self._label(pg, short_name(name[1]), xs[-1], ys[-1], colour, below=True)

    def _label(self, pg: Any, text: str, x: float, y: float, colour: QColor, below: bool = False) -> None:
        label = pg.TextItem(text, color=colour, anchor=(1, -0.25 if below else 1.25))  # ends at the last point, so that it is never cut
        label.setFont(theme.font(theme.SMALL_PX))
        label.setPos(x, y)
        self.plot.addItem(label)

    def _paint_axes(self, plot: Any, places: tuple[Place, ...], highest: float) -> None:
        steps = max((place.x for place in places), default=0.0)
        room = max(self.width() - 120, 200) / (steps + 1)
        count = max(sum(1 for other in places if round(other.x) == round(place.x)) for place in places) if places else 1
        letters = int(room / max(count, 1) / 7)
        ticks = [
            (place.x, _cut(f"{place.row.number} {place.row.name}", letters) if letters > 5 else str(place.row.number)) for place in places
        ]
        plot.getAxis("bottom").setTicks([ticks])
        step = 0.25 if highest <= 1.6 else 0.5 if highest <= 3 else 1.0 if highest <= 8 else highest // 4
        marks = [(at * step, f"{at * step:.0%}") for at in range(int(highest / step) + 2)]
        plot.getAxis("left").setTicks([marks])
        plot.setXRange(-0.35, steps + 0.6, padding=0)
        plot.setYRange(0, highest * 1.08, padding=0)

    # ---- saving

    def _ask_place(self) -> None:
        file, _kind = QFileDialog.getSaveFileName(self, "Save the history", "history.svg", "Picture (*.svg *.pdf *.png);;Figures (*.csv)")
        if file:
            self.save(Path(file))

    def save(self, file: Path) -> None:
        """Write the picture, or the figures, by the file's ending.

        Raises
        ------
        EnvironmentProblem
            It cannot be written.
        """
        if file.suffix.lower() == ".csv":
            export_bytes(file, history_csv(self.history, self.followed).encode())
        elif self.plot is not None:
            export_bytes(file, picture(self.plot.scene(), file.suffix.lower()))


def _high(place: Place) -> float:
    """The upper end of what a round takes, as a share of the first."""
    speedup = place.row.judged.speedup if place.row.judged is not None else None
    return 1 / speedup.interval[0] if speedup is not None and speedup.interval is not None else place.row.of_first


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1].rstrip() + "…"


def _one(value: float) -> Any:
    import numpy as np

    return np.asarray([value])
