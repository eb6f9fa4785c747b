"""The list of deliverables: what each is, what is expected, and what was measured once it was written."""

from __future__ import annotations

from functools import partial

import msgspec
from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QProgressBar, QTableWidget, QTableWidgetItem, QWidget

from gluvo.advise.loudness_target import measured_by
from gluvo.deliver.encoding import Encoding
from gluvo.deliver.formats import FORMATS
from gluvo.deliver.targets import loudness_of
from gluvo.desk.controls.keys import claimed
from gluvo.desk.controls.table import Coloured
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.controls.widgets import button, figure, plain
from gluvo.desk.model.delivery import Delivery
from gluvo.session.records import Deliverable
from gluvo.session.song_parts import in_words

ROW_COLUMNS = (
    "For",
    "File",
    "Target, or part",
    "Expected now",
    "Measured in the file",
    "After encoding",
    "Verdict",
    "",
)
WIDTHS = (96, 122, 112, 96, 130, 88, 0, 56)
"""Pixels; 0 takes what is left."""


LEAST_ROWS = 5
"""Rows that are in sight at least, if there are so many."""
KEYS = (
    Qt.Key.Key_Up,
    Qt.Key.Key_Down,
    Qt.Key.Key_Home,
    Qt.Key.Key_End,
    Qt.Key.Key_F2,
    Qt.Key.Key_Return,
    Qt.Key.Key_Enter,
)
"""What the table takes; all else is the window's."""


