"""From the song's blocks to one row's files: converted, held, cut, faded, rounded, encoded, in one pass."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import IO

import numpy as np
import soxr

from gluvo.deliver.formats import Format
from gluvo.deliver.writers import Writer
from gluvo.dsp.dither import Ditherer
from gluvo.dsp.kernel import Audio, Floats
from gluvo.render.chain import Chain
from gluvo.session.records import Deliverable
from gluvo.steps import MAX_BLOCK, Step

INAUDIBLE = 0.005
"""dB over full scale that are not worth a word: what stands exactly at full scale is cut by one step."""
EVEN_DB = 60.0
"""dB that an even fade goes through before it ends in silence."""


FROM_SILENCE = 0.125
"""The share of an even fade in which it comes out of silence; from there on it rises by the same dB each moment."""


def fade(shape: str, count: int) -> Floats:
    """Gains that rise from 0 to 1 over `count` frames; the first is 0.

    >>> fade("straight", 4).tolist()
    [0.0, 0.25, 0.5, 0.75]
    """
    t = np.arange(count) / max(1, count)
    if shape == "smooth":
        return np.asarray(0.5 - 0.5 * np.cos(np.pi * t))
    if shape == "even":
        first = np.minimum(t / FROM_SILENCE, 1.0)
        return np.asarray(10.0 ** (-EVEN_DB * (1.0 - t) / 20.0) * first * first * (3.0 - 2.0 * first))
    return t


@dataclass(frozen=True)
class Piece:
    """A file of a row: which of the row's frames go into it."""

    start: int
    end: int
    file: IO[bytes]


class _Out:
    """One file: fades, silence, rounding and encoding of its frames."""

    def __init__(self, piece: Piece, row: Deliverable, format: Format, rate: int) -> None:
        self.start, self.end, self._row = piece.start, piece.end, row
        self._writer: Writer = format.open(piece.file, rate, row.bits, row.bit_rate)
        whole = not format.lossy and row.bits != "32f"
        self._dither = Ditherer(int(row.bits), rate, row.dither, row.shaping / 100.0) if whole else None
        length = piece.end - piece.start
        self._rise = fade(row.fade_shape, min(length, round(row.fade_in * rate)))
        self._fall = fade(row.fade_shape, min(length, round(row.fade_out * rate)))[::-1]
        self._silent, self._sounded = 0, False
        self._peak = 0.0
        self._zeros(row.lead)

    def push(self, at: int, block: Audio) -> None:
        """Frames of the row from `at` on; those outside of the piece are left out."""
        a, b = max(at, self.start), min(at + len(block), self.end)
        if b <= a:
            return
        part = block[a - at : b - at]
        first, rest = a - self.start, self.end - b
        if first < len(self._rise) or rest < len(self._fall):
            part = part.copy()
            if first < len(self._rise):
                n = min(len(part), len(self._rise) - first)
                part[:n] *= self._rise[first : first + n, None]
            over = min(len(part), len(self._fall) - rest)
            if over > 0:
                stop = len(self._fall) - rest
                part[len(part) - over :] *= self._fall[stop - over : stop, None]
        self._put(part)

    def finish(self) -> None:
        self._zeros(self._row.tail)
        self._flush_silence(dithered=not self._row.keep_silence)
        self._writer.close()

    def abandon(self) -> None:
        self._writer.abandon()

    @property
    def clipped(self) -> float:
        """dB by which samples passed full scale where whole numbers end; 0 if none did, or the file can hold them."""
        over = 20.0 * math.log10(max(self._peak, 1e-10))
        return over if over > INAUDIBLE else 0.0

    def _zeros(self, count: int) -> None:
        for at in range(0, count, MAX_BLOCK):
            self._put(np.zeros((min(MAX_BLOCK, count - at), 2)))

    def _put(self, part: Audio) -> None:
        """Silence before the first sound and after the last may stay silent; whether it is the last is known later."""
        if self._dither is None or not self._row.keep_silence:
            self._write(part)
            return
        sounding = np.flatnonzero(part.any(axis=1))
        if not len(sounding):
            self._silent += len(part)
            return
        first, last = int(sounding[0]), int(sounding[-1]) + 1
        self._silent += first
        self._flush_silence(dithered=self._sounded)
        self._sounded = True
        self._write(part[first:last])
        self._silent = len(part) - last

    def _flush_silence(self, dithered: bool) -> None:
        while self._silent > 0:
            n = min(self._silent, MAX_BLOCK)
            self._silent -= n
            if dithered:
                self._write(np.zeros((n, 2)))
            else:
                self._writer.write(np.zeros((n, 2), dtype=np.int32))

    def _write(self, part: Audio) -> None:
        if self._dither is None:
            self._writer.write(part.astype(np.float32))
        elif len(part):
            self._peak = max(self._peak, float(np.abs(part).max()))
            self._writer.write(self._dither.run(part))


class RowStream:
    """Takes the song's blocks at its own rate and fills a row's files. Nothing of the song is kept."""

    def __init__(
        self,
        row: Deliverable,
        format: Format,
        rates: tuple[int, int],
        frames: int,
        pieces: tuple[Piece, ...],
        holder: Step | None,
    ) -> None:
        """`rates`: of the song and of the files, Hz. `frames`: of the song. `holder` holds the ceiling after conversion."""
        come, go = rates
        self.total = round(frames * go / come)
        self._outs = [_Out(piece, row, format, go) for piece in pieces]
        self._convert = soxr.ResampleStream(come, go, 2, "float64", "VHQ") if come != go else None
        self._chain = Chain([holder], go) if holder is not None and come != go else None
        self._skip = self._chain.latency if self._chain is not None else 0
        self._at, self._work = 0, np.zeros((MAX_BLOCK, 2))
        self.mended = 0.0
        """dB by which the ceiling was passed after rate conversion, and brought back."""

    def push(self, block: Audio) -> None:
        """The next block of the song."""
        self._converted(block if self._convert is None else self._convert.resample_chunk(np.ascontiguousarray(block)))

    def finish(self) -> None:
        """The song is over: the files get exactly the frames that they should have."""
        if self._convert is not None:
            self._converted(self._convert.resample_chunk(np.zeros((0, 2)), last=True))
        late = self._chain.latency if self._chain is not None else 0
        while (rest := self.total + late - self._at - (late - self._skip)) > 0:
            self._converted(np.zeros((min(rest, MAX_BLOCK), 2)))
        for out in self._outs:
            out.finish()

    @property
    def clipped(self) -> tuple[float, ...]:
        """By how many dB each file's samples were too high for it, and were cut off."""
        return tuple(out.clipped for out in self._outs)

    def abandon(self) -> None:
        """The files are not wanted."""
        for out in self._outs:
            out.abandon()

    def _converted(self, block: Audio) -> None:
        for a in range(0, len(block), MAX_BLOCK):
            part = block[a : a + MAX_BLOCK]
            if self._chain is not None:
                done = self._work[: len(part)]
                self._chain.process(part, done)
                self.mended = max(self.mended, float(self._chain.processors[0].reduction[: len(part)].max()))
                dropped = min(self._skip, len(done))
                self._skip -= dropped
                part = done[dropped:]
            part = part[: self.total - self._at]
            for out in self._outs:
                out.push(self._at, part)
            self._at += len(part)
