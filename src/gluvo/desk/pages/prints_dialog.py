"""The prints of a stem: taken, told apart, heard old against new, chosen."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QInputDialog, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import ChoiceBox, button, clock, figure, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.dsp.db import db_of
from gluvo.play.duplex import input_ways
from gluvo.session import prints
from gluvo.session.records import Print
from gluvo.session.sounds import AUDIO_SUFFIXES

COLUMNS = (("Print", 0), ("Taken", 92), ("Length", 64), ("LUFS", 56), ("Begins at", 76))
FILTER = f"Audio ({' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"
NONE = (
    "There is one print so far, the file that was brought in. A new one takes its place, lined up with it to the sample; "
    "the old one stays to be heard and gone back to."
)


class PrintsDialog(QDialog):
    """Stays open beside the window and follows the strip that is chosen there. Enter has the chosen print in the song, H hears
    it, Space plays."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent)
        self._bench = bench
        self._shown: tuple[Print, ...] = ()
        self.setWindowTitle("Prints")
        self.setMinimumSize(600, 320)
        column = QVBoxLayout(self)
        self.head = label("", "title")
        column.addWidget(self.head)
        self.table = Table(
            "Prints",
            "The states of this stem's audio, the oldest first. Enter puts the chosen one into the song, H hears the song with "
            "it, as loud as the result.",
            COLUMNS,
            24,
            hears=True,
        )
        self.table.entered.connect(lambda _row: self._use())
        self.table.heard.connect(lambda _row: self._hear())
        self.table.currentCellChanged.connect(lambda *_: self._tell())
        column.addWidget(self.table, 1)
        self.words = Lines(3, "caption")
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.take = button("Take a new print…", "A file that takes this one's place (Ctrl+Alt+I).", self.ask, "main")
        self.use = button("Use", "Have the chosen print in the song (Enter; I goes round). One undo.", self._use)
        self.hear = button("Hear", "The song with the chosen print, level-matched (H).", self._hear)
        self.name = button("Rename…", "Give the chosen print another name (F2).", self._rename)
        self.drop = button("Remove", "Take the chosen print out of the session; its file stays.", self._remove)
        row.addWidget(self.take)
        row.addStretch(1)
        for made in (self.use, self.hear, self.name, self.drop):
            row.addWidget(made)
        column.addLayout(row)
        below = QHBoxLayout()
        self.input = ChoiceBox()
        self.input.setAccessibleName("Input")
        self.input.setToolTip(
            "Where a pass comes from: an input of a device, a monitor of the sound server, or the simulated player."
        )
        self._inputs = input_ways()
        for way in self._inputs:
            self.input.addItem(way.title, way.key)
        self.record = button(
            "Record a pass",
            "Record what another program plays as a new print, heard through the chains while it comes; again to take it.",
            self._record,
        )
        self.came = label("", "caption")
        below.addWidget(label("From an input", "caption"))
        below.addWidget(self.input, 1)
        below.addWidget(self.came)
        below.addWidget(self.record)
        column.addLayout(below)
        bench.input_pass.changed.connect(self._show_pass)
        self._show_pass()
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.prints, s.strips, s.view.strip, s.view.hear),
            besides=lambda: (bench.audio,),
        )
        bench.audio_changed.connect(self._tell)
        self.refresh()
        self.table.setFocus()

    @property
    def chosen(self) -> Print | None:
        row = self.table.currentRow()
        return self._shown[row] if 0 <= row < len(self._shown) else None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif event.key() == Qt.Key.Key_F2:
            self._rename()
        elif event.key() == Qt.Key.Key_I and not event.modifiers():
            self._bench.prints.next()
        else:
            super().keyPressEvent(event)

    def refresh(self) -> None:
        session, stem = self._bench.session, self._bench.prints.stem
        before = self.chosen
        self._shown = prints.of(session, stem.id) if stem is not None else ()
        self.head.setText(f"Prints of {stem.name}" if stem is not None else "No stem is chosen")
        self.table.setRowCount(len(self._shown))
        for n, one in enumerate(self._shown):
            has = stem is not None and one.media.sha256 == stem.media.sha256
            heard = session.view.hear == one.id
            m = one.media
            self.table.show_line(
                n,
                [
                    (f"{'▸ ' if heard else '● ' if has else ''}{one.name}", "signal" if heard or has else "ink"),
                    (one.made.replace("T", " ")[5:16] or "first", "faint"),
                    (clock(m.seconds) if m.seconds is not None else "–", "ink"),
                    (figure(m.loudness) if m.loudness is not None else "–", "ink"),
                    (f"{one.offset:.3f} s".replace("-", "−"), "ink"),
                ],
            )
        if self._shown:
            ids = [p.id for p in self._shown]
            last = next((n for n, p in enumerate(self._shown) if stem and p.media.sha256 == stem.media.sha256), 0)
            row = ids.index(before.id) if before is not None and before.id in ids else last
            self.table.setCurrentCell(row, 0)
        self.take.setEnabled(stem is not None)
        for made in (self.use, self.hear, self.name, self.drop):
            made.setEnabled(bool(self._shown))
        self._tell()

    def _tell(self) -> None:
        stem, one = self._bench.prints.stem, self.chosen
        if stem is None:
            self.words.setText("Choose a stem on the Buses page: its prints are listed here.")
            return
        if one is None:
            self.words.setText(NONE)
            return
        now = prints.in_place(self._bench.session, stem)
        others = [p for p in self._shown if p.id != one.id]
        against = now if now is not None and now.id != one.id else others[-1] if others else None
        if against is None:
            self.words.setText(f"{one.name} is the only one left.")
            return
        old, new = sorted((against, one), key=lambda p: [q.id for q in self._shown].index(p.id))
        change = self._bench.prints.change(old, new)
        told = change.words() if change is not None else "being compared…"
        self.words.setText(f"{new.name} against {old.name}: {told}.")

    def _record(self) -> None:
        if self._bench.input_pass.running:
            self._bench.input_pass.stop()
        else:
            self._bench.input_pass.start(self._inputs[max(0, self.input.currentIndex())])

    def _show_pass(self) -> None:
        now = self._bench.input_pass
        self.record.setText("Stop and take" if now.running else "Record a pass")
        self.input.setEnabled(not now.running)
        self.came.setText(f"{clock(now.seconds, False)} · peak {figure(db_of(now.peak))} dBFS" if now.running else "")

    def ask(self) -> None:
        """Ask for a file, and take it as a print."""
        ask_for_prints(self, self._bench)

    def _use(self) -> None:
        if (one := self.chosen) is not None:
            self._bench.prints.choose(one.id)

    def _hear(self) -> None:
        one, stem = self.chosen, self._bench.prints.stem
        if one is None or stem is None:
            return
        has = one.media.sha256 == stem.media.sha256
        heard = self._bench.session.view.hear == one.id
        self._bench.listening.hear("result" if heard or has else one.id)

    def _rename(self) -> None:
        if (one := self.chosen) is not None:
            name, given = QInputDialog.getText(self, "Rename print", "Name", text=one.name)
            if given and name.strip():
                self._bench.prints.rename(one.id, name)

    def _remove(self) -> None:
        if (one := self.chosen) is not None:
            self._bench.prints.remove(one.id)


def ask_for_prints(parent: QWidget, bench: Workbench) -> None:
    """Ask for files, and take each as a new print of its stem."""
    found, _ = QFileDialog.getOpenFileNames(parent, "New prints of what is there", str(bench.document.folder), FILTER)
    if found:
        bench.prints.take([Path(f) for f in found])


def show_prints(parent: QWidget, bench: Workbench) -> PrintsDialog | None:
    """The prints of what is chosen, beside the window."""
    if not bench.session.stems:
        bench.refuse("Bring in a mix or stems first: a print is another state of a file that is there.")
        return None
    dialog = PrintsDialog(parent, bench)
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.show()
    return dialog
