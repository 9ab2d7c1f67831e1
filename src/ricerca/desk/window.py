"""The window: rounds, sentence, pages, details."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import cast

from PyQt6.QtCore import QEvent, QObject, QSettings, Qt
from PyQt6.QtGui import QCloseEvent, QKeySequence, QMouseEvent, QResizeEvent, QShortcut, QShowEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ricerca.desk.details.panel import DetailsPanel
from ricerca.desk.details.source_view import coloured
from ricerca.desk.example import Examples
from ricerca.desk.guide_page import GuidePage
from ricerca.desk.keys_page import KeysPage
from ricerca.desk.look import theme
from ricerca.desk.look.layouts import stacked
from ricerca.desk.look.tab_order import put_in_order
from ricerca.desk.look.tips import tip
from ricerca.desk.pages.functions import FunctionsPage
from ricerca.desk.pages.graph import GraphPage
from ricerca.desk.pages.history import HistoryPage
from ricerca.desk.pages.leads import LeadsPage
from ricerca.desk.pages.lines import LinesPage
from ricerca.desk.pages.snippets import SnippetsPage
from ricerca.desk.pages.timeline import TimelinePage
from ricerca.desk.pages.tree import TreePage
from ricerca.desk.reading.find_box import FindBox
from ricerca.desk.reading.line import ReadingLine
from ricerca.desk.rounds.column import RoundsColumn
from ricerca.desk.rounds.run_sheet import RunSheet
from ricerca.desk.rounds.turns import TurnsStrip
from ricerca.desk.rounds.watching import Watcher
from ricerca.desk.start_page import StartPage
from ricerca.desk.state import NARROWING, DeskState
from ricerca.desk.work import Workers
from ricerca.report.status import not_told, status_words

DETAILS_SHARE, ROUNDS_SHARE = 0.285, 0.147
PAGES = ("Leads", "Functions", "Lines", "Call tree", "Graph", "Timeline", "History", "Snippets")
PRESSES = (QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonDblClick)


class Window(QMainWindow):
    """One study at a time."""

    def __init__(self, settings: QSettings, path: Path | None = None) -> None:
        super().__init__()
        self.workers = Workers(self)
        self.state = DeskState(self.workers, settings, self)
        self._settings = settings
        self._own_widths = True  # until it is known whether a person set them
        self.setWindowTitle("Ricerca")
        self.functions, self.lines, self.tree = FunctionsPage(self.state), LinesPage(self.state), TreePage(self.state)
        self.leads, self.graph, self.timeline = LeadsPage(self.state), GraphPage(self.state), TimelinePage(self.state)
        self.history, self.snippets = HistoryPage(self.state), SnippetsPage(self.state)
        self.rounds, self.details = RoundsColumn(self.state), DetailsPanel(self.state)
        self.sheet, self.start = RunSheet(self.state), StartPage(self.state)
        self.reading, self.turns = ReadingLine(self.state), TurnsStrip()
        self.watcher = Watcher(self.state, self)
        self.status = QLabel()
        self.status.setObjectName("soft")
        self._build()
        self._connect()
        self._shortcuts()
        geometry = settings.value("window/geometry")
        if geometry is None or not self.restoreGeometry(geometry):
            self.resize(1280, 800)
        self.keep_on_screen()
        sizes = self._settings.value("window/splitter")
        self._own_widths = sizes is not None and self.splitter.restoreState(sizes)
        self.splitter.splitterMoved.connect(self._keep_widths)
        self.workers.request("warm", lambda: coloured("pass"), lambda _lines: None)
        if path is not None:
            self.outer.setCurrentWidget(self.desk)
            self.state.open_study(path)
        else:
            self.outer.setCurrentWidget(self.start_holder)
        self._show_head()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if not self._own_widths:
            details = min(max(int(self.width() * DETAILS_SHARE), 240), 560)
            rounds = min(max(int(self.width() * ROUNDS_SHARE), 166), 240)
            self.splitter.setSizes([rounds, self.width() - rounds - details, details])

    def _keep_widths(self) -> None:
        self._own_widths = True

    def keep_on_screen(self) -> None:
        """Be no larger than the screen has room for, and not outside it."""
        screen = self.screen() or QApplication.primaryScreen()
        if screen is None or self.isMaximized():
            return
        room = screen.availableGeometry()
        size = self.size().boundedTo(room.size())
        self.resize(size)
        left = min(max(self.x(), room.left()), room.right() - size.width() + 1)
        top = min(max(self.y(), room.top()), room.bottom() - size.height() + 1)
        self.move(left, top)

    # ---- building

    def _build(self) -> None:
        head, tabs, foot = self._make_head(), self._make_tabs(), QHBoxLayout()
        self._make_notice()
        reading = self._reading_page = QWidget()
        stacked(reading, tabs, self.pages)
        self.empty = QLabel("This study has no recorded round yet.\nRecord one with “New round…”.")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.middle = QStackedWidget()
        for widget in (reading, self.sheet, self.empty):
            self.middle.addWidget(widget)
        self._make_splitter()
        foot.setContentsMargins(16, 4, 16, 6)
        foot.addWidget(self.status)
        self.desk = QWidget()
        stacked(self.desk, self.reading, self.splitter, foot)
        self.start_holder = QWidget()
        QVBoxLayout(self.start_holder).addWidget(self.start)
        self.outer = QStackedWidget()
        self.outer.addWidget(self.desk)
        self.outer.addWidget(self.start_holder)
        whole = QWidget()
        stacked(whole, head, self.notice, self.turns, self.outer)
        self.setCentralWidget(whole)
        kept = str(self._settings.value("window/page", PAGES[0]))
        self.show_page(PAGES.index(kept) if kept in PAGES else 0)

    def _make_head(self) -> QHBoxLayout:
        self.title = QLabel()
        self.title.setFont(theme.font(theme.TEXT_PX, bold=True))
        self.find_box = FindBox(self.state, self.actions_by_name, self)
        self.find_box.setFixedWidth(280)
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 12, 8)
        head.addWidget(self.title)
        head.addStretch(1)
        head.addWidget(self.find_box)
        return head

    def _make_tabs(self) -> QHBoxLayout:
        self.pages = QStackedWidget()
        for page in (self.leads, self.functions, self.lines, self.tree, self.graph, self.timeline, self.history, self.snippets):
            self.pages.addWidget(page)
        self.tabs = QButtonGroup(self)
        tabs = QHBoxLayout()
        tabs.setContentsMargins(16, 4, 16, 0)
        tabs.setSpacing(0)
        for number, name in enumerate(PAGES):
            button = QPushButton(name)
            button.setObjectName("page")
            button.setCheckable(True)
            button.setToolTip(f"{name} (Ctrl+{number + 1})")
            self.tabs.addButton(button, number)
            tabs.addWidget(button)
        tabs.addStretch(1)
        self.tabs.idClicked.connect(self.show_page)
        return tabs

    def _make_splitter(self) -> None:
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(5)
        for widget in (self.rounds, self.middle, self.details):
            self.splitter.addWidget(widget)
        self.splitter.setStretchFactor(1, 1)
        self.splitter.setCollapsible(1, False)
        self.rounds.setMinimumWidth(160)
        self.details.setMinimumWidth(240)

    def _make_notice(self) -> None:
        self.notice = QFrame()
        self.notice.setObjectName("notice")
        self.notice_text = QLabel()
        self.notice_text.setWordWrap(True)
        self.notice_text.setTextFormat(Qt.TextFormat.PlainText)
        self.notice_text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        close = QPushButton("Close")
        close.setObjectName("quiet")
        close.clicked.connect(self.notice.hide)
        inside = QHBoxLayout(self.notice)
        inside.setContentsMargins(16, 8, 16, 8)
        inside.addWidget(self.notice_text, 1)
        inside.addWidget(close)
        self.notice.hide()

    def focusNextPrevChild(self, next: bool) -> bool:
        """Tab follows the eye, also through cards and clauses that were made anew: the order is that of what is seen now."""
        page = self.pages.currentWidget()
        assert page is not None
        panes = [self.find_box, self.notice, self.turns, self.reading, self.rounds, *self.tabs.buttons(), page, self.details]
        put_in_order([pane for pane in panes if pane.isVisible()])
        return super().focusNextPrevChild(next)

    def _connect(self) -> None:
        state = self.state
        state.study_opened.connect(self._on_study)
        state.view_changed.connect(self._on_view)
        state.failed.connect(self.say)
        state.layers_changed.connect(theme.know_layers)
        state.page_asked.connect(self.show_named_page)
        state.snippet_asked.connect(self.time_snippet)
        self.details.failed.connect(self.say)
        self.rounds.new_round.connect(self.new_round)
        self.reading.in_turn.clicked.connect(lambda _checked: self.run_in_turn())
        self.history.pairs_asked.connect(self.run_pairs)
        self.turns.finished.connect(state.refresh_rounds)
        self.turns.failed.connect(self.say)
        self.sheet.closed.connect(self._leave_sheet)
        self.sheet.made.connect(self._on_made)
        self.start.program_chosen.connect(self._program_dropped)
        self.start.study_chosen.connect(self.open_study)
        self.examples = Examples(self)
        self.start.example_wanted.connect(lambda record: self.examples.open(record))
        self.start.nightly_wanted.connect(lambda: self.examples.open(nightly=True))
        self.start.example_stopped.connect(self.examples.give_up)
        self.examples.told.connect(self.start.show_progress)
        self.examples.ready.connect(self.open_study)
        self.examples.failed.connect(self.say)
        self.watcher.changed.connect(self.rounds.say_changed)
        for table in (self.functions.table, self.lines.table):
            table.opened.connect(lambda _row: self.details.source.setFocus())

    def _shortcuts(self) -> None:
        keys_and_acts: tuple[tuple[str, Callable[[], object]], ...] = (
            ("Ctrl+K", self._to_find),
            ("Ctrl+N", self.new_round),
            ("Ctrl+O", self.choose_study),
            ("Ctrl+E", self.details.open_file),
            ("Ctrl+F", self._to_filter),
            *((f"Ctrl+{number + 1}", partial(self.show_page, number)) for number in range(len(PAGES))),
            ("Ctrl+G", self.state.switch_charge),
            *((keys, partial(self.state.narrow, clause)) for _words, keys, clause in NARROWING),
            ("Alt+Left", self.state.back),
            ("Alt+Right", self.state.forward),
            ("F1", self.show_keys),
            ("Shift+F1", self.show_guide),
            ("Ctrl+Shift+K", self.reading.add_clause),
            ("Ctrl+Q", self.close),
        )
        for keys, act in keys_and_acts:
            QShortcut(QKeySequence(keys), self).activated.connect(act)

    def actions_by_name(self) -> list[tuple[str, Callable[[], None]]]:
        """What can be done, for the find-anything box, each with its key where it has one."""
        state = self.state
        actions: list[tuple[str, str, Callable[[], None]]] = [
            *((f"Show page {name}", f"Ctrl+{number + 1}", partial(self.show_page, number)) for number, name in enumerate(PAGES)),
            ("New round", "Ctrl+N", self.new_round),
            ("Run both rounds in turn", "", self.run_in_turn),
            ("Open a study", "Ctrl+O", self.choose_study),
            ("Open in editor", "Ctrl+E", self.details.open_file),
            ("Export this round", "", self.export),
            ("Follow the selected function through the rounds", "", self.follow_selected),
            ("Time a snippet of the selected function or line", "", self.time_snippet),
            ("Keys", "F1", self.show_keys),
            ("Guide", "Shift+F1", self.show_guide),
            ("Add a clause to the reading", "Ctrl+Shift+K", self.reading.add_clause),
            ("Back to the previous reading", "Alt+Left", state.back),
            ("Forward", "Alt+Right", state.forward),
            *state.reading_actions(),
            ("Start page", "", self.to_start),
            ("Light theme", "", partial(self.wear, "light")),
            ("Dark theme", "", partial(self.wear, "dark")),
            ("System theme", "", partial(self.wear, "system")),
            ("Quit", "Ctrl+Q", self.quit),
        ]
        return [(f"{text}   {key}" if key else text, act) for text, key, act in actions]

    def quit(self) -> None:
        """Close the window."""
        self.close()

    # ---- acting

    def show_keys(self) -> None:
        """Show all keys; Esc closes them."""
        if not hasattr(self, "_keys"):
            self._keys = KeysPage(self)
        self._keys.show_over(self)

    def show_guide(self) -> None:
        """Show the guide; Esc closes it."""
        if not hasattr(self, "_guide"):
            self._guide = GuidePage(self)
        self._guide.show_over(self)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        handle = self.windowHandle()
        if handle is not None:
            handle.installEventFilter(self)  # once more does no harm

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """The mouse's buttons for back and forward work wherever it points: its press is seen here before any widget has it."""
        steps = {Qt.MouseButton.BackButton: self.state.back, Qt.MouseButton.ForwardButton: self.state.forward}
        if isinstance(event, QMouseEvent) and event.type() in PRESSES and event.button() in steps:
            steps[event.button()]()
            return True
        return super().eventFilter(watched, event)

    def run_in_turn(self) -> None:
        """Run the round that is read and that it is compared with in turn, until the verdict is settled."""
        state = self.state
        if state.path is None or state.number is None or state.against is None:
            self.say("Choose two rounds to run in turn.")
        elif not self.sheet.running:
            self.turns.start(state.path, [(state.against, state.number)], state.part)

    def run_pairs(self, pairs: Sequence[tuple[int, int]]) -> None:
        """Run rounds in turn by twos, one after the other."""
        if self.state.path is not None and not self.sheet.running:
            self.turns.start(self.state.path, pairs, self.state.part)

    def open_study(self, path: Path) -> None:
        """Open another study."""
        self.notice.hide()
        self.state.open_study(Path(path))

    def choose_study(self) -> None:
        """Ask for a study and open it."""
        name, _kind = QFileDialog.getOpenFileName(self, "Study to open", str(Path.cwd()), "Studies (*.ricerca)")
        if name:
            self.open_study(Path(name))

    def to_start(self) -> None:
        """Show the start page."""
        self.start.refresh()
        self.outer.setCurrentWidget(self.start_holder)
        self._show_head()

    def _show_head(self) -> None:
        """Title and find-anything box belong to a study; the start page has none."""
        there = self.outer.currentWidget() is self.desk and self.state.path is not None
        self.title.setVisible(there)
        self.find_box.setVisible(there)

    def show_page(self, number: int) -> None:
        """Show one of the pages."""
        self.tabs.button(number).setChecked(True)
        self.pages.setCurrentIndex(number)
        self._settings.setValue("window/page", PAGES[number])
        if self.outer_ready and not self.sheet.running:
            self._to_middle()

    @property
    def outer_ready(self) -> bool:
        """Whether a study is shown."""
        return hasattr(self, "outer") and self.state.path is not None

    def _to_middle(self) -> None:
        self.middle.setCurrentWidget(self._reading_page if self.state.measured() else self.empty)
        self.details.setVisible(self.middle.currentWidget() is self._reading_page)

    def follow_selected(self) -> None:
        """Show the selected function in the history of the rounds."""
        self.show_named_page("History")
        self.history.follow_selected()

    def time_snippet(self) -> None:
        """Begin a snippet with the selected function or line."""
        self.show_named_page("Snippets")
        self.snippets.begin_with_selected()

    def show_named_page(self, name: str) -> None:
        """Go to a page by its name."""
        self.show_page(PAGES.index(name))

    def _to_find(self) -> None:
        self.find_box.setFocus()

    def _to_filter(self) -> None:
        if not isinstance(self.pages.currentWidget(), FunctionsPage | LinesPage):
            self.show_named_page("Functions")
        page = self.pages.currentWidget()
        if isinstance(page, FunctionsPage | LinesPage):
            page.table.filter.setFocus()

    def new_round(self) -> None:
        """Show the run sheet for the next round."""
        if not self.sheet.running:
            self.sheet.prepare(self.state.path)
        self.outer.setCurrentWidget(self.desk)
        self.middle.setCurrentWidget(self.sheet)
        self.details.hide()

    def _program_dropped(self, program: str) -> None:
        self.sheet.prepare(None, program)
        self.outer.setCurrentWidget(self.desk)
        self.middle.setCurrentWidget(self.sheet)
        self.details.hide()

    def _leave_sheet(self) -> None:
        if self.state.path is None:
            self.to_start()
        else:
            self._to_middle()

    def _on_made(self, study: Path, number: int) -> None:
        if study == self.state.path:
            self.state.refresh_rounds(show=number)
            self._to_middle()
        else:
            self.open_study(study)

    def export(self) -> None:
        """Save the round that is read."""
        view = self.state.view
        if view is None:
            return
        name, _kind = QFileDialog.getSaveFileName(self, "Export this round", str(Path.cwd() / "round.md"),
                                                  "Markdown (*.md);;Report (*.html *.pdf);;CSV (*.csv);;JSON (*.json)")  # fmt: skip
        if not name:
            return
        from ricerca.desk.report_process import REPORTS, write_report
        from ricerca.loading import Pair
        from ricerca.report.export import export_text, write_text

        path, study, reading = Path(name), str(self.state.path), self.state.whole_reading

        def save() -> None:
            if path.suffix.lower() in REPORTS:
                write_report(study, path, reading)
            else:
                write_text(path, export_text(Pair(view.loaded, view.base), path.suffix.lower(), study))

        self.workers.request("export", save, lambda _done: self.say(f"Saved {path}."))

    def wear(self, choice: str) -> None:
        """Change to the light, the dark or the system's theme."""
        self._settings.setValue("window/theme", choice)
        app = cast(QApplication, QApplication.instance())
        themes = {"light": theme.LIGHT, "dark": theme.DARK}
        theme.apply(app, themes.get(choice) or theme.system_theme(app))
        self.details.refresh()
        self.reading._fill()
        for widget in self.findChildren(QWidget):
            widget.update()

    def say(self, text: str) -> None:
        """Tell something above the page, until it is closed."""
        self.notice_text.setText(text)
        self.notice.show()
        if self.state.path is None and not self.sheet.running:
            self.outer.setCurrentWidget(self.start_holder)

    # ---- following the state

    def _on_study(self) -> None:
        self.title.setText(self.state.path.name)
        self.title.setToolTip(tip(str(self.state.path)))
        self.setWindowTitle(f"{self.state.path.stem} – Ricerca")
        self.outer.setCurrentWidget(self.desk)
        self._show_head()
        self._to_middle()

    def _on_view(self) -> None:
        if not self.sheet.running and self.middle.currentWidget() is not self.sheet:
            self._to_middle()
        loaded = self.state.view.loaded if self.state.view is not None else None
        self.status.setText(status_words(loaded) if loaded is not None else "")
        self.status.setToolTip(tip(not_told(loaded) if loaded is not None else ""))
        if self.focusWidget() in (None, self.find_box):
            page = self.pages.currentWidget()
            if isinstance(page, FunctionsPage | LinesPage):
                page.table.view.setFocus()
            elif page is self.leads:
                self.leads.to_cards()
            elif isinstance(page, TreePage | GraphPage):
                page.view.setFocus()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._settings.setValue("window/geometry", self.saveGeometry())
        if self._own_widths:
            self._settings.setValue("window/splitter", self.splitter.saveState())
        self.sheet.stop()
        self.turns.wait()
        self.snippets.stop()
        self.examples.stop()
        self.workers.wait()
        event.accept()
