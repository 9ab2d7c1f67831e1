"""A page waits with drawing a view until it is seen, so that only one at a time takes the interface's time."""

from __future__ import annotations

from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QWidget

from ricerca.desk.state import DeskState, View


class SeenPage(QWidget):
    """Draws anew when the view changes, or when it is shown after a change that it did not see."""

    def __init__(self, state: DeskState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._stale = True
        state.view_changed.connect(self.refresh)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Draw what is read now, as soon as the page is seen."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        if self._state.view is not None:
            self.draw(self._state.view)
        else:
            self.clear()

    def draw(self, view: View) -> None:
        """Draw a view."""
        raise NotImplementedError

    def clear(self) -> None:
        """Show that there is nothing to read."""
