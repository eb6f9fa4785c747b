"""Tags in finished files, by mutagen."""

from __future__ import annotations

import base64
import os
import struct
from collections.abc import Callable
from typing import IO, Any

from mutagen import MutagenError
from mutagen.aiff import AIFF
from mutagen.flac import FLAC, Picture
from mutagen.id3 import APIC, COMM, TALB, TDRC, TIT2, TPE1, TRCK, TSRC
from mutagen.mp3 import MP3
from mutagen.mp4 import MP4, MP4Cover, MP4FreeForm
from mutagen.oggopus import OggOpus
from mutagen.oggvorbis import OggVorbis
from mutagen.wave import WAVE

from gluvo.deliver.covers import kind_of
from gluvo.errors import WriteError
from gluvo.session.records import FileFormat, Tags

RIFF = b"RIFF"


def tag(file: IO[bytes], format: FileFormat, tags: Tags, cover: bytes | None, title: str) -> None:
    """Write tags into an open, complete file; `title` in place of the tags' own. Nothing where there is nothing to tell.

    Raises `WriteError` if the file cannot take them.
    """
    plain = {name: getattr(tags, name) for name in ("artist", "album", "track", "year", "isrc", "comment")}
    plain = {name: value for name, value in {"title": title, **plain}.items() if value}
    if not plain and cover is None:
        return
    file.seek(0)
    if format == "wav" and file.read(4) != RIFF:
        return  # the tags of a WAV over 4 GB have no place in it
    file.seek(0)
    try:
        _TAGGERS[format](file, plain, cover)
    except MutagenError as error:
        cause = error.__cause__ or error.__context__ or error
        if isinstance(cause, OSError):
            raise cause from None
        raise WriteError(f"The tags could not be written ({error}).") from None


def _id3(kind: Callable[[IO[bytes]], Any]) -> Callable[[IO[bytes], dict[str, str], bytes | None], None]:
    frames = {"title": TIT2, "artist": TPE1, "album": TALB, "track": TRCK, "year": TDRC, "isrc": TSRC}

    def write(file: IO[bytes], plain: dict[str, str], cover: bytes | None) -> None:
        audio = kind(file)
        if audio.tags is None:
            audio.add_tags()
        for name, value in plain.items():
            if name == "comment":
                audio.tags.add(COMM(encoding=3, lang="und", desc="", text=value))
            else:
                audio.tags.add(frames[name](encoding=3, text=value))
        if cover is not None:
            audio.tags.add(APIC(encoding=3, mime=kind_of(cover), type=3, desc="", data=cover))
        file.seek(0)
        audio.save(file)

    return write


_INFO = {
    "title": b"INAM",
    "artist": b"IART",
    "album": b"IPRD",
    "track": b"IPRT",
    "year": b"ICRD",
    "isrc": b"ISRC",
    "comment": b"ICMT",
}
"""Chunks of RIFF INFO (Multimedia Programming Interface and Data Specifications 1.0, 1991), which most readers know; track
and ISRC are not in that list, and are written as many others do."""
DESCRIPTION = 256
"""Bytes of the description at the beginning of a broadcast chunk."""


def _wav(file: IO[bytes], plain: dict[str, str], cover: bytes | None) -> None:
    """As RIFF INFO, in the broadcast chunk's description (EBU Tech 3285), and as ID3, which takes a cover as well."""
    described = " - ".join(plain[name] for name in ("artist", "title") if name in plain)
    if (place := _chunk(file, b"bext")) is not None:
        file.seek(place)
        file.write(described.encode("ascii", "replace")[:DESCRIPTION].ljust(DESCRIPTION, b"\0"))
    info = b"INFO"
    for name, value in plain.items():
        text = value.encode() + b"\0"
        info += _INFO[name] + struct.pack("<I", len(text)) + text + b"\0" * (len(text) % 2)
    end = file.seek(0, os.SEEK_END)
    file.write(b"\0" * (end % 2) + b"LIST" + struct.pack("<I", len(info)) + info)
    size = file.tell() - 8
    file.seek(4)
    file.write(struct.pack("<I", size))
    file.seek(0)
    _id3(WAVE)(file, plain, cover)


def _chunk(file: IO[bytes], name: bytes) -> int | None:
    """Where the content of a chunk of a RIFF file begins; None where there is none."""
    place, end = 12, file.seek(0, os.SEEK_END)
    while place + 8 <= end:
        file.seek(place)
        found, size = struct.unpack("<4sI", file.read(8))
        if found == name:
            return place + 8
        place += 8 + size + size % 2
    return None


_COMMENTS = {
    "title": "TITLE",
    "artist": "ARTIST",
    "album": "ALBUM",
    "track": "TRACKNUMBER",
    "year": "DATE",
    "isrc": "ISRC",
    "comment": "COMMENT",
}


def _picture(cover: bytes) -> Picture:
    picture = Picture()
    picture.data, picture.type, picture.mime = cover, 3, kind_of(cover)
    return picture


def _flac(file: IO[bytes], plain: dict[str, str], cover: bytes | None) -> None:
    audio: Any = FLAC(file)
    for name, value in plain.items():
        audio[_COMMENTS[name]] = value
    if cover is not None:
        audio.add_picture(_picture(cover))
    file.seek(0)
    audio.save(file)


def _ogg(kind: Callable[[IO[bytes]], Any]) -> Callable[[IO[bytes], dict[str, str], bytes | None], None]:
    def write(file: IO[bytes], plain: dict[str, str], cover: bytes | None) -> None:
        audio = kind(file)
        for name, value in plain.items():
            audio[_COMMENTS[name]] = value
        if cover is not None:
            audio["METADATA_BLOCK_PICTURE"] = base64.b64encode(_picture(cover).write()).decode()
        file.seek(0)
        audio.save(file)

    return write


def _mp4(file: IO[bytes], plain: dict[str, str], cover: bytes | None) -> None:
    audio: Any = MP4(file)
    keys = {"title": "\xa9nam", "artist": "\xa9ART", "album": "\xa9alb", "year": "\xa9day", "comment": "\xa9cmt"}
    for name, value in plain.items():
        if name == "track":
            number, _, total = value.partition("/")
            audio["trkn"] = [(int(number), int(total or 0))]
        elif name == "isrc":
            audio["----:org.gluvo:ISRC"] = MP4FreeForm(value.encode())
        else:
            audio[keys[name]] = value
    if cover is not None:
        png = kind_of(cover) == "image/png"
        audio["covr"] = [MP4Cover(cover, MP4Cover.FORMAT_PNG if png else MP4Cover.FORMAT_JPEG)]
    file.seek(0)
    audio.save(file)


_TAGGERS: dict[str, Callable[[IO[bytes], dict[str, str], bytes | None], None]] = {
    "wav": _wav,
    "aiff": _id3(AIFF),
    "mp3": _id3(MP3),
    "flac": _flac,
    "ogg": _ogg(OggVorbis),
    "opus": _ogg(OggOpus),
    "aac": _mp4,
}
