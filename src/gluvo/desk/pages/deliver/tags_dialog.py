"""What delivered files tell of the song."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

import msgspec
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from gluvo.deliver.covers import cover_of
from gluvo.desk.controls.long_text import LongText
from gluvo.desk.controls.widgets import button, label
from gluvo.errors import GluvoError
from gluvo.session.media import relative_to
from gluvo.session.records import MOST_TEXT, Tags

FIELDS: tuple[tuple[str, str, str], ...] = (
    ("title", "Title", "The song's title; the session's name where it is empty."),
    ("artist", "Artist", ""),
    ("album", "Album", ""),
    ("track", "Track", "A number, or a number of a number: 3/12."),
    ("year", "Year", "Four digits."),
    ("isrc", "ISRC", "Twelve letters and digits without hyphens: two letters, three signs, seven digits."),
)
WRONG = {
    "track": "Track is a number, or a number of a number, such as 3/12.",
    "year": "Year has four digits.",
    "isrc": "An ISRC has two letters, three letters or digits, and seven digits; hyphens are left out.",
    "comment": f"A comment has at most {MOST_TEXT:,} characters.",
}


class TagsDialog(QDialog):
    """A form; what makes no sense is told and stays to be mended."""

    def __init__(
        self, parent: QWidget, tags: Tags, folder: Path, keep: Callable[[Tags], object], fields: Collection[str] = ()
    ) -> None:
        """`folder`: from which the cover's place is told. `keep` takes tags that are others. `fields`: those that are asked
        for (all)."""
        super().__init__(parent)
        self._tags, self._folder, self._keep = tags, folder, keep
        self.setWindowTitle("Tags of the files")
        self.setMinimumWidth(460)
        column = QVBoxLayout(self)
        form = QFormLayout()
        column.addLayout(form)
        self.lines: dict[str, QLineEdit] = {}
        for name, words, tip in (f for f in FIELDS if not fields or f[0] in fields):
            line = self.lines[name] = QLineEdit(getattr(tags, name))
            line.setMaxLength(1000)
            line.setToolTip(tip)
            form.addRow(label(words), line)
        self.comment = LongText(MOST_TEXT, tags.comment)
        self.comment.setFixedHeight(80)
        form.addRow(label("Comment"), self.comment)
        self.cover = QLineEdit(tags.cover)
        self.cover.setToolTip("A JPEG or PNG that goes into the files; its place, from the session's folder.")
        row = QHBoxLayout()
        row.addWidget(self.cover, 1)
        row.addWidget(button("Choose…", "Choose a JPEG or PNG.", self._choose_cover))
        form.addRow(label("Cover"), row)
        self.trouble = label("", "trouble")
        self.trouble.setWordWrap(True)
        column.addWidget(self.trouble)
        last = QHBoxLayout()
        last.addStretch(1)
        last.addWidget(button("Keep", "Keep these tags in the session; it can be undone.", self.accept, "main"))
        last.addWidget(button("Cancel", "Leave the tags as they were.", self.reject))
        column.addLayout(last)

    def _choose_cover(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Cover", str(self._folder), "Pictures (*.jpg *.jpeg *.png)")
        if found:
            self.cover.setText(relative_to(Path(found), self._folder))

    def tags(self) -> Tags:
        """The form as tags. Raises `GluvoError` with what makes no sense."""
        plain = {name: line.text().strip() for name, line in self.lines.items()}
        if "isrc" in plain:
            plain["isrc"] = plain["isrc"].replace("-", "").upper()
        plain |= {"comment": self.comment.toPlainText(), "cover": self.cover.text().strip()}
        for name, value in plain.items():
            try:
                msgspec.convert({name: value}, Tags)
            except msgspec.ValidationError:
                raise GluvoError(WRONG.get(name, f"{name.capitalize()} has a sign that no file can hold.")) from None
        if plain["cover"]:
            cover_of(self._folder / plain["cover"])
        return msgspec.structs.replace(self._tags, **plain)

    def accept(self) -> None:
        try:
            tags = self.tags()
        except GluvoError as error:
            self.trouble.setText(str(error))
            return
        if tags != self._tags:
            self._keep(tags)
        super().accept()
