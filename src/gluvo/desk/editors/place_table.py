"""Places of a song as a list that seeks and loops: where a step takes most, where a source was clipped."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal

from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import clock


class PlaceTable(Table):
    """Enter or a double click goes to the chosen one and loops around it; again lets it play on."""

    wanted = Signal(float)
    """A place in seconds."""

    def __init__(self, name: str, what: str, tip: str) -> None:
        """`what`: the head of what is told of each place."""
        super().__init__(
            name,
            f"{tip} Enter goes to the chosen one and plays a moment around it again and again; Enter once more lets it "
            "play on.",
            (("", 34), ("Where", 100), (what, 130), ("Section", 0)),
            22,
        )
        self.entered.connect(lambda row: self.wanted.emit(self._found[row][0]))
        self._found: Sequence[tuple[float, str, str]] = ()
        theme.changed.connect(self._fill)

    def show_found(self, found: Sequence[tuple[float, str, str]]) -> None:
        """Places in seconds, what is told of each, and the name of the section that it lies in."""
        if found != self._found:
            self._found = found
            self._fill()

    def _fill(self) -> None:
        self.setRowCount(len(self._found))
        for row, (seconds, told, section) in enumerate(self._found):
            self.show_line(
                row, ((str(row + 1), "faint"), (clock(seconds), "ink"), (told, "reduction"), (section, "ink"))
            )
        self.choose_first()
