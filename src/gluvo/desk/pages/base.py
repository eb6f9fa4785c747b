"""What every page is."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from gluvo.play.meters import Readings


class PageWidget(QWidget):
    """A page of the window."""

    def tick(self, readings: Readings, elapsed: float) -> None:
        """Thirty times a second while there is an engine: what it reads, and the seconds since the last time."""
