"""Lists of lines to choose from, by keys as by the pointer."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPalette
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
)

from gluvo.desk.controls.keys import ENTERS, claimed
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.controls.widgets import plain

MOVES = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)
COLOUR = Qt.ItemDataRole.UserRole + 1
"""The name of a text's colour."""


class Coloured(QStyledItemDelegate):
    """Lets texts keep their colours in the chosen line, too."""

    def initStyleOption(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        super().initStyleOption(option, index)
        colour = index.data(Qt.ItemDataRole.ForegroundRole)
        if colour is not None:
            option.palette.setBrush(QPalette.ColorRole.HighlightedText, colour)


class Table(QTableWidget):
    """Arrows choose a line, Enter or a double click does what the list is for, H hears the chosen line where it can be
    heard. All other keys are the window's."""

    entered = Signal(int)
    heard = Signal(int)

    def __init__(
        self, name: str, tip: str, columns: Sequence[tuple[str, int]], tall: int = 27, *, hears: bool = False
    ) -> None:
        """`columns`: heads, and widths in pixels; those of width 0 share what is left. `tall`: pixels a line."""
        super().__init__(0, len(columns))
        self._hears = hears
        self.setHorizontalHeaderLabels([head for head, _ in columns])
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(tall)
        self.setShowGrid(False)
        self.setItemDelegate(Coloured(self))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setTabKeyNavigation(False)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        header = self.horizontalHeader()
        header.setMinimumSectionSize(24)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setHighlightSections(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        for n, (_, width) in enumerate(columns):
            if width:
                self.setColumnWidth(n, width)
            else:
                header.setSectionResizeMode(n, QHeaderView.ResizeMode.Stretch)
        theme.changed.connect(self._recolour)
        self.cellDoubleClicked.connect(lambda row, _column: self.entered.emit(row))

    def show_line(self, row: int, cells: Sequence[tuple[str, str]]) -> None:
        """Texts from the first column on, each with the name of its colour."""
        for column, (text, colour) in enumerate(cells):
            item = self.item(row, column)
            if item is None:
                item = QTableWidgetItem()
                self.setItem(row, column, item)
            item.setText(text)
            item.setData(COLOUR, colour)
            item.setForeground(QColor(colours()[colour]))
            item.setToolTip(plain(text))

    def _recolour(self) -> None:
        for row in range(self.rowCount()):
            for column in range(self.columnCount()):
                item = self.item(row, column)
                if item is not None and (colour := item.data(COLOUR)):
                    item.setForeground(QColor(colours()[colour]))

    def choose_first(self) -> None:
        """So that keys have a line to begin with."""
        if self.rowCount() and self.currentRow() < 0:
            self.setCurrentCell(0, 0)

    def event(self, event: QEvent) -> bool:
        hears = (Qt.Key.Key_H,) if self._hears else ()
        return claimed(event, (*MOVES, *ENTERS, *hears)) or super().event(event)

    def _is_hear(self, event: QKeyEvent) -> bool:
        held = event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        return self._hears and event.key() == Qt.Key.Key_H and held == Qt.KeyboardModifier.NoModifier

    def keyPressEvent(self, event: QKeyEvent) -> None:
        row = self.currentRow()
        if event.key() in ENTERS and row >= 0:
            self.entered.emit(row)
        elif self._is_hear(event) and row >= 0:
            self.heard.emit(row)
        elif event.key() in (Qt.Key.Key_Home, Qt.Key.Key_End):  # of lines; Qt's own go to a line's ends
            self.setCurrentCell(
                0 if event.key() == Qt.Key.Key_Home else self.rowCount() - 1, max(0, self.currentColumn())
            )
        elif event.key() in MOVES:
            super().keyPressEvent(event)
        else:
            event.ignore()
