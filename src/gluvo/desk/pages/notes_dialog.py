"""The session's notes: listed by their place, written, jumped to; and comments taken from a text file."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices, QKeyEvent, QTextCursor
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from gluvo.desk.controls.long_text import LongText
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import SessionError
from gluvo.session import notes
from gluvo.session.records import MOST_NOTE, Job, Note

COLUMNS = (("Where", 116), ("Note", 0), ("For", 60), ("Made", 84))
TEXT_FILTER = "Text (*.txt *.md *.text);;All files (*)"
SONG, PLACE, SECTION, VERSION = "song", "place", "section", "version"
"""What a note can be of."""


class NotesDialog(QDialog):
    """Stays open beside the window. Enter in the list goes there, Ctrl+Enter in the text keeps it; what is typed is kept as soon
    as another note is chosen."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent)
        self._bench = bench
        self._shown: tuple[Note, ...] = ()
        self._edited = ""
        """The id of the note whose text stands in the field."""
        self.setWindowTitle("Notes")
        self.setMinimumSize(620, 480)
        column = QVBoxLayout(self)
        self.table = Table(
            "Notes",
            "Notes of the song, its sections, places in it and versions. Enter or a double click goes there.",
            COLUMNS,
            24,
        )
        self.table.entered.connect(self.go_to)
        self.table.currentCellChanged.connect(lambda *_: self._show_text())
        column.addWidget(self.table, 3)
        row = QHBoxLayout()
        self.of = ChoiceBox()
        self.of.setAccessibleName("What the note is of")
        self.of.setToolTip("What the note is of: the song, a place in it, a section or a version.")
        self.of.activated.connect(lambda _n: self._place())
        self.client = Toggle("For the client", "It is from or for the client, and stands in the client's report.")
        self.client.toggled.connect(lambda on: self._change("Note for the client", client=on))
        self.ticked = Toggle("Done", "What it asks for has been done.")
        self.ticked.toggled.connect(lambda on: self._change("Note done", done=on))
        self.link = button("Open link", "Open the first address in the note in a browser.", self._open_link, "plain")
        row.addWidget(label("Of", "caption"))
        row.addWidget(self.of, 1)
        for made in (self.client, self.ticked, self.link):
            row.addWidget(made)
        column.addLayout(row)
        self.text = LongText(MOST_NOTE)
        self.text.setAccessibleName("Text of the note")
        self.text.setToolTip("Plain text. It is kept when the field is left, or with Ctrl+Enter.")
        column.addWidget(self.text, 2)
        form = QFormLayout()
        self.studio, self.customer = QLineEdit(), QLineEdit()
        for line, words, tip in (
            (self.studio, "Studio", "Who works on it; stands in the client's report."),
            (self.customer, "Client", "For whom; stands in the client's report."),
        ):
            line.setMaxLength(1000)
            line.setToolTip(tip)
            line.editingFinished.connect(self._keep_job)
            form.addRow(label(words, "caption"), line)
        column.addLayout(form)
        last = QHBoxLayout()
        self.new = button("New note", "Of the song; what it is of is said above its text (Insert).", self.add, "main")
        self.here = button("Note here", "Of the place where it plays (Shift+N).", lambda: self.add_here())
        self.read = button(
            "Read comments…", "A text file with lines such as “1:12 voice too soft”: each becomes a note.", self.ask
        )
        self.go = button("Go there", "Go to its place, section or version (Enter in the list).", lambda: self.go_to())
        self.drop = button("Remove", "Take the chosen note away; undo brings it back.", self._remove)
        for made in (self.new, self.here, self.read):
            last.addWidget(made)
        last.addStretch(1)
        for made in (self.go, self.drop):
            last.addWidget(made)
        column.addLayout(last)
        Follower(self, bench, self.refresh, session=lambda s: (s.notes, s.sections, s.versions, s.job))
        self.refresh()
        self.table.setFocus()

    @property
    def chosen(self) -> Note | None:
        row = self.table.currentRow()
        return self._shown[row] if 0 <= row < len(self._shown) else None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):  # no button is pressed by it
            self._keep_text()
        elif event.key() == Qt.Key.Key_Insert:
            self.add()
        elif event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif event.key() == Qt.Key.Key_Delete and self.table.hasFocus():
            self._remove()
        else:
            super().keyPressEvent(event)

    def done_with(self) -> None:
        """What was typed is kept."""
        self._keep_text()
        self._keep_job()

    def hideEvent(self, event: object) -> None:
        self.done_with()

    # --- what is shown -------------------------------------------------------------------------------------

    def refresh(self) -> None:
        session, before = self._bench.session, self._edited
        self._shown = notes.in_order(session)
        self.table.blockSignals(True)
        self.table.setRowCount(len(self._shown))
        for n, note in enumerate(self._shown):
            colour = "faint" if note.done else "ink"
            first = note.text.strip().split("\n", 1)[0][:300] or "(nothing yet)"
            self.table.show_line(
                n,
                [
                    (notes.where(session, note), colour),
                    (f"{'✓ ' if note.done else ''}{first}", colour),
                    ("client" if note.client else "", colour),
                    (note.made.replace("T", " ")[5:16], "faint"),
                ],
            )
        ids = [note.id for note in self._shown]
        if ids:
            self.table.setCurrentCell(ids.index(before) if before in ids else min(len(ids) - 1, 0), 0)
        self.table.blockSignals(False)
        self._show_text()
        for line, value in ((self.studio, session.job.studio), (self.customer, session.job.client)):
            if not line.hasFocus():
                line.setText(value)

    def _places(self, note: Note | None) -> list[tuple[str, tuple[str, object]]]:
        """What a note could be of: words, and kind and which."""
        session, engine = self._bench.session, self._bench.engine
        now = engine.position if engine is not None else session.view.position
        found: list[tuple[str, tuple[str, object]]] = [("the song", (SONG, ""))]
        if note is not None and note.at is not None:
            found.append((f"at {notes.clock(note.at)}", (PLACE, note.at)))
        found.append((f"at {notes.clock(now)}, where it plays", (PLACE, round(now, 3))))
        found += [(f"section {s.name}", (SECTION, s.id)) for s in session.sections]
        found += [(f"version {v.name}", (VERSION, v.id)) for v in session.versions]
        return found

    def _show_text(self) -> None:
        note = self.chosen
        if self._edited and (note is None or note.id != self._edited):
            self._keep_text()
            note = self.chosen
        same = note is not None and note.id == self._edited
        self._edited = note.id if note is not None else ""
        if not (same and self.text.hasFocus()):
            self.text.setPlainText(note.text if note is not None else "")
            self.text.moveCursor(QTextCursor.MoveOperation.End)
        self.of.clear()
        wanted = _place_of(note) if note is not None else (SONG, "")
        for words, place in self._places(note):
            self.of.addItem(words, place)
        kinds = [self.of.itemData(n) for n in range(self.of.count())]
        self.of.setCurrentIndex(next((n for n, k in enumerate(kinds) if tuple(k) == wanted), 0))
        self.client.set_on(note is not None and note.client)
        self.ticked.set_on(note is not None and note.done)
        self.link.setVisible(note is not None and bool(notes.links(note.text)))
        for made in (self.of, self.client, self.ticked, self.text, self.go, self.drop):
            made.setEnabled(note is not None)
        none = "No note is chosen. Insert begins one, Shift+N one of the place where it plays."
        self.text.setPlaceholderText("" if note is not None else none)

    # --- what is done --------------------------------------------------------------------------------------

    def add(self, **place: object) -> None:
        """Begin a note, and type it."""
        self._keep_text()
        made = datetime.now().isoformat(timespec="seconds")
        try:
            now, note = notes.with_note(self._bench.session, "", made, **place)
        except SessionError as error:
            self._bench.refuse(str(error))
            return
        if self._bench.edit("New note", lambda s: s.replace(notes=now.notes)):
            self.choose(note.id)
            self.text.setFocus()

    def add_here(self) -> None:
        """Begin a note of the place where it plays."""
        engine = self._bench.engine
        now = engine.position if engine is not None else self._bench.session.view.position
        self.add(at=round(now, 3))

    def choose(self, id: str) -> None:
        """Choose a note of the list."""
        row = next((n for n, note in enumerate(self._shown) if note.id == id), -1)
        if row >= 0:
            self.table.setCurrentCell(row, 0)

    def go_to(self, _row: int = -1) -> None:
        """Go to what the chosen note is of."""
        note = self.chosen
        if note is None:
            return
        bench = self._bench
        section, at = bench.session.section(note.section), notes.start_of(bench.session, note)
        if section is not None:
            bench.look(section=section.id)
        if note.version:
            bench.look(page="compare")
            bench.listening.hear(note.version)
        elif at is not None:
            bench.listening.seek(at)

    def ask(self) -> None:
        """Ask for a file of comments, and take them."""
        self._keep_text()
        ask_for_comments(self, self._bench)

    def take(self, path: Path) -> None:
        """Take the comments of a text file as the client's notes."""
        self._keep_text()
        take_comments(self._bench, path)

    def _keep_text(self) -> None:
        text, id = self.text.toPlainText(), self._edited
        note = next((n for n in self._bench.session.notes if n.id == id), None)
        if note is None or note.text == text:
            return
        self._bench.edit("Note", lambda s: notes.changed(s, id, text=text), f"note.{id}")

    def _change(self, action: str, **changes: object) -> None:
        note = self.chosen
        if note is not None:
            self._keep_text()
            self._bench.edit(action, lambda s: notes.changed(s, note.id, **changes))

    def _place(self) -> None:
        kind, which = self.of.currentData()
        self._change(
            "Place of a note",
            at=which if kind == PLACE else None,
            section=which if kind == SECTION else "",
            version=which if kind == VERSION else "",
        )

    def _keep_job(self) -> None:
        job = Job(studio=self.studio.text().strip(), client=self.customer.text().strip())
        if job != self._bench.session.job:
            self._bench.edit("Studio and client", lambda s: s.replace(job=job), "job")

    def _open_link(self) -> None:
        note = self.chosen
        if note is not None and (found := notes.links(note.text)):
            QDesktopServices.openUrl(QUrl(found[0]))

    def _remove(self) -> None:
        note = self.chosen
        if note is not None:
            self._edited = ""
            self._bench.edit("Remove note", lambda s: notes.without(s, note.id))


