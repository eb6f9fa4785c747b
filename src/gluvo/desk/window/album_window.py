"""The window of an album: its songs side by side as one record, what lies between them, and the writing of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from gluvo.deliver.album_layout import laid_out, rate_of_album
from gluvo.desk.charts.album_views import DrawnSong, JoinView, RecordView
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, clock, label, line
from gluvo.desk.model.background import Background
from gluvo.desk.model.open_album import OpenAlbum
from gluvo.desk.window.album_settings import AlbumSettings
from gluvo.desk.window.album_table import SongTable
from gluvo.errors import GluvoError, SessionError
from gluvo.opened.tasks import ALBUM_HEARING, ALBUM_MEASURING, WRITING
from gluvo.play.process import Host
from gluvo.session import album as albums
from gluvo.session.album import SUFFIX, Album, AlbumSong, is_session, place_of, title_of
from gluvo.session.sounds import AUDIO_SUFFIXES
from gluvo.session.store import SUFFIX as SESSION_SUFFIX

FILTER = f"Songs (*{SESSION_SUFFIX} {' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"
ALBUMS = f"Gluvo albums (*{SUFFIX})"


class AlbumWindow(QMainWindow):
    """Keys: J plays the join after the chosen song, X changes over between two, Space stops and goes on, Enter opens a song,
    Alt+Up and Alt+Down order it, Delete takes it out."""

    def __init__(
        self, background: Background, device: str, open_song: Callable[[Path], object], host: Callable[[], Host] = Host
    ) -> None:
        """`open_song` opens a session in the main window."""
        super().__init__()
        self._open_song, self._background = open_song, background
        self.record = OpenAlbum(self, background, device, host)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(980, 620)
        self._chosen = ""
        self._shown: tuple[AlbumSong, ...] = ()
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._head())
        column.addWidget(line())
        self.view = RecordView()
        self.view.chosen.connect(self.choose)
        self.view.opened.connect(lambda id: self.open_song(id))
        column.addWidget(self.view, 3)
        column.addWidget(line())
        self.table = SongTable()
        self.table.currentCellChanged.connect(self._row_changed)
        self.table.entered.connect(lambda row: self.open_song(self._shown[row].id))
        column.addWidget(self.table, 4)
        column.addWidget(line())
        column.addWidget(self._foot())
        self.setCentralWidget(body)
        self._add_keys()
        self.record.changed.connect(self.refresh)
        self.record.told.connect(self._tell)
        background.changed.connect(self._show_work)
        self._tick = QTimer(self, interval=40)
        self._tick.timeout.connect(self._show_place)
        self._tick.start()
        self.refresh()
        self.table.setFocus()

    # --- building ------------------------------------------------------------------------------------------

    def _head(self) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(16, 8, 12, 8)
        self.name = label("", "title")
        self.about = label("", "caption")
        row.addWidget(self.name)
        row.addWidget(self.about)
        row.addStretch(1)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(110)
        self.bar.setAccessibleName("How far the work is")
        row.addWidget(self.bar)
        self.halt = button("Stop", "Stop measuring, or writing (Esc).", self.stop_work)
        self.songs = button(
            "Add songs…", "Sessions or finished files, behind the chosen song (Ctrl+Shift+A).", self.ask_songs
        )
        self.joins = button(
            "Play join", "The last and first seconds around the gap after the chosen song (J).", self.hear_join
        )
        self.against = ChoiceBox()
        self.against.setAccessibleName("Hear the chosen song against")
        self.against.setToolTip("The loudest stretch of the chosen song against that of this one; X changes over.")
        self.against.setMinimumWidth(150)
        self.against.activated.connect(lambda _n: self.hear_against())
        self.matched = Toggle("Equally loud", "Two songs are heard equally loud; off, as they will stand.")
        self.matched.set_on(True)
        self.matched.toggled.connect(lambda _on: self.hear_against() if "against" in self.record.heard else None)
        self.write = button(
            "Write the record…",
            "Every track in each format, the whole in one file, a report (Ctrl+E).",
            self.ask_write,
            "main",
        )
        for made in (self.halt, self.songs, self.joins, self.against, self.matched, self.write):
            row.addWidget(made)
        return holder

    def _foot(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(16, 8, 16, 8)
        self.settings = AlbumSettings(self.record, lambda: self.chosen, self._tell)
        column.addWidget(self.settings)
        below = QHBoxLayout()
        self.heard = label("", "caption")
        self.heard.setMinimumWidth(300)
        self.join = JoinView()
        below.addWidget(self.heard)
        below.addWidget(self.join, 1)
        column.addLayout(below)
        self.words = Lines(2, "caption")
        column.addWidget(self.words)
        return holder

    def _add_keys(self) -> None:
        menu = self.menuBar()
        for title, actions in (
            (
                "Album",
                (
                    ("New", "Ctrl+N", self.new),
                    ("Open…", "Ctrl+O", self.ask_open),
                    ("Save as…", "Ctrl+Shift+S", self.ask_save),
                    ("Add songs…", "Ctrl+Shift+A", self.ask_songs),
                    ("Write the record…", "Ctrl+E", self.ask_write),
                    ("Stop", "Esc", self.stop_work),
                    ("Close", "Ctrl+W", self.close),
                ),
            ),
            (
                "Edit",
                (
                    ("Undo", "Ctrl+Z", self.record.undo),
                    ("Redo", "Ctrl+Shift+Z", self.record.redo),
                    ("Earlier", "Alt+Up", lambda: self.move_song(-1)),
                    ("Later", "Alt+Down", lambda: self.move_song(1)),
                    ("Take out", "Del", self.remove_song),
                ),
            ),
            (
                "Listen",
                (
                    ("Play the join", "J", self.hear_join),
                    ("Change over between two", "X", self.record.change_over),
                    ("Stop or go on", "Space", self.record.toggle_play),
                    ("Measure again", "F5", self.record.measure),
                ),
            ),
        ):
            made = menu.addMenu(title)
            for text, key, then in actions:
                action = QAction(text, self)
                action.setShortcut(QKeySequence(key))
                action.triggered.connect(lambda _=False, then=then: then())
                made.addAction(action)

    # --- its file ------------------------------------------------------------------------------------------

    def open(self, path: Path) -> None:
        """Open an album. Raises `GluvoError`."""
        self.record.open(path)
        self._chosen = self.record.album.songs[0].id if self.record.album.songs else ""
        self.refresh()

    def new(self) -> None:
        """Begin another album, if what is there may be left."""
        if self.may_leave():
            self._chosen = ""
            self.record.new()

    def ask_open(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open an album", str(self.record.folder), ALBUMS)
        if found and self.may_leave():
            self._attempt(lambda: self.open(Path(found)))

    def ask_save(self) -> bool:
        start = self.record.path or self.record.folder / f"{self.record.album.name}{SUFFIX}"
        found, _ = QFileDialog.getSaveFileName(self, "Save the album as", str(start), ALBUMS)
        return bool(found) and self._attempt(lambda: self.record.save_as(Path(found)))

    def may_leave(self) -> bool:
        """Whether what is open may be left: an album without a file is asked for one."""
        self.record.flush()
        if self.record.saving:
            self._tell("The album is still being saved.", True)
            return False
        if self.record.saved or not self.record.album.songs:
            return True
        choices = (("save", "Save as…", "do"), ("lose", "Do not keep it", "lose"), ("stay", "Stay", "stay"))
        path = self.record.path
        text = (
            "This album has no file yet. Keep it?"
            if path is None
            else f"{path.name} could not be written. Keep this album?"
        )
        answer = dialogs.ask(self, "Album", text, choices)
        return self.ask_save() if answer == "save" else answer == "lose"

    def _attempt(self, action: Callable[[], object]) -> bool:
        try:
            action()
        except GluvoError as error:
            self._tell(str(error), True)
            return False
        return True

    # --- what is done --------------------------------------------------------------------------------------

    @property
    def chosen(self) -> AlbumSong | None:
        return next((s for s in self.record.album.songs if s.id == self._chosen), None)

    def choose(self, id: str) -> None:
        """Choose a song."""
        self._chosen = id
        self.refresh()

    def _row_changed(self, row: int, *_: int) -> None:
        if 0 <= row < len(self._shown) and self._shown[row].id != self._chosen:
            self.choose(self._shown[row].id)

    def ask_songs(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self, "Songs of the record", str(self.record.folder), FILTER)
        self.take([Path(f) for f in found])

    def take(self, paths: list[Path]) -> None:
        """Take songs in behind the chosen one."""
        if paths:
            at = next((n for n, s in enumerate(self.record.album.songs) if s.id == self._chosen), -1)
            before = {s.id for s in self.record.album.songs}
            self.record.add(paths, at)
            new = next((s.id for s in self.record.album.songs if s.id not in before), self._chosen)
            self.choose(new)

    def move_song(self, by: int) -> None:
        """Move the chosen song earlier or later."""
        self.record.edit("Order", lambda a: albums.moved(a, self._chosen, by))

    def remove_song(self) -> None:
        """Take the chosen song out of the record; its file stays."""
        songs = self.record.album.songs
        at = next((n for n, s in enumerate(songs) if s.id == self._chosen), -1)
        if at >= 0:
            self.record.edit("Take out", lambda a: albums.without(a, songs[at].id))
            rest = self.record.album.songs
            self.choose(rest[min(at, len(rest) - 1)].id if rest else "")

    def open_song(self, id: str) -> None:
        """Open a session in the main window; a file has nothing to be opened."""
        song = next((s for s in self.record.album.songs if s.id == id), None)
        if song is None:
            return
        if not is_session(song):
            self._tell(f"{title_of(song)} is a finished file. Open it in Gluvo to make a session of it.", False)
            return
        self._open_song(place_of(song, self.record.folder))

    def hear_join(self) -> None:
        """Play the join after the chosen song."""
        self.record.hear_join(next((n for n, s in enumerate(self.record.album.songs) if s.id == self._chosen), -1))

    def hear_against(self) -> None:
        """Hear the chosen song against the one that was picked."""
        other = self.against.currentData()
        if other:
            self.record.hear_against(self._chosen, other, self.matched.on)

    def ask_write(self) -> None:
        if not self.record.album.songs:
            self._tell("Add songs first.", True)
            return
        found = QFileDialog.getExistingDirectory(self, "Write the record into", str(self.record.folder))
        if not found:
            return
        force = False
        if any(Path(found).iterdir()):
            text = f"{Path(found).name} is not empty. Files of the same names are written over only if you say so."
            choices = (("new", "Keep what is there", "do"), ("over", "Write over", "lose"), ("stay", "Cancel", "stay"))
            answer = dialogs.ask(self, "Write the record", text, choices)
            if answer == "stay":
                return
            force = answer == "over"
        self.record.write(Path(found), force)

    def stop_work(self) -> None:
        """Stop what plays; else what is measured or written."""
        if self.record.playing:
            self.record.stop()
            return
        for kind in (ALBUM_HEARING, ALBUM_MEASURING, WRITING):
            self._background.tasks.cancel_kind(kind)

    # --- what is shown -------------------------------------------------------------------------------------

    def _tell(self, text: str, trouble: bool) -> None:
        self.words.setText(text)
        self.words.setProperty("trouble", trouble)

    def refresh(self) -> None:
        record, album = self.record, self.record.album
        found = record.standings()
        self.setWindowTitle(f"{album.name} – album – Gluvo")
        self.name.setText(album.name)
        total = record.length()
        kept = "no file yet" if record.path is None else "saved" if record.saved else "not saved"
        count = f"album of {len(album.songs)}"
        self.about.setText(f"{count} · {clock(total, False) if total else '–'} · {kept}")
        self._draw(album, found, total)
        self._shown = album.songs
        self.table.show_songs(album, found, self._chosen, record.wrong, record.measuring)
        for made in (self.joins, self.against, self.matched):
            made.setEnabled(self.chosen is not None)
        self.settings.refresh()
        self._list_others(album)
        at = " · heard: the other" if record.at_other else " · heard: the first" if "against" in record.heard else ""
        self.heard.setText(f"{record.heard}{at}" if record.heard else "J plays a join")
        if record.join is not None:
            self.join.show_join(record.join[0], record.join[1])
        self._show_work()

    def _draw(self, album: Album, found: list, total: float) -> None:  # type: ignore[type-arg]
        rate, at, drawn = rate_of_album(album), 0.0, []
        try:
            starts = {p.song.id: p.start / rate for p in laid_out(album)[0]}
        except SessionError:
            starts = {}
        for song, standing in zip(album.songs, found, strict=True):
            if song.known is None or standing is None:
                continue
            seconds = song.known.frames / song.known.rate
            curve = tuple(v + standing.gain for v in song.known.curve)
            drawn.append(DrawnSong(song.id, title_of(song), starts.get(song.id, at), seconds, curve, standing.loudness))
            at += seconds + 2.0
        self.view.show_songs(drawn, self._chosen, album.target.loudness, total or at)

    def _list_others(self, album: Album) -> None:
        now = self.against.currentData()
        self.against.clear()
        self.against.addItem("Hear against…", "")
        for n, song in enumerate(album.songs, start=1):
            if song.id != self._chosen:
                self.against.addItem(f"{n}  {title_of(song)}", song.id)
        self.against.setCurrentIndex(max(0, self.against.findData(now)))

    def _show_work(self) -> None:
        kinds = (ALBUM_MEASURING, ALBUM_HEARING, WRITING)
        task = next((t for t in self._background.tasks.shown() if t.kind in kinds), None)
        self.bar.setVisible(task is not None)
        self.halt.setVisible(task is not None)
        self.bar.setValue(round(1000 * task.share) if task is not None else 0)

    def _show_place(self) -> None:
        record = self.record
        if record.join is not None:
            sound, _, rate = record.join
            playing = record.playing and "→" in record.heard
            self.join.show_place(record.position * rate / max(1, len(sound)) if playing else 0.0)

    # --- events --------------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if len(paths) == 1 and paths[0].suffix == SUFFIX:
            if self.may_leave():
                self._attempt(lambda: self.open(paths[0]))
        else:
            self.take(paths)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and self.isActiveWindow() and not self.record.measuring:
            self.record.measure()  # a song may have been worked on meanwhile
        super().changeEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.may_leave():
            event.ignore()
            return
        self._tick.stop()
        for kind in (ALBUM_MEASURING, ALBUM_HEARING):
            self._background.tasks.cancel_kind(kind)
        self.record.close()
        event.accept()
