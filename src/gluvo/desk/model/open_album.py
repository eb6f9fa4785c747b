"""An open album: its songs measured in the background, edited with undo, written as it is edited, heard."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from gluvo import __version__
from gluvo.compare.album_standings import Standing, standings
from gluvo.compare.hearables import TimeMap
from gluvo.compare.match import RESULT
from gluvo.deliver.album import DeliveredAlbum, deliver_album, join_of, stretch_of, up_to_date
from gluvo.deliver.album_layout import laid_out, rate_of_album
from gluvo.desk.model.background import Background
from gluvo.desk.model.patience import Patience
from gluvo.dsp.db import gain_of
from gluvo.errors import GluvoError, SessionError, WriteError
from gluvo.measure.trace import Span
from gluvo.opened.tasks import ALBUM_HEARING, ALBUM_MEASURING, WRITING
from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.progress import Progress
from gluvo.session.album import (
    MOST_BYTES,
    SUFFIX,
    Album,
    AlbumSong,
    read_album,
    title_of,
    with_songs,
    write_album,
)
from gluvo.session.files import digest, read_whole
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Media, Reference, Session, Stem
from gluvo.session.sounds import Sound

T = TypeVar("T")
SOON_MS = 250
"""After the last edit of a gesture it is written when so long has passed, or when the gesture ends."""
LOUDEST = 20.0
"""Seconds of a song that are heard against another's."""
OTHER = "other"
"""The id of the song that one is heard against."""


@dataclass
class _OnDisk:
    """What the album's file is known to hold, and what is to be written there."""

    album: Album | None = None
    digest: str = ""
    asked: int = 0
    """How often it was asked to be written: only the last of it is."""
    writing: threading.Lock = field(default_factory=threading.Lock)


