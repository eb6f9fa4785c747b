"""Tags in finished files: a few chunks, boxes and blocks of our own; in Ogg by FFmpeg's muxer, whose pages depend on them."""

from __future__ import annotations

import base64
import os
import shutil
import struct
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from gluvo.deliver.covers import kind_of
from gluvo.deliver.formats import FORMATS, TagKind
from gluvo.deliver.writers import Watched
from gluvo.errors import WriteError
from gluvo.session.records import FileFormat, Tags

RIFF = b"RIFF"
PIECE = 1 << 20
"""Bytes that are copied at a time."""
FRONT_COVER = 3
"""What ID3, FLAC and Ogg call a picture of the front cover."""

Plain = dict[str, str]
"""Values by the names that `Tags` has for them."""


def tag(file: IO[bytes], format: FileFormat, tags: Tags, cover: bytes | None, title: str) -> None:
    """Write tags into an open, complete file; `title` in place of the tags' own. Nothing where there is nothing to tell.

    Raises `WriteError` if the file cannot take them, and `OSError` if it cannot be written to.
    """
    plain = {name: getattr(tags, name) for name in ("artist", "album", "track", "year", "isrc", "comment")}
    plain = {name: value for name, value in {"title": title, **plain}.items() if value}
    kind = FORMATS[format].tags
    if kind is None or (not plain and cover is None):
        return
    file.seek(0)
    if kind == "riff" and file.read(4) != RIFF:
        return  # the tags of a WAV over 4 GB have no place in it
    file.seek(0)
    _TAGGERS[kind](file, plain, cover)


# --- ID3 ---------------------------------------------------------------------------------------------------------------

_FRAMES = {
    "title": b"TIT2",
    "artist": b"TPE1",
    "album": b"TALB",
    "track": b"TRCK",
    "year": b"TDRC",
    "isrc": b"TSRC",
}
_UTF_8 = b"\3"


def id3_tag(plain: Plain, cover: bytes | None) -> bytes:
    """An ID3v2.4 tag (M. Nilsson, 'ID3 tag version 2.4.0', 2000).

    >>> id3_tag({"title": "Low Water"}, None)[:10]
    b'ID3\\x04\\x00\\x00\\x00\\x00\\x00\\x14'
    """
    frames = b""
    for name, value in plain.items():
        text = value.encode()
        if name == "comment":
            frames += _frame(b"COMM", _UTF_8 + b"und\0" + text)
        else:
            frames += _frame(_FRAMES[name], _UTF_8 + text)
    if cover is not None:
        frames += _frame(b"APIC", _UTF_8 + kind_of(cover).encode() + bytes((0, FRONT_COVER, 0)) + cover)
    return b"ID3\4\0\0" + _syncsafe(len(frames)) + frames


def _frame(name: bytes, content: bytes) -> bytes:
    return name + _syncsafe(len(content)) + b"\0\0" + content


def _syncsafe(size: int) -> bytes:
    """28 bits, seven to a byte, so that no size looks like the beginning of audio."""
    return bytes(size >> shift & 0x7F for shift in (21, 14, 7, 0))


