"""The picture that goes with a song."""

from __future__ import annotations

from pathlib import Path

from gluvo.errors import WriteError
from gluvo.session.files import read_whole, reason_of

MOST_COVER = 16_000_000
"""Bytes of a picture."""


def cover_of(path: Path) -> bytes:
    """The picture of a cover. Raises `WriteError` where it is not there, or neither JPEG nor PNG."""
    try:
        content = read_whole(path, MOST_COVER)
    except (OSError, ValueError) as error:
        raise WriteError(f"The cover {path.name} cannot be read ({reason_of(error)}).") from None
    kind_of(content, path.name)
    return content


def kind_of(content: bytes, name: str = "cover") -> str:
    """The type of a picture as files name it. Raises `WriteError` for others than JPEG and PNG."""
    if content.startswith(b"\xff\xd8\xff"):
        return "image/jpeg"
    if content.startswith(b"\x89PNG\r\n\x1a\n"):
        return "image/png"
    raise WriteError(f"The cover {name} is neither a JPEG nor a PNG.")
