"""A function's source as it was recorded, with margin bars and hits beside the lines."""

from __future__ import annotations

import difflib
from functools import lru_cache

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QHelpEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QAbstractScrollArea, QToolTip, QWidget

from ricerca.desk.look import theme
from ricerca.desk.look.painting import paint_bar
from ricerca.desk.look.tips import tip
from ricerca.desk.state import View
from ricerca.desk.work import Workers
from ricerca.engine.source import is_body, span_of
from ricerca.model.languages import PYTHON
from ricerca.report.wording import count_text, plural, time_text

LINE_PX = 20
BAR_ROOM_PX = 46
MARGIN_PX = 10
MOST_COLOURED = 20_000
GONE = "\N{MINUS SIGN}"


@lru_cache(maxsize=32)
def coloured(text: str, language: str = PYTHON) -> tuple[tuple[tuple[str, str], ...], ...]:
    """Lines of (kind, text) pieces; kinds are "keyword", "text", "comment", "number", "name" or ""."""
    from pygments.lexers import get_lexer_by_name
    from pygments.token import Token
    from pygments.util import ClassNotFound

    try:
        lexer = get_lexer_by_name(language.lower(), stripnl=False)
    except ClassNotFound:
        lexer = get_lexer_by_name("text", stripnl=False)

    kinds = ((Token.Comment, "comment"), (Token.Literal.String, "text"), (Token.Literal.Number, "number"),
             (Token.Keyword, "keyword"), (Token.Operator.Word, "keyword"), (Token.Name.Function, "name"),
             (Token.Name.Class, "name"))  # fmt: skip
    lines: list[list[tuple[str, str]]] = [[]]
    for token, piece in lexer.get_tokens(text):
        kind = next((kind for parent, kind in kinds if token in parent), "")
        for number, part in enumerate(piece.split("\n")):
            if number:
                lines.append([])
            if part:
                lines[-1].append((kind, part))
    return tuple(tuple(line) for line in lines)


