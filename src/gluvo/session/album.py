"""An album: sessions and finished files in an order, with what lies between them; kept in a file of its own."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta, Struct

from gluvo.errors import SessionError
from gluvo.session.codec import Format
from gluvo.session.files import digest, read_whole, reason_of, replacing
from gluvo.session.migrations import VERSION
from gluvo.session.records import Deliverable, Id, Line, Name, Tags, Target
from gluvo.session.sounds import AUDIO_SUFFIXES
from gluvo.session.store import SUFFIX as SESSION_SUFFIX
from gluvo.steps.settings import choice, number, switch

SUFFIX = ".gluvo-album"
MOST_SONGS = 200
MOST_BYTES = 64 << 20
"""No album file is larger."""
CURVE_POINTS = 600
"""Of a song's loudness over time, at most."""


class KnownSong(Struct, frozen=True, kw_only=True):
    """What a song measured when it was last rendered."""

    key: Annotated[str, Meta(max_length=200)]
    """Of its sound then."""
    rate: Annotated[int, Meta(ge=0, le=768_000)]
    frames: Annotated[int, Meta(ge=0)]
    figures: dict[str, float] = {}
    """By the keys of `measure.figures`."""
    curve: Annotated[tuple[float, ...], Meta(max_length=CURVE_POINTS)] = ()
    """LUFS, short-term, at even distances from its beginning to its end."""
    tone: Annotated[tuple[float, ...], Meta(max_length=100)] = ()
    """dB in each third of an octave from 31.5 Hz on, less its loudness."""
    chorus: float | None = None
    """LUFS of its first chorus; none where no section is called so."""


class AlbumSong(Struct, frozen=True, kw_only=True):
    """A song's place in an album."""

    id: Id
    path: Annotated[str, Meta(min_length=1, max_length=4096, pattern="^[^\\x00]*$")]
    """Of a session or a finished file: relative to the album's folder, or absolute where it lies elsewhere."""
    title: Line = ""
    """Empty: as its session or its file is called."""
    isrc: Annotated[str, Meta(pattern="^([A-Z]{2}[A-Z0-9]{3}[0-9]{7})?$")] = ""
    gap: Annotated[
        float,
        number(
            "Gap after",
            "s",
            -30.0,
            60.0,
            "Silence between this song and the next, to the sample; under 0 the two overlap and are crossfaded.",
            decimals=3,
            fine=0.1,
        ),
    ] = 2.0
    lift: Annotated[
        float,
        number(
            "Lift",
            "dB",
            -24.0,
            12.0,
            "How much louder or softer the song stands on the record than it would.",
            fine=0.1,
        ),
    ] = 0.0
    known: KnownSong | None = None


class Album(Struct, frozen=True, kw_only=True):
    """Songs as a record."""

    format: Literal["gluvo-album"] = "gluvo-album"
    version: Annotated[int, Meta(ge=1)] = VERSION
    name: Name = "Untitled album"
    rate: Annotated[int, Meta(ge=0, le=192_000)] = 0
    """Hz that the record runs at; 0 takes the first song's."""
    songs: Annotated[tuple[AlbumSong, ...], Meta(max_length=MOST_SONGS)] = ()
    levels: Annotated[
        Literal["as", "keep", "one"],
        choice(
            "Levels",
            (("as", "as they are"), ("keep", "keep differences"), ("one", "one level")),
            "As they are: each as its session or file is. Keep differences: all moved together, so that the loudest meets the "
            "target. One level: each to the target, as far as its peaks let it.",
        ),
    ] = "as"
    by: Annotated[
        Literal["integrated", "loudest", "chorus"],
        choice(
            "By",
            (("integrated", "the whole song"), ("loudest", "its loudest 3 s"), ("chorus", "its first chorus")),
            "What of each song counts as its level. Where no section is called a chorus or refrain, the whole song does.",
        ),
    ] = "integrated"
    target: Target = Target(name="Record", loudness=-14.0, true_peak=-1.0)
    tags: Tags = Tags()
    rows: Annotated[tuple[Deliverable, ...], Meta(max_length=20)] = (
        Deliverable(id="row-1", name="Tracks", pattern="{track} {name}"),
    )
    """The formats that each track is written in."""
    continuous: Annotated[
        Literal["none", "wav", "flac"],
        choice(
            "In one file",
            (("none", "no"), ("wav", "WAV"), ("flac", "FLAC")),
            "The whole record as one file, with a CUE sheet that says where its songs begin, in 1/75 s.",
        ),
    ] = "wav"
    sums: Annotated[
        bool,
        switch("Checksums", "A list of the files' SHA-256, for whoever is given them to see that they came whole."),
    ] = True


