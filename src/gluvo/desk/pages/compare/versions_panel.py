"""Versions: listed with what each measured, heard, gone back to, taken from."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QFormLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from gluvo.desk.controls import dialogs
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.long_text import LongText
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import button, figure, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.session.records import MOST_TEXT, Version
from gluvo.session.versions import Difference, differences, state_of
from gluvo.steps.settings import MOST_NAME

VERSION_COLUMNS = (("Version", 0), ("Kept", 84), ("LUFS", 52), ("LRA", 44), ("PLR", 44), ("dBTP", 50), ("Differs", 56))
CHANGES = (("Where", 0), ("What", 84), ("There", 88), ("Now", 88))


class VersionDialog(QDialog):
    """A name and a note."""

    def __init__(self, parent: QWidget, title: str, name: str, note: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(380)
        form = QFormLayout(self)
        self.name = QLineEdit(name)
        self.name.setMaxLength(MOST_NAME)
        self.name.setToolTip("What the version is called.")
        self.name.selectAll()
        form.addRow(label("Name"), self.name)
        self.note = LongText(MOST_TEXT, note)
        self.note.setFixedHeight(70)
        self.note.setToolTip("What it is, or why it was kept.")
        form.addRow(label("Note"), self.note)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Keep", "Keep it so (Enter).", self.accept, "main"))
        row.addWidget(button("Cancel", "Leave everything as it is.", self.reject))
        form.addRow(row)


class VersionsPanel(QWidget):
    """Above the versions, below what the chosen one has otherwise than the session has now."""

    def __init__(self, bench: Workbench, branch: Callable[[str], None]) -> None:
        """`branch` makes a session of its own from a version."""
        super().__init__()
        self._bench, self._branch = bench, branch
        self._ids: list[str] = []
        self._changes: tuple[Difference, ...] = ()
        self._shown: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.keep = button("Keep a version…", "Keep the session as it is now under a name (Ctrl+Alt+V).", self.ask)
        row.addWidget(self.keep)
        row.addStretch(1)
        self.hear = button("Hear", "Hear the chosen version, level-matched and in time (H).", self._hear)
        self.back = button(
            "Go back", "Make the session what the chosen version is (Enter); it can be undone.", self._go_back
        )
        self.branch = button(
            "Branch…", "Make a session of its own from the chosen version, in another file.", self._fork
        )
        self.edit = button("Rename…", "Another name or note.", self._describe)
        self.drop = button("Remove", "Take the chosen version away for good.", self._remove)
        for made in (self.branch, self.edit, self.drop):
            row.addWidget(made)
        column.addLayout(row)
        self.table = Table(
            "Versions",
            "Versions, the newest first, with what the whole song measured. H hears the chosen one, Enter goes back to it.",
            VERSION_COLUMNS,
            24,
            hears=True,
        )
        self.table.heard.connect(lambda _row: self._hear())
        self.table.entered.connect(lambda _row: self._go_back())
        self.table.currentCellChanged.connect(lambda *_: self._show_changes())
        column.addWidget(self.table, 3)
        below = QHBoxLayout()
        self.head = Lines(2, "caption")
        below.addWidget(self.head, 1)
        below.addWidget(self.hear)
        below.addWidget(self.back)
        column.addLayout(below)
        self.changes = Table(
            "What differs",
            "What the chosen version has otherwise than the session has now, setting by setting. Enter or a double click takes "
            "that step or bus from the version; it can be undone.",
            CHANGES,
            22,
        )
        self.changes.entered.connect(self._take)
        column.addWidget(self.changes, 4)
        Follower(self, bench, self.refresh, session=lambda s: (s.versions, s.sound, s.target, s.view.hear))

    @property
    def chosen(self) -> Version | None:
        row = self.table.currentRow()
        return self._bench.versions.version(self._ids[row]) if 0 <= row < len(self._ids) else None

    def ask(self) -> None:
        """Ask for a name, and keep a version."""
        if not self._bench.session.stems:
            return
        dialog = VersionDialog(self.window(), "Keep a version", self._bench.versions.fresh_name())
        if dialog.exec() and (name := dialog.name.text().strip()):
            self._bench.versions.keep(name, dialog.note.toPlainText())

    def _describe(self) -> None:
        if (version := self.chosen) is not None:
            dialog = VersionDialog(self.window(), "Version", version.name, version.note)
            if dialog.exec() and (name := dialog.name.text().strip()):
                self._bench.versions.describe(version.id, name=name, note=dialog.note.toPlainText())

    def _hear(self) -> None:
        if (version := self.chosen) is not None:
            heard = self._bench.session.view.hear == version.id
            self._bench.listening.hear("result" if heard else version.id)

    def _go_back(self) -> None:
        if (version := self.chosen) is not None:
            self._bench.versions.go_back(version.id)

    def _fork(self) -> None:
        if (version := self.chosen) is not None:
            self._branch(version.id)

    def _remove(self) -> None:
        version = self.chosen
        if version is None:
            return
        text = f"Remove the version “{version.name}” for good? It cannot be undone."
        choices = (("remove", "Remove", "lose"), ("stay", "Keep it", "stay"))
        if dialogs.ask(self.window(), "Remove version", text, choices) == "remove":
            self._bench.versions.remove(version.id)

    def _take(self, row: int) -> None:
        if (version := self.chosen) is not None and 0 <= row < len(self._changes):
            self._bench.versions.take(version.id, self._changes[row])

    def refresh(self) -> None:
        if not self.isVisible():
            return
        session = self._bench.session
        shown = session.versions, session.sound, session.target, session.view.hear
        if shown == self._shown:
            return
        self._shown = shown
        before = self.chosen.id if self.chosen is not None else ""
        self._ids = [v.id for v in reversed(session.versions)]
        self.table.setRowCount(len(self._ids))
        for n, version in enumerate(reversed(session.versions)):
            f = version.figures
            count = len(differences(state_of(session, version.id), session)) if n < 30 else -1
            told = [figure(f[k]) if k in f else "–" for k in ("integrated", "loudness_range", "plr", "true_peak")]
            heard = session.view.hear == version.id
            self.table.show_line(
                n,
                [
                    (f"{'▸ ' if heard else ''}{version.name}", "signal" if heard else "ink"),
                    (version.made.replace("T", " ")[5:16], "faint"),
                    *((text, "ink") for text in told),
                    ("" if count < 0 else "same" if count == 0 else str(count), "faint"),
                ],
            )
            first = self.table.item(n, 0)
            if first is not None and version.note:
                first.setToolTip(version.note)
        if self._ids:
            self.table.setCurrentCell(self._ids.index(before) if before in self._ids else 0, 0)
        for made in (self.hear, self.back, self.branch, self.edit, self.drop):
            made.setEnabled(bool(self._ids))
        self._show_changes()

    def _show_changes(self) -> None:
        version, session = self.chosen, self._bench.session
        self._changes = () if version is None else differences(state_of(session, version.id), session)
        self.changes.setRowCount(len(self._changes))
        for n, d in enumerate(self._changes):
            self.changes.show_line(n, ((d.where, "ink"), (d.what, "ink"), (d.before, "mid"), (d.after, "ink")))
        self.changes.choose_first()
        self.head.setText(
            "Keep a version whenever it sounds right."
            if version is None
            else f"{version.name} against now: {self._what_it_did(version)}"
        )

    def _what_it_did(self, version: Version) -> str:
        """What the changes since then did to the figures."""
        song = self._bench.picture.song_render
        if not self._changes:
            return "the same"
        words = f"{len(self._changes)} difference{'' if len(self._changes) == 1 else 's'}"
        if song is None or not self._bench.picture.song_current or not version.figures:
            return words
        now = song.result.figures()
        told = [
            f"{name} {figure(float(getattr(now, key)) - version.figures[key], 1, signed=True)} {unit}"
            for key, name, unit in (
                ("integrated", "loudness", "LU"),
                ("plr", "peak to loudness", "dB"),
                ("loudness_range", "range", "LU"),
            )
            if key in version.figures
        ]
        return f"{words}; {', '.join(told)}"

    def showEvent(self, event: object) -> None:
        self._shown = None
        self.refresh()