def _place_of(note: Note) -> tuple[str, object]:
    if note.version:
        return VERSION, note.version
    if note.section:
        return SECTION, note.section
    return (SONG, "") if note.at is None else (PLACE, note.at)


def ask_for_comments(parent: QWidget, bench: Workbench) -> None:
    """Ask for a file of comments, and take them."""
    found, _ = QFileDialog.getOpenFileName(parent, "Comments", str(bench.document.folder), TEXT_FILTER)
    if found:
        take_comments(bench, Path(found))


def take_comments(bench: Workbench, path: Path) -> None:
    """Take the comments of a text file as notes of the open session, and say how many."""
    song = bench.audio.material
    seconds = song.seconds if song is not None else float("inf")
    made = datetime.now().isoformat(timespec="seconds")
    try:
        comments = notes.read_comments(path)
        now, count = notes.with_comments(bench.session, comments, seconds, made)
    except SessionError as error:
        bench.refuse(str(error))
        return
    if not count:
        bench.tell(f"All that {path.name} says stands in the notes already.", False)
    elif bench.edit(f"Comments of {path.name}", lambda s: s.replace(notes=now.notes)):
        past = comments.past(seconds)
        late = (
            f" {past} of them {'lies' if past == 1 else 'lie'} past the song's end ({notes.clock(seconds)}), and "
            f"{'is' if past == 1 else 'are'} kept as of the whole song."
            if past
            else ""
        )
        bench.tell(f"{count} comment{'' if count == 1 else 's'} from {path.name}.{late}", past > 0)
