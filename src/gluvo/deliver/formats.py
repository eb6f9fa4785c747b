"""The kinds of files that are written. A new one is a record in `FORMATS` and a word in `session.records.FileFormat`."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import get_args

import numpy as np
import soundfile

from gluvo.errors import WriteError
from gluvo.session.records import Deliverable, FileFormat

SUBTYPES = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}


@dataclass(frozen=True)
class Format:
    """A kind of file."""

    key: FileFormat
    name: str
    depths: tuple[str, ...]
    """The depths that it can hold, the one to fall back on first."""
    why_not: str
    """Why it cannot hold the others, in a sentence."""
    encode: Callable[[np.ndarray, int, str], bytes]
    """The whole file from samples that are as they go into it, the rate in Hz, and the depth."""

    @property
    def suffix(self) -> str:
        return f".{self.key}"


def _by_soundfile(kind: str) -> Callable[[np.ndarray, int, str], bytes]:
    def encode(data: np.ndarray, rate: int, depth: str) -> bytes:
        memory = io.BytesIO()  # so that what the system then says of the disk is said plainly
        soundfile.write(memory, data, rate, SUBTYPES[depth], format=kind)
        return memory.getvalue()

    return encode


FORMATS: dict[str, Format] = {
    format.key: format
    for format in (
        Format("wav", "WAV", ("24", "16", "32f"), "", _by_soundfile("WAV")),
        Format(
            "flac",
            "FLAC",
            ("24", "16"),
            "FLAC holds whole numbers only: choose 16 or 24 bit, or WAV for 32-bit float.",
            _by_soundfile("FLAC"),
        ),
    )
}
assert set(FORMATS) == set(get_args(FileFormat))


def format_of(deliverable: Deliverable) -> Format:
    """The format of a deliverable. Raises `WriteError` if it cannot hold the depth."""
    found = FORMATS[deliverable.format]
    if deliverable.bits not in found.depths:
        raise WriteError(found.why_not)
    return found
