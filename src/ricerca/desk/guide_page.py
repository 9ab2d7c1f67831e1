"""The guide over the window: its pages as they are shipped, with links between them."""

from __future__ import annotations

import re
from importlib.resources import files

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QKeyEvent, QTextCharFormat, QTextCursor
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from ricerca.desk.look import theme

FIRST = "README.md"
PROPORTIONAL = 1  # QTextBlockFormat.LineHeightTypes.ProportionalHeight, which the types of the library do not take as a number
HEADING_PX = {1: 22, 2: 17, 3: 15}
PICTURE = re.compile(r"^!\[.*\]\(.*\)\n?", re.MULTILINE)


class GuidePage(QFrame):
    """A sheet over the window; Esc closes it, Backspace goes back."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Guide")
        self._pages = files("ricerca").joinpath("guide")
        self._shown: list[str] = []
        title = QLabel("Guide")
        title.setFont(theme.font(theme.TITLE_PX, bold=True))
        self.back = QPushButton("Back")
        self.back.clicked.connect(lambda _checked: self.go_back())
        contents = QPushButton("Contents")
        contents.clicked.connect(lambda _checked: self.open(FIRST))
        close = QPushButton("Close")
        close.clicked.connect(self.hide)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Text of the guide")
        self.text.setOpenLinks(False)
        self.text.setFrameShape(QFrame.Shape.NoFrame)
        self.text.anchorClicked.connect(self._follow)
        head = QHBoxLayout()
        head.addWidget(title)
        head.addStretch(1)
        for button in (self.back, contents, close):
            head.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(40, 20, 40, 24)
        layout.setSpacing(12)
        layout.addLayout(head)
        layout.addWidget(self.text, 1)

    def show_over(self, window: QWidget) -> None:
        """Cover the window, at the page that was read last."""
        if not self._shown:
            self.open(FIRST)
        self.setGeometry(window.rect())
        self.show()
        self.raise_()
        self.text.setFocus()

    def open(self, page: str) -> None:
        """Show a page of the guide."""
        self._shown.append(page)
        self._fill()

    def go_back(self) -> None:
        """Show the page before."""
        if len(self._shown) > 1:
            self._shown.pop()
            self._fill()

    def _fill(self) -> None:
        # pictures are not shipped with the program: the window itself is beside the guide
        self.text.setMarkdown(PICTURE.sub("", self._pages.joinpath(self._shown[-1]).read_text("utf-8")))
        self._space_out()
        self.back.setEnabled(len(self._shown) > 1)

    def _space_out(self) -> None:
        """Room between paragraphs, headings of our own size, code in our own type."""
        document = self.text.document()
        if document is None:
            return
        document.setDocumentMargin(28)
        block = document.begin()
        while block.isValid():
            cursor, room, level = QTextCursor(block), block.blockFormat(), block.blockFormat().headingLevel()
            room.setTopMargin(20 if level > 1 else 0)
            room.setBottomMargin(3 if block.textList() or room.nonBreakableLines() else 10)
            room.setLineHeight(125, PROPORTIONAL)
            cursor.setBlockFormat(room)
            if level or room.nonBreakableLines():
                cursor.select(QTextCursor.SelectionType.BlockUnderCursor)
                letters = QTextCharFormat()
                letters.setFont(theme.font(HEADING_PX.get(level, theme.CODE_PX), bold=bool(level), mono=not level))
                cursor.mergeCharFormat(letters)
            block = block.next()

    def _follow(self, link: QUrl) -> None:
        if link.isRelative() and self._pages.joinpath(link.path()).is_file():
            self.open(link.path())
        elif link.scheme() in ("http", "https"):
            QDesktopServices.openUrl(link)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.hide()
        elif event is not None and event.key() == Qt.Key.Key_Backspace:
            self.go_back()
        else:
            super().keyPressEvent(event)
