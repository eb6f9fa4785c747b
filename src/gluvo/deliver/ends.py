"""How a file begins and ends: the silence there, what is cut, and its sound with fades, to be heard before it is written."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from gluvo.advise.watchouts.edges import LIMIT
from gluvo.deliver.rows import fade
from gluvo.dsp.kernel import Audio, Floats
from gluvo.measure.trace import Span
from gluvo.render.scaled import Sounding
from gluvo.session.records import Deliverable

SILENT = 10.0 ** (-80.0 / 20.0)
"""Full scale; what stays under it counts as silence."""
END = 0.04
"""s of the end whose RMS is told."""
PIECE = 1 << 16
"""Frames that are looked at together."""


@dataclass(frozen=True)
class Ends:
    """The two ends of a file."""

    before: float
    """s of silence before the first sound; all of it, where there is none."""
    after: float
    """s of silence after the last sound."""
    last: float
    """RMS of the last `END` s, dBFS."""
    cut: bool
    """Whether it ends in the middle of sound."""

    @property
    def words(self) -> str:
        """In a sentence or two; nothing to be said of an end that is as it should be."""
        told = [f"{self.before:.2f} s of silence before the first sound"] if self.before >= 0.01 else []
        if self.cut:
            told.append(f"the last {1000 * END:.0f} ms are cut at {self.last:.0f} dBFS".replace("-", "−"))
        elif self.after >= 0.01:
            told.append(f"{self.after:.2f} s of silence after the last")
        text = "; ".join(told)
        return f"{text[0].upper()}{text[1:]}." if text else ""


def gains_of(row: Deliverable, frames: int, rate: int) -> Callable[[int, int], Floats]:
    """A row's fades over so many frames of its sound, as factors from one frame to another."""
    up = fade(row.fade_shape, min(frames, round(row.fade_in * rate)))
    down = fade(row.fade_shape, min(frames, round(row.fade_out * rate)))[::-1]

    def part(first: int, last: int) -> Floats:
        made = np.ones(last - first)
        count = min(last, len(up)) - first
        if count > 0:
            made[:count] *= up[first : first + count]
        begin = frames - len(down)
        if last > begin:
            at = max(first, begin)
            made[at - first :] *= down[at - begin : last - begin]
        return made

    return part


def ends_of(audio: Sounding, rate: int, row: Deliverable, loudness: float) -> Ends:
    """The ends of a row's file whose sound is `audio` (frames, 2), of some loudness in LUFS: it is cut where its last moment is
    louder against that than the watch-out of edges lets be."""
    frames, gains = len(audio), gains_of(row, len(audio), rate)

    def sounding(first: int, last: int) -> np.ndarray:
        faded = np.abs(np.asarray(audio[first:last], dtype=np.float64)).max(axis=1, initial=0.0) * gains(first, last)
        return np.flatnonzero(faded > SILENT)

    begin = frames
    for at in range(0, frames, PIECE):
        if len(places := sounding(at, min(frames, at + PIECE))):
            begin = at + int(places[0])
            break
    end = begin
    for at in range(frames, begin, -PIECE):
        if len(places := sounding(max(0, at - PIECE), at)):
            end = max(0, at - PIECE) + int(places[-1]) + 1
            break
    tail = max(0, frames - round(END * rate))
    last = np.asarray(audio[tail:frames], dtype=np.float64) * gains(tail, frames)[:, None]
    level = 10.0 * np.log10(max(1e-20, float(np.square(last).mean()) if len(last) else 0.0))
    before, after = (begin + row.lead) / rate, (frames - end + row.tail) / rate
    return Ends(before, after, float(level), level > loudness + LIMIT)


def as_written(audio: Sounding, rate: int, row: Deliverable, span: Span | None) -> Audio:
    """A row's sound with its fades, (frames, 2) float32; of a span of the song, or all of it."""
    frames = slice(0, len(audio)) if span is None else span.frames(rate, len(audio))
    part = np.array(audio[frames], dtype=np.float32)
    gains = gains_of(row, len(part), rate)
    for at in range(0, len(part), PIECE):
        last = min(len(part), at + PIECE)
        part[at:last] *= gains(at, last)[:, None].astype(np.float32)
    return part  # type: ignore[return-value]
