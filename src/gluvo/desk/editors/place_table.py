"""Places of a song as a list that seeks and loops: where a step takes most, where a source was clipped."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from gluvo.desk.controls.parts import clock
from gluvo.desk.controls.theme import colours, theme

WIDTHS = (34, 100, 130, 160)


class PlaceTable(QTableWidget):
    """Enter or a double click goes to the chosen one and loops around it; again lets it play on."""

    wanted = Signal(float)
    """A place in seconds."""

    def __init__(self, name: str, what: str, tip: str) -> None:
        """`what`: the head of what is told of each place."""
        columns = ("", "Where", what, "Section")
        super().__init__(0, len(columns))
        self.setHorizontalHeaderLabels(list(columns))
        self.setAccessibleName(name)
        self.setToolTip(
            f"{tip} Enter goes to the chosen one and plays a moment around it again and again; Enter once more lets it "
            "play on."
        )
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(22)
        header = self.horizontalHeader()
        for column, width in enumerate(WIDTHS):
            self.setColumnWidth(column, width)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setStretchLastSection(True)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setHighlightSections(False)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setTabKeyNavigation(False)
        self.cellDoubleClicked.connect(lambda row, _column: self._want(row))
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
            for column, text in enumerate((str(row + 1), clock(seconds), told, section)):
                item = QTableWidgetItem(text)
                item.setForeground(QColor(colours()["reduction" if column == 2 else "faint" if column == 0 else "ink"]))
                self.setItem(row, column, item)
        if self._found and self.currentRow() < 0:
            self.setCurrentCell(0, 0)

    def _want(self, row: int) -> None:
        if 0 <= row < len(self._found):
            self.wanted.emit(self._found[row][0])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._want(self.currentRow())
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End):
            super().keyPressEvent(event)
        else:
            event.ignore()
