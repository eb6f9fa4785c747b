"""Whether an audio file ends where it says it does."""

from __future__ import annotations

import re
from pathlib import Path

import soundfile

UNKNOWN = (0xFFFF_FFFF, 0x7FFF_FFFF, 0xFFFF_FFFF_FFFF_FFFF)
"""What files say of their length that were written into a pipe."""
_CLAIMS = re.compile(r"^\s*(data|SSND|riff)\s*:\s*(\d+) \(should be (\d+)\)")
PAGE_HEAD, LONGEST_PAGE = 27, 65_307
LAST_PAGE = 4


def cut_short(path: Path) -> bool:
    """Whether the end of an audio file is missing, as its own headers tell.

    WAV, AIFF, W64, RF64 and CAF by libsndfile's log, Ogg (Vorbis, Opus, FLAC) by the mark on its last page
    (RFC 3533).
    """
    with path.open("rb") as file:
        head = file.read(4)
    if head == b"OggS":
        return not _ogg_ends(path)
    for line in soundfile.info(str(path), verbose=True).extra_info.splitlines():
        claim = _CLAIMS.match(line)
        if claim and int(claim[2]) not in UNKNOWN and int(claim[2]) > int(claim[3]):
            return True
        if "ds64" in line and "does not match" in line:
            return True
    return False


def _ogg_ends(path: Path) -> bool:
    """Whether the last page is whole and marked as the last of its stream."""
    size = path.stat().st_size
    with path.open("rb") as file:
        file.seek(max(0, size - 2 * LONGEST_PAGE))
        tail = file.read()
    at = tail.rfind(b"OggS")
    while at >= 0:
        head = tail[at : at + PAGE_HEAD]
        table = tail[at + PAGE_HEAD : at + PAGE_HEAD + head[26]] if len(head) == PAGE_HEAD else b""
        if len(head) == PAGE_HEAD and len(table) == head[26]:
            end = at + PAGE_HEAD + len(table) + sum(table)
            if end == len(tail):
                return bool(head[5] & LAST_PAGE)
        at = tail.rfind(b"OggS", 0, at)
    return False