class OpenAlbum(QObject):
    """One album at a time. Every edit is written a moment later, once it has a file; Undo takes it back."""

    changed = Signal()
    """The album, what is known of its songs, or what plays."""
    told = Signal(str, bool)
    """A sentence, and whether it tells of trouble."""

    def __init__(self, parent: QObject, background: Background, device: str, host: Callable[[], Host] = Host) -> None:
        super().__init__(parent)
        self._background, self._device, self._make_host = background, device, host
        self.album = Album()
        self.path: Path | None = None
        self._kept: dict[str, Any] = {}
        self._file = _OnDisk()
        self._opened = 0
        """How many albums were opened or begun."""
        self._soon = QTimer(self, singleShot=True, interval=SOON_MS)
        self._soon.timeout.connect(self._save)
        self._patience = Patience()
        self._before: list[tuple[str, Album]] = []
        self._after: list[tuple[str, Album]] = []
        self.wrong: dict[str, str] = {}
        """What is wrong with songs, by their ids."""
        self.measuring = False
        self._host: Host | None = None
        self._engine: RemoteEngine | None = None
        self.heard = ""
        """What plays, in words."""
        self._pair, self._at = False, RESULT
        self._gains: dict[str, float] = {}
        self.join: tuple[np.ndarray, int, int] | None = None
        """The join that was heard last: its sound, the frame where the next song begins, and the rate."""
        self.delivered: DeliveredAlbum | None = None

    # --- its file ------------------------------------------------------------------------------------------

    @property
    def folder(self) -> Path:
        """What the songs' places are told from."""
        return self.path.resolve().parent if self.path is not None else Path.cwd()

    def new(self) -> None:
        """Begin another album."""
        self._show(Album(), None, {}, "")

    def open(self, path: Path) -> None:
        """Open an album. Raises `GluvoError`."""
        found = read_album(path)
        self._show(found.album, path, found.kept, found.digest)
        self.measure()

    def _show(self, album: Album, path: Path | None, kept: dict[str, Any], digest: str) -> None:
        self._soon.stop()
        self._opened += 1
        file = _OnDisk(album if path is not None else None, digest)
        self.album, self.path, self._kept, self._file = album, path, kept, file
        self._before, self._after, self.wrong, self.join, self.delivered = [], [], {}, None, None
        self.stop()

    def save_as(self, path: Path) -> None:
        """Give the album a file. Raises `GluvoError`."""
        path = path if path.suffix == SUFFIX else path.with_name(f"{path.name}{SUFFIX}")
        old, new = self.folder, path.resolve().parent
        moved = tuple(msgspec.structs.replace(s, path=_relocated(s.path, old, new)) for s in self.album.songs)
        name = path.stem if self.album.name == Album().name else self.album.name
        album = msgspec.structs.replace(self.album, songs=moved, name=name)
        digest = self._patience(lambda: write_album(path, album, self._kept), path.parent)
        self.album, self.path, self._file = album, path, _OnDisk(album, digest)
        self.changed.emit()

    def flush(self) -> None:
        """Write now what would be written soon."""
        if self._soon.isActive():
            self._soon.stop()
            self._save()

    def _save(self) -> None:
        path, album, file, kept = self.path, self.album, self._file, self._kept
        if path is None:
            return
        if self._patience.waits:
            self._soon.start()
            return

        file.asked += 1

        def write(number: int = file.asked) -> None:
            with file.writing:  # one after the other, even where nobody waits any more for what hung
                if number < file.asked:
                    return
                if path.exists() and digest(read_whole(path, MOST_BYTES)) != file.digest:
                    raise SessionError(
                        f"{path.name} was changed elsewhere meanwhile. Nothing was written over it; save this one under "
                        "another name."
                    )
                file.digest = write_album(path, album, kept)
                file.album = album
            self._background.on_window(self.changed.emit)  # it is saved, however long that took

        try:
            self._patience(write, path.parent)
        except (GluvoError, OSError) as error:
            self.told.emit(str(error), True)
            self.changed.emit()  # it is not saved

    @property
    def saved(self) -> bool:
        """Whether its file holds what is shown, or will in a moment."""
        return self.path is not None and (self._file.album is self.album or self._soon.isActive() or self.saving)

    @property
    def saving(self) -> bool:
        """Whether its file is being written just now, which takes long where a folder does not answer."""
        return self._patience.waits

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, action: str, change: Callable[[Album], Album], together: str = "") -> bool:
        """A named change; gestures that have the same word in `together` are one."""
        try:
            now = change(self.album)
        except SessionError as error:
            self.told.emit(str(error), True)
            return False
        if now == self.album:
            return False
        if not (together and self._before and self._before[-1][0] == together):
            self._before.append((together or action, self.album))
        self._after.clear()
        self.album = now
        self._soon.start()
        self.changed.emit()
        return True

    def settle(self) -> None:
        """A gesture has ended."""
        if self._before:
            self._before[-1] = ("", self._before[-1][1])
        self.flush()

    def undo(self) -> None:
        self._go(self._before, self._after)

    def redo(self) -> None:
        self._go(self._after, self._before)

    def _go(self, there: list[tuple[str, Album]], here: list[tuple[str, Album]]) -> None:
        if there:
            name, album = there.pop()
            here.append((name, self.album))
            known = {song.id: song.known for song in self.album.songs}
            songs = tuple(
                msgspec.structs.replace(s, known=known.get(s.id) or s.known) for s in album.songs
            )  # what is known stays known
            self.album = msgspec.structs.replace(album, songs=songs)
            self._soon.start()
            self.changed.emit()
            self.measure()

    def add(self, paths: list[Path], after: int = -1) -> None:
        """Take further songs in, and measure them."""
        folder = self.folder
        if self.edit("Add songs", lambda a: with_songs(a, paths, folder, after)):
            self.measure()

    def _for_this_album(self, done: Callable[[T], object]) -> Callable[[T], None]:
        """What takes in a result as long as no other album was opened meanwhile."""
        mine = self._opened

        def finish(result: T) -> None:
            if mine == self._opened:
                done(result)

        return finish

    # --- measuring -----------------------------------------------------------------------------------------

    def standings(self) -> list[Standing | None]:
        return standings(self.album)

    def measure(self) -> None:
        """Find out what has changed, and render only that."""
        album, folder = self.album, self.folder
        wrong: dict[str, str] = {}
        self.measuring = True

        def work(told: Progress) -> Album:
            return up_to_date(album, folder, wrong.__setitem__, told)

        def done(found: Album) -> None:
            known = {song.id: song.known for song in found.songs}
            self.wrong = wrong
            songs = tuple(msgspec.structs.replace(s, known=known.get(s.id) or s.known) for s in self.album.songs)
            if songs != self.album.songs:
                self.album = msgspec.structs.replace(self.album, songs=songs)
                self._save()
            self.changed.emit()

        def ended() -> None:
            self.measuring = False
            self.changed.emit()

        self._background.run(ALBUM_MEASURING, "Measuring the songs", work, self._for_this_album(done), ended)

    # --- hearing -------------------------------------------------------------------------------------------

    @property
    def playing(self) -> bool:
        return self._engine is not None and self._engine.playing

    def hear_join(self, n: int) -> None:
        """The end of a song and the beginning of the next, as they will stand."""
        album, folder = self.album, self.folder
        if not 0 <= n < len(album.songs) - 1:
            self.told.emit("Nothing comes after this song: choose one that another follows.", True)
            return

        def work(told: Progress) -> tuple[np.ndarray, int]:
            return join_of(album, n, folder, progress=told)

        def done(found: tuple[np.ndarray, int]) -> None:
            rate = rate_of_album(album)
            self.join = (found[0], found[1], rate)
            self._play(
                found[0], rate, None, f"{title_of(album.songs[n])} → {title_of(album.songs[n + 1])}", loops=False
            )

        self._background.run(ALBUM_HEARING, "Making the join", work, self._for_this_album(done))

    def hear_against(self, one: str, other: str, matched: bool) -> None:
        """The loudest stretches of two songs, going round; X changes over."""
        album, folder = self.album, self.folder
        by_id = {song.id: (song, standing) for song, standing in zip(album.songs, self.standings(), strict=True)}
        pair = [by_id.get(one), by_id.get(other)]
        if any(p is None or p[1] is None for p in pair) or one == other:
            self.told.emit("Choose two songs that are measured.", True)
            return
        rate = rate_of_album(album)

        def work(told: Progress) -> list[tuple[np.ndarray, float]]:
            found = []
            for n, p in enumerate(pair):
                assert p is not None and p[1] is not None
                inside: Progress = lambda d, n=n: told(0.5 * (n + d))  # type: ignore[misc]  # noqa: E731
                part = stretch_of(p[0], folder, rate, _loudest(p[0]), inside)
                found.append((part * np.float32(gain_of(p[1].gain)), p[1].loudness))
            return found

        def done(found: list[tuple[np.ndarray, float]]) -> None:
            (a, loud_a), (b, loud_b) = found
            gains = {OTHER: loud_a - loud_b} if matched else {}
            names = [title_of(by_id[id][0]) for id in (one, other)]
            how = "equally loud" if matched else "as they will stand"
            self._play(a, rate, b, f"{names[0]} against {names[1]}, {how}", gains=gains)

        self._background.run(ALBUM_HEARING, "Making both ready", work, self._for_this_album(done))

    def change_over(self) -> None:
        """Hear the other of two."""
        if self._engine is not None and self._pair:
            self._at = RESULT if self._at == OTHER else OTHER
            self._engine.listen(Monitoring(self._at, self._gains))
            self.changed.emit()

    @property
    def at_other(self) -> bool:
        """Whether the second of two is what is heard."""
        return self._pair and self._at == OTHER

    def _play(
        self,
        audio: np.ndarray,
        rate: int,
        other: np.ndarray | None,
        words: str,
        *,
        loops: bool = True,
        gains: dict[str, float] | None = None,
    ) -> None:
        self.stop()
        self._host = self._host or self._make_host()
        media = Media(path="join.wav", size=0, sha256="0" * 64)
        session = Session(
            rate=rate, strips=(Bus(id=MIX, name="Record", into=""), Stem(id="song", name="Song", media=media))
        )
        beside: dict[str, Sound] = {}
        if other is not None:
            session = session.replace(references=(Reference(id=OTHER, name="Other", media=media),))
            beside[OTHER] = Sound(other, rate)
        sound = Sound(audio, rate)
        try:
            self._engine = RemoteEngine(
                self._host, Material(rate, {"song": sound}, len(audio)), beside, session, self._device
            )
            for id, one in beside.items():
                self._engine.add_sound(id, one, TimeMap())
        except GluvoError as error:
            self.told.emit(str(error), True)
            return
        self._pair, self._at, self._gains = other is not None, RESULT, dict(gains or {})
        self._engine.listen(Monitoring(RESULT, self._gains))
        if loops:
            self._engine.loop(0.0, len(audio) / rate)
        self._engine.play()
        self.heard = words
        self.changed.emit()

    def stop(self) -> None:
        """Nothing plays any more."""
        if self._engine is not None:
            self._engine.close()
            self._engine = None
        self._pair, self.heard = False, ""
        self.changed.emit()

    def toggle_play(self) -> None:
        if self._engine is None:
            return
        if self._engine.playing:
            self._engine.stop()
        else:
            self._engine.play()
        self.changed.emit()

    @property
    def position(self) -> float:
        return self._engine.position if self._engine is not None else 0.0

    # --- writing -------------------------------------------------------------------------------------------

    def write(self, out: Path, force: bool = False) -> None:
        """Write the record into a folder."""
        album, folder = self.album, self.folder

        def work(told: Progress) -> DeliveredAlbum:
            wrong = dict[str, str]()
            now = up_to_date(album, folder, wrong.__setitem__, lambda d: told(0.3 * d))
            if wrong:
                raise WriteError(f"Nothing was written. {next(iter(wrong.values()))}")
            return deliver_album(
                now, folder, out, force=force, gluvo=__version__, progress=lambda d: told(0.3 + 0.7 * d)
            )

        def done(found: DeliveredAlbum) -> None:
            self.delivered = found
            count = len(found.tracks) + (found.whole is not None)
            words = [f"{count} files, and what goes with them, are in {out}.", *found.warnings()]
            self.told.emit(" ".join(words), bool(found.clipped))
            self.changed.emit()

        self._background.run(WRITING, f"Writing {album.name}", work, done)

    def close(self) -> None:
        """End what plays, and its process."""
        self.flush()
        self.stop()
        if self._host is not None:
            self._host.close()
            self._host = None

    def length(self) -> float:
        """Seconds of the record; 0 until all songs are measured."""
        try:
            return laid_out(self.album)[1] / rate_of_album(self.album) if self.album.songs else 0.0
        except SessionError:
            return 0.0


def _loudest(song: AlbumSong) -> Span:
    known = song.known
    assert known is not None
    seconds = known.frames / known.rate
    if not known.curve or seconds <= LOUDEST:
        return Span(0.0, seconds)
    middle = 3.0 + (seconds - 3.0) * int(np.argmax(known.curve)) / max(1, len(known.curve) - 1) - 1.5
    start = min(max(0.0, middle - LOUDEST / 2), seconds - LOUDEST)
    return Span(start, start + LOUDEST)


def _relocated(place: str, old: Path, new: Path) -> str:
    path = (old / place).resolve()
    return path.relative_to(new).as_posix() if path.is_relative_to(new) else path.as_posix()
