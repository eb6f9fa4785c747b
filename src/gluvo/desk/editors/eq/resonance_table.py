"""What rings in the section, with a cut and an ear for each."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from gluvo.desk.controls.parts import button, figure
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.editors.spectrum_view import PART_COLOURS
from gluvo.dsp.notes import note_of
from gluvo.measure.resonances import Resonance

COLUMNS = ("Part", "Hz", "Note", "Stands out", "Of the time", "Q", "", "")
WIDTHS = (60, 70, 60, 90, 90, 60, 64, 64)


class ResonanceTable(QTableWidget):
    """Enter cuts the chosen one; its buttons cut it, or let it be heard raised."""

    wanted = Signal(object)
    """A `Resonance` is to be cut."""
    heard = Signal(object)
    """A `Resonance` is to be heard, or no longer if it is heard already."""

    def __init__(self) -> None:
        super().__init__(0, len(COLUMNS))
        self.setHorizontalHeaderLabels(list(COLUMNS))
        self.setAccessibleName("Resonances")
        self.setToolTip(
            "Places that stand 4 dB or more over their surroundings for at least half of the section, in what comes out of "
            "the step. Long notes do so, too: listen before you cut. Enter cuts the chosen one by half of what stands out."
        )
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(26)
        header = self.horizontalHeader()
        for column, width in enumerate(WIDTHS):
            self.setColumnWidth(column, width)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setHighlightSections(False)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setTabKeyNavigation(False)
        self._found: Sequence[Resonance] = ()
        theme.changed.connect(self._fill)

    def show_found(self, found: Sequence[Resonance]) -> None:
        if found != self._found:
            self._found = found
            self._fill()

    def _fill(self) -> None:
        self.setRowCount(len(self._found))
        for row, r in enumerate(self._found):
            cells = (
                r.part,
                f"{r.freq:.0f}",
                note_of(r.freq),
                f"{figure(r.prominence)} dB",
                f"{100 * r.steady:.0f} %",
                figure(r.q),
            )
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setForeground(QColor(colours()[PART_COLOURS[r.part] if column == 0 else "ink"]))
                self.setItem(row, column, item)
            cut = button("Cut", "Put a bell here that takes half of it away.", partial(self.wanted.emit, r), "plain")
            hear = button("Hear", "Hear it raised, as in a hunt; again to stop.", partial(self.heard.emit, r), "plain")
            self.setCellWidget(row, len(cells), cut)
            self.setCellWidget(row, len(cells) + 1, hear)
        if self._found and self.currentRow() < 0:
            self.setCurrentCell(0, 0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        row = self.currentRow()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and 0 <= row < len(self._found):
            self.wanted.emit(self._found[row])
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End):
            super().keyPressEvent(event)
        else:
            event.ignore()
