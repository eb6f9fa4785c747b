"""The table of figures: a column for each thing that is compared, differences to the one that is chosen."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor, QKeyEvent
from PySide6.QtWidgets import QHeaderView, QTableWidgetItem

from gluvo.compare.profile import LINES, Line
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import figure, plain
from gluvo.desk.model.comparing import Column, Comparison
from gluvo.measure.loudness import SILENT
from gluvo.session.files import replacing

NAMES = 168
"""Pixels of the first column."""


class FiguresTable(Table):
    """Left and right choose the column that the others are compared with; a click on its head does, too."""

    def __init__(self) -> None:
        super().__init__(
            "Figures",
            "Figures of the paired sections. The chosen column is told as it is; the others with their difference to it in "
            "brackets, shaded the more the larger it is. Click a head or press ← → to compare with another column.",
            (("In the paired sections", NAMES),),
            22,
        )
        self.chosen = ""
        self._comparison = Comparison()
        self.horizontalHeader().setSectionsClickable(True)
        self.horizontalHeader().sectionClicked.connect(self._choose)

    def show_comparison(self, comparison: Comparison) -> None:
        self._comparison = comparison
        ids = [c.hearable.id for c in comparison.columns]
        if self.chosen not in ids:
            self.chosen = ids[0] if ids else ""
        self._fill()

    def _choose(self, column: int) -> None:
        if 1 <= column <= len(self._comparison.columns):
            self.chosen = self._comparison.columns[column - 1].hearable.id
            self._fill()

    def choose_next(self, by: int) -> None:
        """Compare with the next column, or the one before."""
        ids = [c.hearable.id for c in self._comparison.columns]
        if ids:
            self._choose(1 + (ids.index(self.chosen) + by) % len(ids))

    def _fill(self) -> None:
        columns = self._comparison.columns
        self.setColumnCount(1 + len(columns))
        self.setRowCount(len(LINES) if columns else 0)
        heads = ["In the paired sections", *(c.hearable.name for c in columns)]
        for n, head in enumerate(heads):
            item = QTableWidgetItem(("▸ " if n and columns[n - 1].hearable.id == self.chosen else "") + head)
            item.setToolTip(plain(head))
            self.setHorizontalHeaderItem(n, item)
        header = self.horizontalHeader()
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Fixed)
        self.setColumnWidth(0, NAMES)
        stretch = len(columns) <= 5
        for n in range(1, len(heads)):
            mode = QHeaderView.ResizeMode.Stretch if stretch else QHeaderView.ResizeMode.Fixed
            header.setSectionResizeMode(n, mode)
            if not stretch:
                self.setColumnWidth(n, 96)
        base = self._comparison.column(self.chosen)
        for row, line in enumerate(LINES):
            self.show_line(row, self._cells(line, base))
            for n, column in enumerate(columns, start=1):
                self._shade(row, n, line, column, base)
            first = self.item(row, 0)
            if first is not None:
                first.setToolTip(plain(f"{line.name}\n{line.tip}"))

    def _cells(self, line: Line, base: Column | None) -> list[tuple[str, str]]:
        name = f"{line.name} {line.unit}".strip()
        return [(name, "ink"), *((self.told(line, c, base), "ink") for c in self._comparison.columns)]

    def told(self, line: Line, column: Column, base: Column | None) -> str:
        """What is told of a column: its figure, and how far it is from the chosen one's."""
        value = line.take(column.profile)
        if base is None or column is base or value <= SILENT + 1.0 or line.take(base.profile) <= SILENT + 1.0:
            return line.show(value)
        apart = value - line.take(base.profile)
        return f"{line.show(value)} ({figure(apart, line.decimals, signed=True)})"

    def _shade(self, row: int, n: int, line: Line, column: Column, base: Column | None) -> None:
        item = self.item(row, n)
        if item is None:
            return
        item.setBackground(QBrush())
        if base is None or column is base:
            item.setBackground(QBrush(colours()["wash"]))
            return
        values = line.take(column.profile), line.take(base.profile)
        if min(values) <= SILENT + 1.0:
            return
        much = min(1.0, abs(values[0] - values[1]) / line.much)
        shade = QColor(colours()["mid"])
        shade.setAlpha(round(90 * much))
        item.setBackground(QBrush(shade))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.choose_next(1 if event.key() == Qt.Key.Key_Right else -1)
        else:
            super().keyPressEvent(event)


def write_csv(path: Path, comparison: Comparison) -> None:
    """Write figures and curves of all columns. Raises `WriteError`."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["figure", "unit", *(c.hearable.name for c in comparison.columns)])
    for line in LINES:
        values = (line.take(c.profile) for c in comparison.columns)
        told = (f"{v:.{line.decimals + 1}f}" if v > SILENT + 1.0 else "" for v in values)
        writer.writerow([line.name, line.unit, *told])
    count = min((len(c.profile.centres) for c in comparison.columns), default=0)
    for what in ("spectrum", "width"):
        writer.writerow([])
        writer.writerow([f"{what} at Hz", "dB", *(c.hearable.name for c in comparison.columns)])
        for n in range(count):
            values = (float(getattr(c.profile, what)[n]) for c in comparison.columns)
            writer.writerow([f"{comparison.columns[0].profile.centres[n]:.1f}", "dB", *(f"{v:.2f}" for v in values)])
    with replacing(path) as file:
        file.write(text.getvalue().encode())