def _id3(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    def with_tag(into: IO[bytes]) -> None:
        into.write(id3_tag(plain, cover))
        shutil.copyfileobj(file, into, PIECE)

    _rewritten(file, with_tag)


# --- chunks --------------------------------------------------------------------------------------------------------------

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


def _riff(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    """As RIFF INFO, in the broadcast chunk's description (EBU Tech 3285), and as ID3, which takes a cover as well."""
    described = " - ".join(plain[name] for name in ("artist", "title") if name in plain)
    if (place := _chunk(file, b"bext")) is not None:
        file.seek(place)
        file.write(described.encode("ascii", "replace")[:DESCRIPTION].ljust(DESCRIPTION, b"\0"))
    info = b"INFO"
    for name, value in plain.items():
        info += _padded(_INFO[name], value.encode() + b"\0", "<I")
    _add_chunks(file, (b"LIST", info), (b"id3 ", id3_tag(plain, cover)), size="<I")


def _aiff(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    _add_chunks(file, (b"ID3 ", id3_tag(plain, cover)), size=">I")


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


def _padded(name: bytes, content: bytes, size: str) -> bytes:
    """A chunk with its name and size, as a whole number of pairs of bytes."""
    return name + struct.pack(size, len(content)) + content + b"\0" * (len(content) % 2)


def _add_chunks(file: IO[bytes], *chunks: tuple[bytes, bytes], size: str) -> None:
    """Put chunks at the end of a RIFF or AIFF file, and mend the size that stands at its beginning."""
    end = file.seek(0, os.SEEK_END)
    file.write(b"\0" * (end % 2) + b"".join(_padded(name, content, size) for name, content in chunks))
    whole = file.tell() - 8
    file.seek(4)
    file.write(struct.pack(size, whole))


# --- boxes ---------------------------------------------------------------------------------------------------------------

_ITEMS = {"title": b"\xa9nam", "artist": b"\xa9ART", "album": b"\xa9alb", "year": b"\xa9day", "comment": b"\xa9cmt"}
_TEXT, _JPEG, _PNG, _NUMBERS = 1, 13, 14, 0
"""Kinds of values in an item list (QuickTime File Format Specification, 'Well-known types')."""


def _mp4(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    """As a list of items in the movie box, which lies at the end, so that nothing has to move for it."""
    items = b"".join(_items(plain, cover))
    handler = _box(b"hdlr", b"\0" * 8 + b"mdirappl" + b"\0" * 9)
    ours = _box(b"udta", _box(b"meta", b"\0" * 4 + handler + _box(b"ilst", items)))
    place, end = 0, file.seek(0, os.SEEK_END)
    while place + 8 <= end:
        file.seek(place)
        size, name = struct.unpack(">I4s", file.read(8))
        if size == 1:
            (size,) = struct.unpack(">Q", file.read(8))
        if name == b"moov" and place + size == end:
            inside = file.read(size - 8)
            kept = b"".join(box for found, box in _boxes(inside) if found != b"udta")
            file.seek(place)
            file.write(_box(b"moov", kept + ours))
            file.truncate()
            return
        if size < 8:
            break
        place += size
    raise WriteError("The tags could not be written (the file does not end as it should).")


def _items(plain: Plain, cover: bytes | None) -> Iterator[bytes]:
    for name, value in plain.items():
        if name == "track":
            number, _, total = value.partition("/")
            yield _box(b"trkn", _value(_NUMBERS, struct.pack(">HHHH", 0, int(number), int(total or 0), 0)))
        elif name == "isrc":
            mean, called = _box(b"mean", b"\0" * 4 + b"org.gluvo"), _box(b"name", b"\0" * 4 + b"ISRC")
            yield _box(b"----", mean + called + _value(_TEXT, value.encode()))
        else:
            yield _box(_ITEMS[name], _value(_TEXT, value.encode()))
    if cover is not None:
        yield _box(b"covr", _value(_PNG if kind_of(cover) == "image/png" else _JPEG, cover))


def _value(kind: int, content: bytes) -> bytes:
    return _box(b"data", struct.pack(">II", kind, 0) + content)


def _box(name: bytes, content: bytes) -> bytes:
    return struct.pack(">I4s", len(content) + 8, name) + content


def _boxes(content: bytes) -> Iterator[tuple[bytes, bytes]]:
    place = 0
    while place + 8 <= len(content):
        size, name = struct.unpack_from(">I4s", content, place)
        if size < 8:
            return
        yield name, content[place : place + size]
        place += size


# --- Vorbis comments -------------------------------------------------------------------------------------------------------

_COMMENTS = {
    "title": "TITLE",
    "artist": "ARTIST",
    "album": "ALBUM",
    "track": "TRACKNUMBER",
    "year": "DATE",
    "isrc": "ISRC",
    "comment": "COMMENT",
}
_COMMENT_BLOCK, _PICTURE_BLOCK, _PADDING_BLOCK = 4, 6, 1
_LAST = 0x80


def _flac(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    """As metadata blocks (RFC 9639, 8.6 and 8.8), in place of any that are there."""
    blocks, last = [], False
    file.seek(len(b"fLaC"))
    while not last:
        head = file.read(4)
        kind, last = head[0] & ~_LAST, bool(head[0] & _LAST)
        content = file.read(int.from_bytes(head[1:], "big"))
        if kind not in (_COMMENT_BLOCK, _PICTURE_BLOCK, _PADDING_BLOCK):
            blocks.append((kind, content))
    audio = file.tell()
    blocks.append((_COMMENT_BLOCK, _comments(plain)))
    if cover is not None:
        blocks.append((_PICTURE_BLOCK, _picture(cover)))

    def with_blocks(into: IO[bytes]) -> None:
        into.write(b"fLaC")
        for n, (kind, content) in enumerate(blocks):
            into.write(
                struct.pack(">I", (kind | (_LAST if n == len(blocks) - 1 else 0)) << 24 | len(content)) + content
            )
        file.seek(audio)
        shutil.copyfileobj(file, into, PIECE)

    _rewritten(file, with_blocks)


def _comments(plain: Plain) -> bytes:
    """A row of comments (Ogg Vorbis I, 5), without a framing bit."""
    vendor, rows = b"Gluvo", [f"{_COMMENTS[name]}={value}".encode() for name, value in plain.items()]
    return b"".join(
        (
            struct.pack("<I", len(vendor)),
            vendor,
            struct.pack("<I", len(rows)),
            *(struct.pack("<I", len(r)) + r for r in rows),
        )
    )


def _picture(cover: bytes) -> bytes:
    """A picture as FLAC has it; of its size and colours nothing is told, which every reader sees for itself."""
    mime = kind_of(cover).encode()
    return struct.pack(">II", FRONT_COVER, len(mime)) + mime + struct.pack(">6I", 0, 0, 0, 0, 0, len(cover)) + cover


def _ogg(file: IO[bytes], plain: Plain, cover: bytes | None) -> None:
    """Comments of the stream, the picture in base64 among them. FFmpeg's muxer lays the pages anew; the packets of audio are
    copied as they are."""
    import av  # here, since it takes long to load

    told = {_COMMENTS[name].lower(): value for name, value in plain.items()}
    if cover is not None:
        told["METADATA_BLOCK_PICTURE"] = base64.b64encode(_picture(cover)).decode()

    def copy(into: IO[bytes]) -> None:
        watched = Watched(into)
        try:
            with (
                av.open(Watched(file), "r") as source,
                av.open(watched, "w", format="ogg", options={"fflags": "+bitexact"}) as made,
            ):
                audio = source.streams.audio[0]
                stream = made.add_stream_from_template(audio)
                stream.metadata.update(told)
                for packet in source.demux(audio):
                    if packet.size:  # the last one only says that it is over
                        packet.stream = stream
                        made.mux(packet)
        except av.FFmpegError as error:
            watched.check()
            raise WriteError(f"The tags could not be written ({error.strerror}).") from None
        watched.check()

    _rewritten(file, copy)


def _rewritten(file: IO[bytes], write: Callable[[IO[bytes]], None]) -> None:
    """Give a file the content that is written into another one, beside it."""
    place = Path(f"/proc/self/fd/{file.fileno()}").readlink()  # where there is room for the one, there is for two
    with tempfile.TemporaryFile(dir=place.parent) as other:
        file.seek(0)
        write(other)
        other.seek(0)
        file.seek(0)
        shutil.copyfileobj(other, file, PIECE)
        file.truncate()


_TAGGERS: dict[TagKind, Callable[[IO[bytes], Plain, bytes | None], None]] = {
    "riff": _riff,
    "aiff": _aiff,
    "id3": _id3,
    "flac": _flac,
    "ogg": _ogg,
    "mp4": _mp4,
}