class RowsTable(QTableWidget):
    """One line a row; the chosen one is set beside the table. A double click or F2 renames, Delete takes it off."""

    chosen = Signal(str)

    def __init__(self, delivery: Delivery) -> None:
        super().__init__(0, len(ROW_COLUMNS))
        self._delivery, self._bench = delivery, delivery.bench
        self.setHorizontalHeaderLabels(list(ROW_COLUMNS))
        self.setAccessibleName("Deliverables")
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(30)
        self.setShowGrid(False)
        self.setItemDelegate(Coloured(self))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        header = self.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setMinimumSectionSize(40)
        header.setHighlightSections(False)
        for n, width in enumerate(WIDTHS):
            if width:
                self.setColumnWidth(n, width)
            else:
                header.setSectionResizeMode(n, QHeaderView.ResizeMode.Stretch)
        self.cellChanged.connect(self._renamed)
        self.currentCellChanged.connect(lambda row, *_: self._choose(row))
        self._ids: list[str] = []
        self._ends: dict[int, tuple[str, str, QWidget]] = {}
        """What stands at the end of each line: its kind, whose it is, and itself."""
        theme.changed.connect(self.refresh)

    @property
    def current(self) -> str:
        """The id of the chosen row; empty where there is none."""
        row = self.currentRow()
        return self._ids[row] if 0 <= row < len(self._ids) else ""

    def choose(self, id: str) -> None:
        if id in self._ids:
            self.setCurrentCell(self._ids.index(id), 0)

    def _choose(self, row: int) -> None:
        if 0 <= row < len(self._ids):
            self.chosen.emit(self._ids[row])

    def refresh(self) -> None:
        """Show the rows as they are."""
        rows = self._bench.session.deliverables
        self.blockSignals(True)
        ids = [d.id for d in rows]
        if ids != self._ids:
            before = self.current
            self._ids = ids
            self.setRowCount(len(rows))
            self._ends = {n: end for n, end in self._ends.items() if n < len(rows)}
            if ids:
                self.setCurrentCell(ids.index(before) if before in ids else len(ids) - 1 if before else 0, 0)
        for n, d in enumerate(rows):
            self._show(n, d)
        self.setColumnHidden(ROW_COLUMNS.index("After encoding"), not any(FORMATS[d.format].lossy for d in rows))
        self.blockSignals(False)
        self.setMinimumHeight(36 + 30 * min(LEAST_ROWS, max(2, len(rows))) + 4)
        self.setMaximumHeight(36 + 30 * max(2, len(rows)) + 4)

    def _show(self, n: int, d: Deliverable) -> None:
        c, format = colours(), FORMATS[d.format]
        target = d.target or self._bench.session.target
        kind = f"{d.bit_rate}k" if format.lossy else f"{d.bits.replace('32f', '32 float')}"
        rate = f" · {d.rate / 1000:g} kHz" if d.rate else ""
        section = self._bench.session.section(d.section)
        part = {"song": "", "sections": " · by sections"}.get(
            d.scope, f" · {section.name if section else 'which section?'}"
        )
        of = in_words(self._bench.session, d)
        cells: list[tuple[str, str, str]] = [
            (d.name, "ink", "Double-click or press F2 to rename."),
            (f"{format.name} {kind}{rate}{part}", "ink", self._file_words(d)),
            (of, "ink", plain(of))
            if of
            else (
                target.name + ("" if d.target else " (song's)"),
                "ink" if d.target else "faint",
                plain(target.source),
            ),
            (*self._expected(d), "What the file should measure, from the song as it now is."),
            *self._measured(d),
        ]
        for column, (text, colour, tip) in enumerate(cells):
            item = self.item(n, column)
            if item is None:
                item = QTableWidgetItem()
                if column:
                    item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.setItem(n, column, item)
            item.setText(text)
            item.setForeground(QColor(c[colour]))
            item.setToolTip(tip)
        self._work(n, d)

    def _file_words(self, d: Deliverable) -> str:
        words = [] if d.dither == "none" else [f"dither {d.dither}"]
        words += [f"margin {d.margin:.2f} dB"] if d.margin else []
        words += [f"fade in {d.fade_in:g} s"] if d.fade_in else []
        words += [f"fade out {d.fade_out:g} s"] if d.fade_out else []
        return " · ".join(words) or "Plain."

    def _expected(self, d: Deliverable) -> tuple[str, str]:
        song = self._bench.picture.song_render
        if song is None:
            return "…", "faint"
        if d.of != "mix":
            return "–", "faint"
        colour = "ink" if self._bench.picture.song_current else "faint"
        f = song.result.figures()
        if d.target is not None:
            peak = min(f.true_peak, d.target.true_peak - d.margin)
            return f"{figure(d.target.loudness)} · ≤ {figure(d.target.true_peak - d.margin)}", colour
        peak = f.true_peak - d.margin
        return f"{figure(loudness_of(f, self._bench.session.target))} · {figure(peak)}", colour

    def _measured(self, d: Deliverable) -> list[tuple[str, str, str]]:
        """What was measured, the peak after encoding, and the verdict."""
        result = self._delivery.results.get(d.id)
        peaks = (
            self._delivery.encode_check.found.get(Encoding(d.format, d.bit_rate)) if FORMATS[d.format].lossy else None
        )
        target = d.target or self._bench.session.target
        after = ("", "faint", "")
        if peaks is not None:
            high = peaks.figures.true_peak
            over = high > target.true_peak
            after = (
                f"{figure(high, 2)} dBTP",
                "over" if over else "ink",
                "The decoded true peak; see the encode check.",
            )
        if result is None:
            before = self._delivery.delivered.of(d)
            if before is None:
                return [("not written yet", "faint", ""), after, ("", "faint", "")]
            measured, words, good = before
            return [
                (measured, "faint", "As it was measured then."),
                after,
                (words, "good" if good else "faint", plain(words)),
            ]
        words, good = self._delivery.verdict(d)
        if result.outcome.trouble:
            return [("not written", "over", plain(words)), after, (words, "over", plain(words))]
        file = result.outcome.files[0]
        f = file.figures
        mended = (
            f"Rate conversion lifted peaks by up to {file.mended:.2f} dB; the ceiling was kept." if file.mended else ""
        )
        count = len(result.outcome.files)
        text = f"{figure(loudness_of(f, target))} {measured_by(target).unit} · {figure(f.true_peak, 2)}"
        if count > 1:
            text = f"{count} files"
        if FORMATS[d.format].lossy:
            after = (
                f"{figure(f.true_peak, 2)} dBTP",
                "over" if f.true_peak > target.true_peak + 0.05 else "ink",
                "As read back.",
            )
        tip = plain("\n".join([*(str(w.path) for w in result.outcome.files), mended]).strip())
        if self._delivery.stale(d):
            return [
                (text, "faint", tip),
                after,
                (
                    "changed since",
                    "faint",
                    "The file is of an earlier state of the session: write it again to have what is there now.",
                ),
            ]
        return [(text, "ink", tip), after, (words, "good" if good else "over", plain(words))]

    def _work(self, n: int, d: Deliverable) -> None:
        """A button to write the row; while it is written, how far it is, and a way to stop it."""
        share = self._delivery.shares.get(d.id)
        kind, place = ("bar" if share is not None else "button"), len(ROW_COLUMNS) - 1
        if self._ends.get(n, ("", "", None))[:2] != (kind, d.id):
            made: QWidget
            if share is None:
                made = button("Write", "Write this row alone.", partial(self.write_one, d.id), "plain")
            else:
                made = _Bar()
                made.clicked.connect(partial(self._delivery.stop, d.id))
            if (old := self.cellWidget(n, place)) is not None:
                old.hide()  # it goes only when the window has time
            self._ends[n] = kind, d.id, made
            self.setCellWidget(n, place, made)
        bar = self._ends[n][2]
        if isinstance(bar, _Bar):
            bar.setValue(round(1000 * (share or 0.0)))

    def write_one(self, id: str) -> None:
        """Ask the page to write a row."""
        self.wanted.emit(id)

    wanted = Signal(str)

    def _renamed(self, row: int, column: int) -> None:
        item = self.item(row, column)
        if column or item is None or not 0 <= row < len(self._ids):
            return
        name = item.text().strip()
        old = next(d for d in self._bench.session.deliverables if d.id == self._ids[row])
        if not name or name == old.name:
            self.refresh()
            return
        new = msgspec.structs.replace(old, name=name)
        self._bench.edit(
            "Rename deliverable",
            lambda s: s.replace(deliverables=tuple(new if d.id == new.id else d for d in s.deliverables)),
        )

    def event(self, event: QEvent) -> bool:
        return claimed(event, (*KEYS, Qt.Key.Key_Delete)) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete and self.current:
            self._delivery.remove(self.current)
        elif event.key() in KEYS:
            super().keyPressEvent(event)
        else:
            event.ignore()


class _Bar(QProgressBar):
    """How far a row is; a click stops it."""

    clicked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setRange(0, 1000)
        self.setTextVisible(False)
        self.setToolTip("Being written. Click to stop this row; no half-written file is left.")

    def mousePressEvent(self, event: object) -> None:
        self.clicked.emit()