FORMAT = Format("gluvo-album", Album, "album", SessionError)


class LoadedAlbum(Struct, frozen=True):
    """An album as read, with what the file held besides."""

    album: Album
    kept: dict[str, Any]
    digest: str


def read_album(path: Path) -> LoadedAlbum:
    """Read and check an album. Raises `SessionError` with what is wrong and where."""
    try:
        text = read_whole(path, MOST_BYTES)
    except FileNotFoundError:
        raise SessionError(f"{path.name} was not found in {path.absolute().parent}.") from None
    except (OSError, ValueError, RuntimeError) as error:
        raise SessionError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    found = FORMAT.decoded(text, path.name)
    ids = [song.id for song in found.record.songs]
    if "" in ids or len(set(ids)) != len(ids):
        raise SessionError(f"{path.name} has two songs with the same id, or one without.")
    return LoadedAlbum(found.record, found.unknown, digest(text))


def write_album(path: Path, album: Album, kept: dict[str, Any] | None = None) -> str:
    """Write an album; its content's digest. Raises `WriteError`; the old file stays as it was then."""
    content = FORMAT.encoded(album, kept)
    with replacing(path) as file:
        file.write(content)
    return digest(content)


def with_songs(album: Album, paths: Sequence[Path], folder: Path, after: int = -1) -> Album:
    """The album with further songs behind one of them (the last). Raises `SessionError` for what is no song."""
    songs, new = list(album.songs), list[AlbumSong]()
    for path in paths:
        if path.suffix == SUFFIX:
            raise SessionError(f"{path.name} is an album. An album holds sessions and finished files.")
        if path.suffix.lower() not in (SESSION_SUFFIX, *AUDIO_SUFFIXES):
            raise SessionError(f"{path.name} is neither a session nor an audio file.")
        if not path.is_file():
            raise SessionError(f"{path.name} was not found in {path.absolute().parent}.")
        taken = {song.id for song in (*songs, *new)}
        id = next(id for n in itertools.count(1) if (id := f"song-{n}") not in taken)
        new.append(AlbumSong(id=id, path=_relative(path, folder)))
    if len(songs) + len(new) > MOST_SONGS:
        raise SessionError(f"An album holds {MOST_SONGS} songs at most.")
    at = len(songs) if after < 0 else after + 1
    return replaced(album, songs=(*songs[:at], *new, *songs[at:]))


def moved(album: Album, id: str, by: int) -> Album:
    """A song earlier or later in the order."""
    songs = list(album.songs)
    at = next((n for n, song in enumerate(songs) if song.id == id), -1)
    if at >= 0 and 0 <= at + by < len(songs):
        songs.insert(at + by, songs.pop(at))
    return replaced(album, songs=tuple(songs))


def without(album: Album, id: str) -> Album:
    return replaced(album, songs=tuple(song for song in album.songs if song.id != id))


def with_song(album: Album, song: AlbumSong) -> Album:
    """The song of that id replaced."""
    return replaced(album, songs=tuple(song if s.id == song.id else s for s in album.songs))


def replaced(album: Album, **changes: object) -> Album:
    """The album with some fields changed. Raises `SessionError` for what an album cannot hold."""
    made = msgspec.structs.replace(album, **changes)
    try:
        return msgspec.convert(msgspec.to_builtins(made), Album)
    except msgspec.ValidationError as error:
        raise SessionError(f"That is beyond what an album holds: {error}.") from None


def place_of(song: AlbumSong, folder: Path) -> Path:
    """Where a song's file should be."""
    return folder / song.path


def is_session(song: AlbumSong) -> bool:
    return song.path.endswith(SESSION_SUFFIX)


def title_of(song: AlbumSong) -> str:
    """What a song is called."""
    return song.title or Path(song.path).stem


def _relative(path: Path, folder: Path) -> str:
    path, folder = path.resolve(), folder.resolve()
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else path.as_posix()
