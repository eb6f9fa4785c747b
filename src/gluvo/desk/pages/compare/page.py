"""The Compare page: all that can be heard side by side, in the sections that belong together."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QStackedLayout, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Elided, Flow
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import Segments, button, line, menu_text, plain
from gluvo.desk.model.comparing import Column, Comparing
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.desk.pages.compare.curves import KINDS, CurvesView
from gluvo.desk.pages.compare.figures_table import FiguresTable, write_csv
from gluvo.desk.pages.compare.findings_panel import FindingsPanel
from gluvo.desk.pages.compare.match_panel import MatchPanel
from gluvo.desk.pages.compare.pairs_panel import PairsPanel
from gluvo.desk.pages.compare.trial_panel import TrialPanel
from gluvo.desk.pages.compare.versions_panel import VersionsPanel
from gluvo.errors import GluvoError

ASIDE = 470
"""Pixels of the right side."""
PANELS = (
    ("differs", "What differs"),
    ("pairs", "Pairs"),
    ("match", "Match"),
    ("trial", "Blind trial"),
    ("versions", "Versions"),
)


class ComparePage(PageWidget):
    branch_wanted = Signal(str)
    """A session of its own is to be made from a version, by its id."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.comparing = Comparing(bench)
        self._off: set[str] = set()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        left = QVBoxLayout()
        left.setContentsMargins(14, 10, 14, 10)
        left.setSpacing(6)
        row.addLayout(left, 1)
        head = QHBoxLayout()
        self.kind = Segments(list(KINDS), "Which curves are shown.")
        self.kind.set_chosen("tone")
        self.kind.chosen.connect(lambda _: self._show_curves())
        head.addWidget(self.kind)
        self.state = Elided("", "caption", 260)
        head.addSpacing(6)
        head.addWidget(self.state, 1)
        head.addWidget(
            button(
                "Export…", "Write the figures as CSV, or the curves as PNG or SVG; the ending decides.", self._export
            )
        )
        left.addLayout(head)
        holder = QWidget()
        self._legend = Flow(0, 6, 2)
        holder.setLayout(self._legend)
        left.addWidget(holder)
        self.toggles: dict[str, QPushButton] = {}
        self.curves = CurvesView()
        left.addWidget(self.curves, 4)
        self.table = FiguresTable()
        left.addWidget(self.table, 5)
        row.addWidget(line(vertical=True))
        aside = QWidget()
        aside.setFixedWidth(ASIDE)
        column = QVBoxLayout(aside)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(8)
        row.addWidget(aside)
        self.chooser = Segments(list(PANELS), "What is shown below.")
        self.chooser.set_chosen("differs")
        chooser = QHBoxLayout()
        chooser.addWidget(self.chooser)
        chooser.addStretch(1)
        column.addLayout(chooser)
        self.findings, self.pairs = FindingsPanel(bench), PairsPanel(bench)
        self.versions = VersionsPanel(bench, self.branch_wanted.emit)
        self._panels = QStackedLayout()
        self.match = MatchPanel(bench, self.comparing)
        self.trial = TrialPanel(bench)
        for panel in (self.findings, self.pairs, self.match, self.trial, self.versions):
            self._panels.addWidget(panel)
        column.addLayout(self._panels, 1)
        keys = [key for key, _ in PANELS]
        self.chooser.chosen.connect(lambda key: self._panels.setCurrentIndex(keys.index(key)))
        self.findings.marked.connect(lambda _: self._show_curves())
        self.comparing.changed.connect(self.refresh)
        Follower(
            self, bench, self._tell_state, besides=lambda: (bench.span_name, bench.renderer, self.comparing.current)
        )
        theme.changed.connect(self.refresh)

    def show_panel(self, key: str) -> None:
        """Show one of the panels on the right."""
        self.chooser.set_chosen(key)
        self._panels.setCurrentIndex([k for k, _ in PANELS].index(key))

    def refresh(self) -> None:
        """Show what was found."""
        found = self.comparing.found
        self.table.show_comparison(found)
        self.findings.show_found(found)
        self._show_curves()
        self._fill_legend(found.columns)
        self._tell_state()

    def _tell_state(self) -> None:
        if not self.isVisible():
            return
        bench = self._bench
        if bench.renderer is None:
            text = "No audio yet."
        elif not self.comparing.current:
            text = "Measuring…"
        else:
            count = len(self.comparing.found.references)
            text = f"{bench.span_name} · corridor of {count} reference{'' if count == 1 else 's'}"
        self.state.setText(text)

    def _fill_legend(self, columns: tuple[Column, ...]) -> None:
        while (item := self._legend.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self.toggles.clear()
        for column in columns:
            id, name = column.hearable.id, column.hearable.name
            made = button(menu_text(name), f"Show or hide the curves of {plain(name)}.", kind="plain", checkable=True)
            made.setIcon(self._swatch(column))
            made.setChecked(id not in self._off)
            made.toggled.connect(lambda on, id=id: self._switch(id, on))
            self._show_off(made, id not in self._off)
            self.toggles[id] = made
            self._legend.addWidget(made)

    def _swatch(self, column: Column) -> QIcon:
        picture = QPixmap(22, 12)
        picture.fill(QColor(Qt.GlobalColor.transparent))
        painter = QPainter(picture)
        painter.setPen(self.curves.pen(column))
        painter.drawLine(1, 6, 21, 6)
        painter.end()
        return QIcon(picture)

    def _switch(self, id: str, on: bool) -> None:
        self._off = self._off - {id} if on else self._off | {id}
        self._show_off(self.toggles[id], on)
        self._show_curves()

    @staticmethod
    def _show_off(made: QPushButton, on: bool) -> None:
        font = made.font()
        font.setStrikeOut(not on)
        made.setFont(font)

    def _show_curves(self) -> None:
        self.curves.show_curves(self.kind.chosen_key, self.comparing.found, self._off, self.findings.chosen)

    def _export(self) -> None:
        start = self._bench.document.folder / f"{self._bench.session.name} - comparison.csv"
        found, _ = QFileDialog.getSaveFileName(
            self, "Export the comparison", str(start), "Figures (*.csv);;Picture (*.png);;Drawing (*.svg)"
        )
        if found:
            self.export(Path(found))

    def export(self, path: Path) -> None:
        """Write figures (CSV) or the curves (PNG, SVG), by the ending."""
        suffix = path.suffix.lower()
        try:
            if suffix == ".csv":
                write_csv(path, self.comparing.found)
            elif suffix == ".svg":
                self.curves.write_svg(str(path))
            elif suffix == ".png":
                self.curves.grab().save(str(path))
            else:
                raise GluvoError(f"{path.name} has none of the endings .csv, .png and .svg.")
            if not path.exists():
                raise GluvoError(f"{path.name} could not be written.")
        except GluvoError as error:
            self._bench.tell(str(error), True)
            return
        self._bench.tell(f"{path.name} was written.", False)

    def showEvent(self, event: object) -> None:
        self.comparing.want(True)
        self.refresh()

    def hideEvent(self, event: object) -> None:
        self.comparing.want(False)
