"""What a step may have besides settings: audio that was recorded elsewhere, and what of the song was sent there."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta, Struct


class Media(Struct, frozen=True, kw_only=True):
    """An audio file, referred to by its place, size and content."""

    path: Annotated[str, Meta(min_length=1, max_length=4096, pattern="^[^\\x00]*$")]
    """Relative to the session's folder, or absolute where it lies elsewhere; with forward slashes."""
    size: Annotated[int, Meta(ge=0)]
    sha256: Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
    seconds: float | None = None
    """How long it was when it was brought in; these three tell what has changed if it is printed again."""
    peak: float | None = None
    """dBFS"""
    loudness: float | None = None
    """LUFS, integrated."""


class Sent(Struct, frozen=True, kw_only=True):
    """What of the song went out at a step: enough to tell later whether something else flows there now."""

    media: Media
    """The file that it was written to; it is another one's to keep, and may be gone."""
    key: Annotated[str, Meta(max_length=100)]
    """Of the sound, as `render.plan` has it."""
    rate: Annotated[int, Meta(ge=44_100, le=192_000)]
    frames: Annotated[int, Meta(ge=0)]
    """Of the song in it."""
    loudness: float = -200.0
    """LUFS, integrated."""
    tone: Annotated[tuple[float, ...], Meta(max_length=20)] = ()
    """dB of power in the ranges of `compare.print_changes.BANDS`."""
    mono: bool = False
    """Whether both channels were the same."""
    made: Annotated[str, Meta(pattern="^([0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2})?$")] = ""
    """When, local time (ISO 8601)."""


class Return(Struct, frozen=True, kw_only=True):
    """What came back from outside, and how it lies against what was sent."""

    media: Media
    sent: Sent
    begins: Annotated[float, Meta(ge=-86_400.0, le=86_400.0)] = 0.0
    """Where in the file the song begins, s; under 0 where the file begins later."""
    drift: Annotated[float, Meta(ge=-1000.0, le=1000.0)] = 0.0
    """ppm by which the file takes longer than what was sent."""
    gain: float = 0.0
    """dB by which it came back louder, as its pings were."""
    inverted: bool = False
    noise: float | None = None
    """dBFS, RMS, in the silence after the ping; none where it could not be heard."""
    failed: Annotated[tuple[Annotated[str, Meta(max_length=300)], ...], Meta(max_length=20)] = ()
    """What went wrong on the way, a few words each."""
    made: Annotated[str, Meta(pattern="^([0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2})?$")] = ""
