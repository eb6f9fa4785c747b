"""The kinds of files that are written. A new one is a record in `FORMATS` and a word in `session.records.FileFormat`."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

from gluvo.deliver.writers import FOUR_GB, Open, av_writer, broadcast_wav, soundfile_writer, vorbis_writer
from gluvo.errors import WriteError
from gluvo.session.records import Deliverable, FileFormat

WHOLE = {"16": "PCM_16", "24": "PCM_24"}
ALL_RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)

TagKind = Literal["riff", "aiff", "id3", "flac", "ogg", "mp4"]
"""See `tagging`."""


@dataclass(frozen=True)
class Format:
    """A kind of file."""

    key: FileFormat
    name: str
    suffix: str
    open: Open
    depths: tuple[str, ...] = ()
    """The depths that it can hold, the one to fall back on first; none where something is lost."""
    why_not: str = ""
    """Why it cannot hold the others, in a sentence."""
    rates: tuple[int, ...] = ALL_RATES
    """Hz that it can hold."""
    tags: TagKind | None = None
    """How it tells of the song; not at all, if there is none."""
    most: int = 0
    """Bytes of audio that a file can hold; 0 where that is no matter."""

    @property
    def lossy(self) -> bool:
        return not self.depths

    def rate_for(self, rate: int) -> int:
        """The rate that it takes for a song of `rate`: that one, or the highest of the same family that it holds."""
        if rate in self.rates:
            return rate
        family = [r for r in self.rates if r % 44_100 == 0] if rate % 44_100 == 0 else []
        family = family or [r for r in self.rates if r % 48_000 == 0] or list(self.rates)
        return max(family)


FORMATS: dict[str, Format] = {
    format.key: format
    for format in (
        Format("wav", "WAV", ".wav", broadcast_wav, ("24", "16", "32f"), tags="riff"),
        Format(
            "flac",
            "FLAC",
            ".flac",
            soundfile_writer("FLAC", WHOLE),
            ("24", "16"),
            "FLAC holds whole numbers only: choose 16 or 24 bit, or WAV for 32-bit float.",
            tags="flac",
        ),
        Format(
            "aiff",
            "AIFF",
            ".aiff",
            soundfile_writer("AIFF", {**WHOLE, "32f": "FLOAT"}),
            ("24", "16", "32f"),
            tags="aiff",
            most=FOUR_GB,
        ),
        Format(
            "mp3",
            "MP3",
            ".mp3",
            av_writer("mp3", "libmp3lame", options={"id3v2_version": "0"}),
            rates=(44_100, 48_000),
            tags="id3",
        ),
        Format(
            "aac",
            "AAC",
            ".m4a",
            av_writer("ipod", "aac"),
            rates=(44_100, 48_000, 88_200, 96_000),
            tags="mp4",
        ),
        Format(
            "ogg",
            "Ogg Vorbis",
            ".ogg",
            vorbis_writer,
            rates=(44_100, 48_000, 88_200, 96_000, 192_000),
            tags="ogg",
        ),
        Format(
            "opus",
            "Opus",
            ".opus",
            av_writer("ogg", "libopus"),
            rates=(48_000,),
            tags="ogg",
        ),
    )
}
assert set(FORMATS) == set(get_args(FileFormat))


def format_of(deliverable: Deliverable) -> Format:
    """The format of a deliverable. Raises `WriteError` if it cannot hold the depth or the rate."""
    found = FORMATS[deliverable.format]
    if found.depths and deliverable.bits not in found.depths:
        raise WriteError(found.why_not)
    if deliverable.rate and deliverable.rate not in found.rates:
        *others, last = (f"{rate / 1000:g}" for rate in found.rates)
        rates = f"{', '.join(others)} or {last}" if others else last
        raise WriteError(f"{found.name} cannot hold {deliverable.rate / 1000:g} kHz: choose {rates} kHz.")
    return found
