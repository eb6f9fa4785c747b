"""Where the songs of a record lie on it, to the sample."""

from __future__ import annotations

from dataclasses import dataclass

from gluvo.compare.album_standings import Standing, standings
from gluvo.deliver.write import Written
from gluvo.errors import SessionError
from gluvo.session.album import Album, AlbumSong, title_of


def rate_of_album(album: Album) -> int:
    """Hz that the record runs at."""
    first = next((s.known.rate for s in album.songs if s.known is not None), 48_000)
    return album.rate or min(192_000, max(44_100, first))


@dataclass(frozen=True)
class Placed:
    """A song on the record."""

    song: AlbumSong
    standing: Standing
    start: int
    """The frame of the record with which it begins."""
    frames: int


def laid_out(album: Album) -> tuple[tuple[Placed, ...], int]:
    """Where each song lies on the record, and how many frames that has. Raises `SessionError` where one is not measured, or an
    overlap is longer than a song."""
    rate, at, placed = rate_of_album(album), 0, list[Placed]()
    found = standings(album)
    for n, (song, standing) in enumerate(zip(album.songs, found, strict=True)):
        if song.known is None or standing is None:
            raise SessionError(f"{title_of(song)} has not been measured yet.")
        frames = round(song.known.frames * rate / song.known.rate)
        placed.append(Placed(song, standing, at, frames))
        last = n == len(album.songs) - 1
        gap = 0 if last else round(song.gap * rate)
        if -gap > frames or (not last and -gap > _frames_of(album.songs[n + 1], rate)):
            raise SessionError(f"The overlap after {title_of(song)} is longer than one of the two songs.")
        at += frames + gap
    return tuple(placed), at


def _frames_of(song: AlbumSong, rate: int) -> int:
    return round(song.known.frames * rate / song.known.rate) if song.known is not None else 1 << 60


@dataclass(frozen=True)
class DeliveredTrack:
    """A file of a track, or of the whole record."""

    title: str
    written: Written
    sha256: str
