"""What is set of an album: the chosen song's place on the record, and the record itself."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QMenu, QVBoxLayout, QWidget

from gluvo.deliver.formats import FORMATS
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceBox, Segments, button, label
from gluvo.desk.model.open_album import OpenAlbum
from gluvo.desk.pages.deliver.tags_dialog import TagsDialog
from gluvo.errors import SessionError
from gluvo.session import album as albums
from gluvo.session.album import Album, AlbumSong, title_of
from gluvo.session.records import Deliverable, Tags, Target
from gluvo.steps.settings import settings_of

TRACK_FORMATS = (
    Deliverable(id="row-1", name="WAV, 24 bit"),
    Deliverable(id="wav-16", name="WAV, 16 bit, TPDF", bits="16", dither="tpdf"),
    Deliverable(id="wav-32", name="WAV, 32 bit float", bits="32f"),
    Deliverable(id="flac-24", name="FLAC, 24 bit", format="flac"),
    Deliverable(id="flac-16", name="FLAC, 16 bit, TPDF", format="flac", bits="16", dither="tpdf"),
    Deliverable(id="mp3-320", name="MP3, 320 kbit/s", format="mp3", bit_rate=320),
    Deliverable(id="aac-256", name="AAC, 256 kbit/s", format="aac"),
    Deliverable(id="ogg-256", name="Ogg Vorbis, 256 kbit/s", format="ogg"),
    Deliverable(id="opus-160", name="Opus, 160 kbit/s", format="opus", bit_rate=160),
)
"""The formats of tracks that can be chosen."""


class AlbumSettings(QWidget):
    """Rulers and fields of the chosen song, and under them those of the record."""

    def __init__(
        self, record: OpenAlbum, chosen: Callable[[], AlbumSong | None], tell: Callable[[str, bool], None]
    ) -> None:
        """`tell` takes a sentence, and whether it tells of trouble."""
        super().__init__()
        self.record, self._song, self._tell = record, chosen, tell
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        grid = QGridLayout()
        grid.setHorizontalSpacing(20)
        song, album, target = settings_of(AlbumSong), settings_of(Album), settings_of(Target)
        self.gap, self.lift = Ruler(song["gap"]), Ruler(song["lift"])
        self.gap.moved.connect(lambda v: self._set_song("Gap", "gap", gap=round(v, 6)))
        self.lift.moved.connect(lambda v: self._set_song("Lift", "lift", lift=round(v, 2)))
        self.title, self.isrc = QLineEdit(), QLineEdit()
        self.title.setToolTip("What the song is called on the record; empty: as its session or file is.")
        self.isrc.setToolTip("Two letters, three letters or digits, seven digits.")
        self.title.editingFinished.connect(lambda: self._set_song("Title", "", title=self.title.text().strip()))
        self.isrc.editingFinished.connect(self._set_isrc)
        self.levels = Segments([*album["levels"].options], album["levels"].tip)
        self.levels.chosen.connect(lambda key: self.record.edit("Levels", lambda a: albums.replaced(a, levels=key)))
        self.by = Segments([*album["by"].options], album["by"].tip)
        self.by.chosen.connect(lambda key: self.record.edit("Levels by", lambda a: albums.replaced(a, by=key)))
        self.loud = Ruler(target["loudness"])
        self.loud.moved.connect(lambda v: self._set_target("loudness", v))
        self.peak = Ruler(target["true_peak"])
        self.peak.moved.connect(lambda v: self._set_target("true_peak", v))
        for ruler in (self.gap, self.lift, self.loud, self.peak):
            ruler.settled.connect(self.record.settle)
            ruler.setMinimumWidth(150)
        self.album_name, self.artist = QLineEdit(), QLineEdit()
        self.album_name.setToolTip("What the record is called; its files are, too.")
        self.artist.setToolTip("Who made it; goes into the files and the CUE sheet.")
        self.album_name.editingFinished.connect(self._set_names)
        self.artist.editingFinished.connect(self._set_names)
        self.whole = ChoiceBox()
        self.whole.setAccessibleName("The record in one file")
        self.whole.setToolTip(album["continuous"].tip)
        for key, words in album["continuous"].options:
            self.whole.addItem(f"in one file: {words}", key)
        self.whole.activated.connect(
            lambda _n: self.record.edit(
                "In one file", lambda a: albums.replaced(a, continuous=self.whole.currentData())
            )
        )
        grid.addWidget(label("The song", "caption"), 0, 0)
        grid.addWidget(self.lift, 0, 1)
        grid.addWidget(self.gap, 0, 2)
        grid.addWidget(self._named("Title", self.title), 0, 3)
        grid.addWidget(self._named("ISRC", self.isrc), 0, 4)
        grid.addWidget(label("The record", "caption"), 1, 0)
        grid.addWidget(self.loud, 1, 1)
        grid.addWidget(self.peak, 1, 2)
        grid.addWidget(self._named("Name", self.album_name), 1, 3)
        grid.addWidget(self._named("Artist", self.artist), 1, 4)
        for n in (3, 4):
            grid.setColumnStretch(n, 1)
        column.addLayout(grid)
        row = QHBoxLayout()
        self.formats = button("Tracks as…", "The formats that each track is written in, one or several.", kind="plain")
        self.formats.setMenu(self._formats_menu())
        self.tags = button("Tags…", "Artist, year, comment and cover of all tracks.", self.edit_tags, "plain")
        for made in (self.levels, self.by, self.formats, self.whole, self.tags):
            row.addWidget(made)
        row.addStretch(1)
        column.addLayout(row)

    def _formats_menu(self) -> QMenu:
        menu = QMenu(self)
        for row in TRACK_FORMATS:
            action = menu.addAction(row.name)
            action.setCheckable(True)
            action.triggered.connect(lambda on, row=row: self._set_format(row, on))
        menu.aboutToShow.connect(lambda: self._show_formats(menu))
        return menu

    def _show_formats(self, menu: QMenu) -> None:
        there = {_kind(row) for row in self.record.album.rows}
        for action, row in zip(menu.actions(), TRACK_FORMATS, strict=True):
            action.setChecked(_kind(row) in there)

    def _set_format(self, row: Deliverable, on: bool) -> None:
        rest = tuple(r for r in self.record.album.rows if _kind(r) != _kind(row))
        self.record.edit("Formats", lambda a: albums.replaced(a, rows=(*rest, row) if on else rest))

    def _named(self, words: str, widget: QWidget) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        widget.setAccessibleName(words)
        row.addWidget(label(words, "caption"))
        row.addWidget(widget, 1)
        return holder

    def _set_song(self, action: str, together: str, **changes: object) -> None:
        song = self._song()
        if song is not None:
            changed = msgspec.structs.replace(song, **changes)
            word = f"{song.id}.{together}" if together else ""
            self.record.edit(action, lambda a: albums.with_song(a, changed), word)

    def edit_tags(self) -> None:
        """Edit what the tracks tell of the record."""

        def keep(tags: Tags) -> None:
            self.record.edit("Tags", lambda a: albums.replaced(a, tags=tags))

        TagsDialog(self, self.record.album.tags, self.record.folder, keep, ("artist", "album", "year")).exec()

    def _set_isrc(self) -> None:
        text = self.isrc.text().replace("-", "").strip().upper()
        song = self._song()
        if song is None or text == song.isrc:
            return
        try:
            albums.replaced(self.record.album, songs=(msgspec.structs.replace(song, isrc=text),))
        except SessionError:
            self._tell("An ISRC has two letters, three letters or digits, and seven digits.", True)
            return
        self._set_song("ISRC", "", isrc=text)

    def _set_target(self, name: str, value: float) -> None:
        target = msgspec.structs.replace(self.record.album.target, **{name: round(value, 2)})
        self.record.edit("Target", lambda a: albums.replaced(a, target=target), f"target.{name}")

    def _set_names(self) -> None:
        album = self.record.album
        name, artist = self.album_name.text().strip() or album.name, self.artist.text().strip()
        tags = msgspec.structs.replace(album.tags, artist=artist)
        self.record.edit("Name of the record", lambda a: albums.replaced(a, name=name, tags=tags))

    def refresh(self) -> None:
        """Show what is set."""
        album, song = self.record.album, self._song()
        for made in (self.gap, self.lift, self.title, self.isrc):
            made.setEnabled(song is not None)
        if song is not None:
            self.gap.set_value(song.gap)
            self.lift.set_value(song.lift)
            for field, text in ((self.title, song.title), (self.isrc, song.isrc)):
                if not field.hasFocus():
                    field.setText(text)
            self.title.setPlaceholderText(title_of(song))
        for field, text in ((self.album_name, album.name), (self.artist, album.tags.artist)):
            if not field.hasFocus():
                field.setText(text)
        self.levels.set_chosen(album.levels)
        self.by.set_chosen(album.by)
        self.by.setEnabled(album.levels != "as")
        self.loud.set_value(album.target.loudness)
        self.peak.set_value(album.target.true_peak)
        self.whole.setCurrentIndex(max(0, self.whole.findData(album.continuous)))


def _kind(row: Deliverable) -> tuple[str, str]:
    """What makes two formats the same."""
    return row.format, str(row.bit_rate) if FORMATS[row.format].lossy else row.bits
