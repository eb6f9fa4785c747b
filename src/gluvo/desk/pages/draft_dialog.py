"""Draft a start: what a strip asks for, part by part with its reason; kept or dropped, heard, and taken at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import msgspec
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import QDialog, QFileDialog, QGridLayout, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from gluvo.advise.drafts import MOST_STRENGTH
from gluvo.desk.charts.evidence_view import EvidenceView
from gluvo.desk.controls.flow import Elided, Lines
from gluvo.desk.controls.keys import claimed
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import button, figure, label, line
from gluvo.desk.model.drafting import Drafting
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.evidence import Evidence
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import octaves
from gluvo.render.joint import Joint
from gluvo.steps.settings import number, settings_of


class DraftSettings(msgspec.Struct, frozen=True, kw_only=True):
    """How much of a draft."""

    strength: Annotated[
        float,
        number(
            "Strength",
            "%",
            0.0,
            MOST_STRENGTH,
            "More or less of every part: of what is reduced, raised and cut. A target is a target at any strength, and what is "
            "there or not, such as a low cut, is there.",
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0


class PartsTable(Table):
    """What is proposed: K keeps or drops a part, H hears the whole of it, Enter takes it."""

    OWN = (Qt.Key.Key_K,)

    def __init__(self, keep: Callable[[int], None]) -> None:
        super().__init__(
            "Parts of the draft",
            "Each is an ordinary edit. K, or a click on its mark, keeps or drops it; H hears all that is kept; Enter takes it.",
            (("", 34), ("What", 0), ("Why", 0)),
            44,
            hears=True,
        )
        self._keep = keep
        self.setWordWrap(True)
        self.cellClicked.connect(lambda row, column: keep(row) if column == 0 else None)

    def event(self, event: QEvent) -> bool:
        return claimed(event, self.OWN) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_K and self.currentRow() >= 0 and not event.isAutoRepeat():
            self._keep(self.currentRow())
        else:
            super().keyPressEvent(event)


LEAST_DB = 3.0
"""dB that the picture reaches to both sides, at least."""
FIGURES: tuple[tuple[str, str, int, Callable[[Joint], float]], ...] = (
    ("Loudness", "LUFS", 1, lambda joint: joint.figures().integrated),
    ("True peak", "dBTP", 1, lambda joint: joint.figures().true_peak),
    ("Peak to loudness", "dB", 1, lambda joint: joint.figures().plr),
    ("Loudness range", "LU", 1, lambda joint: joint.figures().loudness_range),
    ("Mono loss", "dB", 1, lambda joint: joint.figures().mono_loss),
)
"""What is told before and after: name, unit, decimals, and how it is read."""


class DraftDialog(QDialog):
    """Over the window, until it is taken or left."""

    def __init__(self, parent: QWidget, bench: Workbench, strip: str) -> None:
        super().__init__(parent)
        self._bench = bench
        self.drafting = drafting = Drafting(bench, strip, self)
        self.setWindowTitle(f"Draft a start for {drafting.name}")
        window = parent.window()
        self.resize(max(900, window.width() - 100), max(560, window.height() - 140))
        column = QVBoxLayout(self)
        column.setSpacing(8)
        head = QHBoxLayout()
        self.title = label(f"A start for {drafting.name}", "title")
        self.words = Elided("", "caption", 600)
        head.addWidget(self.title)
        head.addWidget(self.words, 1)
        self.like = button(
            "As in…",
            "Take the chain of the strip of the same name of another session, aimed anew at what it does there.",
            self._ask_as_in,
        )
        self.anew = button("From what is here", "Look at what is here again.", self._start)
        for made in (self.like, self.anew):
            made.setAutoDefault(False)
            head.addWidget(made)
        column.addLayout(head)
        row = QHBoxLayout()
        row.setSpacing(16)
        self.table = PartsTable(self._flip)
        self.table.entered.connect(lambda _: self.take())
        self.table.heard.connect(lambda _: self.hear())
        left = QVBoxLayout()
        left.addWidget(self.table, 3)
        self.picture_head = label("What it changes by frequency, at equal loudness", "caption")
        self.picture = EvidenceView()
        self.picture.setMinimumHeight(170)
        left.addWidget(self.picture_head)
        left.addWidget(self.picture, 2)
        row.addLayout(left, 5)
        row.addWidget(line(vertical=True))
        row.addWidget(self._side(), 2)
        column.addLayout(row, 1)
        foot = QHBoxLayout()
        foot.addWidget(
            label(
                "↑ ↓ choose  ·  K keeps or drops  ·  H hears it at equal loudness  ·  Enter takes it  ·  Esc leaves",
                "caption",
            )
        )
        foot.addStretch(1)
        self.bar = QProgressBar()
        self.bar.setFixedWidth(140)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("How far it is")
        self.stop_button = button("Stop", "Look no further, and leave everything as it is.", self.reject)
        self.hear_button = button(
            "Hear",
            "Hear what is kept of it at equal loudness; again for the song as it is (H).",
            self.hear,
            checkable=True,
        )
        self.take_button = button(
            "Take it", "What is kept, as one edit that Ctrl+Z takes back (Enter).", self.take, "main"
        )
        foot.addWidget(self.bar)
        for made in (self.stop_button, self.hear_button, self.take_button):
            made.setAutoDefault(False)
            foot.addWidget(made)
        column.addLayout(foot)
        drafting.changed.connect(self.refresh)
        self._start()
        self.table.setFocus()

    def _side(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        self.strength = Ruler(settings_of(DraftSettings)["strength"])
        self.strength.moved.connect(self.strength.set_value)
        self.strength.settled.connect(lambda: self.drafting.set_strength(self.strength.value))
        column.addWidget(self.strength)
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        for n, head in enumerate(("", "as it is", "with it", "")):
            grid.addWidget(label(head, "caption"), 0, n)
        self.figures = []
        for n, (name, unit, _, _) in enumerate(FIGURES, start=1):
            cells = [label("", "figure"), label("", "figure")]
            grid.addWidget(label(name), n, 0)
            for k, cell in enumerate(cells, start=1):
                cell.setAlignment(Qt.AlignmentFlag.AlignRight)
                grid.addWidget(cell, n, k)
            grid.addWidget(label(unit, "caption"), n, 3)
            self.figures.append(cells)
        grid.setColumnStretch(3, 1)
        column.addLayout(grid)
        self.told_head = label("To be mended where it is", "caption")
        self.told = Lines(8)
        column.addWidget(self.told_head)
        column.addWidget(self.told)
        column.addStretch(1)
        return holder

    # --- what the user does ----------------------------------------------------------------------------------

    def _start(self) -> None:
        self.drafting.start()
        self.table.setFocus()

    def _ask_as_in(self) -> None:
        folder = str(self._bench.document.path.parent)
        path, _ = QFileDialog.getOpenFileName(
            self, "The session whose chain to take", folder, "Gluvo sessions (*.gluvo)"
        )
        if path:
            self.drafting.start_as_in(Path(path))
            self.table.setFocus()

    def _flip(self, n: int) -> None:
        self.drafting.keep(n, n not in self.drafting.kept)

    def hear(self) -> None:
        if self.drafting.made is not None or self.drafting.heard:
            self.drafting.hear(not self.drafting.heard)
        self.refresh()

    def take(self) -> None:
        """Take it; nothing while it is not made, or where nothing is kept."""
        if self.drafting.take():
            self.accept()

    # --- keeping up ------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        drafting, draft = self.drafting, self.drafting.draft
        parts = draft.parts if draft is not None else ()
        row = max(0, self.table.currentRow())
        self.table.blockSignals(True)
        self.table.setRowCount(len(parts))
        for n, part in enumerate(parts):
            kept = n in drafting.kept
            colour = "ink" if kept else "faint"
            self.table.show_line(
                n,
                (
                    ("☑" if kept else "☐", "signal" if kept else "faint"),
                    (part.title, colour),
                    (f"{part.why} ({part.figures}.)", "faint"),
                ),
            )
        if parts and self.table.currentRow() < 0:
            self.table.setCurrentCell(min(row, len(parts) - 1), 0)
        self.table.resizeRowsToContents()
        for n in range(len(parts)):
            self.table.setRowHeight(n, self.table.rowHeight(n) + 10)
        self.table.blockSignals(False)
        self.words.setText(self._state())
        self.strength.set_value(drafting.strength)
        self.strength.setEnabled(bool(parts))
        for k, joint in enumerate(drafting.ends()):
            for (_, _, decimals, read), cells in zip(FIGURES, self.figures, strict=True):
                cells[k].setText("–" if joint is None or drafting.made is None else figure(read(joint), decimals))
        self._show_picture()
        told = draft.told if draft is not None else ()
        self.told_head.setVisible(bool(told))
        self.told.setText("\n".join(one.text for one in told))
        self.bar.setVisible(drafting.working)
        self.bar.setValue(round(100.0 * drafting.share))
        self.stop_button.setVisible(drafting.working)
        self.hear_button.setEnabled(drafting.made is not None and bool(drafting.kept))
        self.hear_button.setChecked(drafting.sounding)
        self.take_button.setEnabled(drafting.made is not None and bool(drafting.kept))

    def _show_picture(self) -> None:
        """Both spectra, at equal loudness."""
        before, after = self.drafting.ends()
        evidence = None
        if before is not None and after is not None and min(before.loudness(), after.loudness()) > SILENT:
            centres = octaves(before.rate, 30.0, 6)
            was, now = (joint.tone(None).smoothed("stereo", 3, centres) - joint.loudness() for joint in (before, after))
            evidence = Evidence(centres, now - was, "frequency", "dB", reach=LEAST_DB)
        self.picture.show_evidence(evidence)
        self.picture.setVisible(evidence is not None)
        self.picture_head.setVisible(evidence is not None)

    def _state(self) -> str:
        drafting, draft = self.drafting, self.drafting.draft
        if draft is None:
            return "looking at what is there …" if drafting.working else "It was stopped."
        if not draft.parts:
            return "Nothing here asks for anything."
        if draft.replaces:
            return f"as in {drafting.like}, in place of the steps that are there"
        if drafting.like:
            return f"as in {drafting.like}"
        if drafting.short:
            return drafting.short
        return "nothing is changed until you take it"

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()  # taken by the table alone
        else:
            super().keyPressEvent(event)

    def done(self, result: int) -> None:
        self.drafting.end()
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.drafting.end()
        super().closeEvent(event)