class SourceView(QAbstractScrollArea):
    """Painted line by line; only what is in sight is drawn. A double click chooses a line to open."""

    line_chosen = pyqtSignal(int)

    def __init__(self, workers: Workers, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._workers = workers
        self.setAccessibleName("Source as it was recorded")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self._lines: tuple[tuple[tuple[str, str], ...], ...] = ()
        self._first = 1
        self._rows: tuple[tuple[str, int], ...] = ()
        """Of each row its sign and line: as it is (blank or +), or as it was (−), with the line it had then."""
        self.difference = False
        """Whether the text of the round compared with is shown, too, where the function was edited."""
        self._old_figures: dict[int, int] = {}
        self._figures: dict[int, tuple[int, int, int]] = {}
        self._base: dict[int, int] = {}
        self._longest = 1
        self._layer = "mine"
        self._message = ""
        self._shown = ""
        self._marked = 0
        self._indent = 0
        """Blanks that all lines begin with: they are not drawn."""

    def show_line(self, line: int) -> None:
        """Mark a line and bring it into sight."""
        self._marked = line
        row = next((number for number, (sign, at) in enumerate(self._rows) if at == line and sign != GONE), line - self._first)
        place, room = row * LINE_PX, self.viewport().height()
        if not self.verticalScrollBar().value() <= place <= self.verticalScrollBar().value() + room - LINE_PX:
            self.verticalScrollBar().setValue(place - room // 2)
        self.viewport().update()

    def show_function(self, view: View | None, function: int) -> None:
        """Show a function of the view."""
        self._lines, self._figures, self._base, self._message, self._marked = (), {}, {}, "", 0
        self._rows, self._old_figures, self._indent = (), {}, 0
        if view is not None and function >= 0:
            self._load(view, function)
        self.verticalScrollBar().setValue(0)
        self.horizontalScrollBar().setValue(0)
        self._measure()
        self._show_slowest()
        self.viewport().update()

    def _load(self, view: View, function: int) -> None:
        table = view.loaded.profile.functions
        text = view.loaded.sources.get(table.file[function])
        self._layer = table.layer[function]
        if text is None:
            self._message = (
                "A builtin has no source to show." if not table.file[function] else "Its source could not be read when it was recorded."
            )
            return
        language = table.language_of(function)
        body = is_body(table.name[function], table.file[function])
        first, last = span_of(text, int(table.first_line[function]), body, language)
        self._first = first
        self._lines = tuple((("", line),) for line in text.splitlines()[first - 1 : last])

        self._rows = tuple((" ", first + row) for row in range(len(self._lines)))
        part = "\n".join(text.splitlines()[first - 1 : last])
        if self.difference and view.edited(function):
            part = self._with_difference(view, function, part)
        count = len(self._rows)

        def colour(lines: tuple[tuple[tuple[str, str], ...], ...]) -> None:
            if self._shown == part:
                self._lines = lines[:count]
                self.viewport().update()

        self._shown = part
        self._indent = min((len(text) - len(text.lstrip()) for text in part.splitlines() if text.strip()), default=0)
        if len(part) <= MOST_COLOURED:
            self._workers.request("colours", lambda: coloured(part, language), colour)
        lines = view.loaded.lines
        for row in np.flatnonzero(view.loaded.line_rows == function):
            line = int(lines.line[row])
            self._figures[line] = (int(lines.self_ns[row]), int(lines.call_ns[row]), int(lines.hits[row]))
            if view.base is not None and view.base_line is not None and view.base_line[row] >= 0:
                self._base[line] = int(view.base.lines.total_ns[view.base_line[row]])
        totals = [max(own, 0) + called for own, called, _hits in self._figures.values()]
        self._longest = max([*totals, *self._base.values(), *self._old_figures.values(), 1])

    def _with_difference(self, view: View, function: int, now: str) -> str:
        """Rows of both texts, the old ones where they were; returns the text of all rows."""
        before = view.text_before(function)
        assert view.base is not None
        base_function, base_first = view.base_function(function), view.base_line_of(function)
        rows, texts, line, base_line = [], [], self._first, base_first
        for piece in difflib.ndiff(before.splitlines(), now.splitlines()):
            sign, text = piece[0], piece[2:]
            if sign == "?":
                continue
            rows.append((GONE, base_line) if sign == "-" else (sign, line))
            texts.append(text)
            base_line += sign != "+"
            line += sign != "-"
        lines = view.base.lines
        for row in np.flatnonzero(view.base.line_rows == base_function):
            self._old_figures[int(lines.line[row])] = int(lines.total_ns[row])
        self._rows = tuple(rows)
        self._lines = tuple((("", text),) for text in texts)
        return "\n".join(texts)

    def _show_slowest(self) -> None:
        """Bring the slowest line into sight when the function is longer than the view."""
        if not self._figures:
            return
        slowest = max(self._figures, key=lambda line: max(self._figures[line][0], 0) + self._figures[line][1])
        place = (slowest - self._first) * LINE_PX
        if place > self.viewport().height() - 2 * LINE_PX:
            self.verticalScrollBar().setValue(place - self.viewport().height() // 2)

    def _measure(self) -> None:
        metrics = theme.metrics(theme.CODE_PX, mono=True)
        longest = max((sum(len(piece) for _kind, piece in line) for line in self._lines), default=0)
        width = BAR_ROOM_PX + self._hits_room + self._number_room + (longest - self._indent) * metrics.horizontalAdvance("m") + MARGIN_PX
        height = len(self._lines) * LINE_PX
        self.verticalScrollBar().setRange(0, max(0, height - self.viewport().height()))
        self.verticalScrollBar().setPageStep(self.viewport().height())
        self.verticalScrollBar().setSingleStep(LINE_PX)
        self.horizontalScrollBar().setRange(0, max(0, width - self.viewport().width()))
        self.horizontalScrollBar().setPageStep(self.viewport().width())

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)  # type: ignore[arg-type]
        self._measure()

    def paintEvent(self, _event: QPaintEvent) -> None:
        colours = theme.now()
        painter = QPainter(self.viewport())
        painter.fillRect(self.viewport().rect(), QColor(colours.paper))
        if self._message:
            painter.setPen(QColor(colours.soft))
            painter.setFont(theme.font())
            painter.drawText(
                self.viewport().rect().adjusted(0, 12, 0, 0),
                Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap,
                self._message,
            )
            return
        top = self.verticalScrollBar().value()
        for number in range(top // LINE_PX, min(len(self._lines), (top + self.viewport().height()) // LINE_PX + 1)):
            self._paint_line(painter, number, number * LINE_PX - top)
        painter.end()

    def _paint_line(self, painter: QPainter, number: int, y: int) -> None:
        colours = theme.now()
        sign, line = self._rows[number]
        gone = sign == GONE
        number_left = BAR_ROOM_PX + self._hits_room
        code_left = number_left + self._number_room
        if sign != " ":
            ground = QColor(colours.soft if gone else colours.accent)
            ground.setAlphaF(0.14)
            painter.fillRect(QRect(0, y, self.viewport().width(), LINE_PX), ground)
        if line == self._marked and not gone:
            painter.fillRect(QRect(0, y, self.viewport().width(), LINE_PX), QColor(colours.chosen))
        painter.save()
        painter.setClipRect(QRect(code_left, y, self.viewport().width(), LINE_PX))
        painter.setFont(theme.font(theme.CODE_PX, mono=True))
        advance = QFontMetricsF(theme.font(theme.CODE_PX, mono=True)).horizontalAdvance("m" * 100) / 100
        x = float(code_left - self.horizontalScrollBar().value()) - self._indent * advance
        kinds = {"keyword": colours.accent, "comment": colours.soft, "text": colours.own("standard library").name(),
                 "number": colours.slower, "name": colours.ink}  # fmt: skip
        for kind, piece in self._lines[number]:
            painter.setFont(theme.font(theme.CODE_PX, mono=True))
            painter.setPen(QColor(colours.soft if gone else kinds.get(kind, colours.ink)))
            painter.drawText(QPointF(x, y + 15), piece)
            x += advance * len(piece)
        painter.restore()
        painter.setFont(theme.font(theme.SMALL_PX))
        figures = None if gone else self._figures.get(line)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(QColor(colours.ink if figures else colours.soft))
        painter.drawText(QRect(number_left, y, self._number_room - MARGIN_PX, LINE_PX), right, f"{sign.strip()}{line}")
        if figures and figures[2] >= 0:
            painter.setPen(QColor(colours.soft))
            painter.drawText(QRect(BAR_ROOM_PX, y, self._hits_room - 4, LINE_PX), right, count_text(figures[2]))
        if figures:
            own, called, _hits = figures
            paint_bar(painter, QRectF(4, y, BAR_ROOM_PX - 6, LINE_PX), self._longest, max(own, 0), max(own, 0) + called,
                      self._base.get(line), self._layer, height=10)  # fmt: skip
        elif gone and line in self._old_figures:
            paint_bar(painter, QRectF(4, y, BAR_ROOM_PX - 6, LINE_PX), self._longest, 0, 0, self._old_figures[line], self._layer, height=10)

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            row = (event.pos().y() + self.verticalScrollBar().value()) // LINE_PX
            text = self._explain(*self._rows[row]) if 0 <= row < len(self._rows) else ""
            if text:
                QToolTip.showText(event.globalPos(), tip(text), self)
            else:
                QToolTip.hideText()
            return True
        return super().viewportEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        row = (int(event.position().y()) + self.verticalScrollBar().value()) // LINE_PX
        if 0 <= row < len(self._rows) and self._rows[row][0] != GONE:
            self.line_chosen.emit(self._rows[row][1])

    def _explain(self, sign: str, line: int) -> str:
        if sign == GONE:
            took = f": {time_text(self._old_figures[line])} then" if line in self._old_figures else ""
            return f"Line {line} as it was in the round compared with{took}."
        figures = self._figures.get(line)
        if figures is None:
            return ""
        own, called, hits = figures
        said = f"Line {line}: {time_text(called)} in what it called (light)"
        said += f", {time_text(own)} on the line itself (dark), {plural(hits, 'hit')}" if own >= 0 else ""
        if line in self._base:
            said += f"; {time_text(self._base[line])} in the round compared with (dashed)"
        return said + "."

    @property
    def heading(self) -> str:
        """What the columns are."""
        if any(sign != " " for sign, _line in self._rows):
            return "+ as it is now, − as it was"
        return "source as recorded: time, hits, line" if self._hits_room else "source as recorded"

    @property
    def _hits_room(self) -> int:
        """Room for the hits, where any line of the function was followed."""
        most = max((hits for _own, _called, hits in self._figures.values()), default=-1)
        return theme.metrics(theme.SMALL_PX).horizontalAdvance(count_text(most)) + MARGIN_PX if most >= 0 else 0

    @property
    def _number_room(self) -> int:
        """Room for the numbers of lines."""
        last = max((line for _sign, line in self._rows), default=0)
        return theme.metrics(theme.SMALL_PX).horizontalAdvance(f"+{last}") + 2 * MARGIN_PX - 4
