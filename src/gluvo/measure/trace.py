"""What a piece of audio is, every 10 ms: measured once, summed up for any span of it.

A `Trace` keeps mean squares (plain and K-weighted) and peaks of each 10 ms. Loudness, true peak, crest factor
and correlation of the whole song or of any section are sums over a slice of it, so no figure needs the audio a
second time.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.filters import Sections
from gluvo.dsp.interpolation import HALF, PeakReader, bend, fine_peak, tops
from gluvo.dsp.kernel import Audio, Floats, kernel

BLOCK = 8192
"""Frames that the tracer takes at a time."""


def hop_frames(rate: int) -> int:
    """Frames in 10 ms."""
    return rate // 100


@dataclass(frozen=True)
class Span:
    """A stretch of time in seconds, from `start` up to `end`."""

    start: float
    end: float

    def frames(self, rate: int, total: int) -> slice:
        """The same as a slice of frames, inside `total`."""
        first = min(max(0, round(self.start * rate)), total)
        return slice(first, min(max(first, round(self.end * rate)), total))

    @property
    def seconds(self) -> float:
        return self.end - self.start


@dataclass(frozen=True, eq=False)
class Trace:
    """Every 10 ms of a piece of audio. Arrays have one row a hop; a last, shorter hop counts for peaks only."""

    rate: int
    frames: int
    weighted: Floats
    """K-weighted mean squares, ``(hops, 2)``."""
    squares: Floats
    """Mean squares, ``(hops, 2)``."""
    product: Floats
    """Mean of left × right, ``(hops,)``."""
    sample_peak: Floats
    true_peak: Floats

    def scaled(self, gain: float) -> Trace:
        """The trace of the same audio with another level."""
        return Trace(
            self.rate, self.frames, self.weighted * gain**2, self.squares * gain**2, self.product * gain**2,
            self.sample_peak * abs(gain), self.true_peak * abs(gain),
        )  # fmt: skip

    @property
    def seconds(self) -> float:
        return self.frames / self.rate

    @property
    def hop_seconds(self) -> float:
        return hop_frames(self.rate) / self.rate

    def cut(self, span: Span | None) -> Trace:
        """The part of the trace inside `span`, to the nearest hop."""
        if span is None:
            return self
        hop = hop_frames(self.rate)
        rows = slice(*(max(0, round(t * self.rate / hop)) for t in (span.start, span.end)))
        frames = max(0, min(self.frames, rows.stop * hop) - rows.start * hop)
        return Trace(
            self.rate, frames, self.weighted[rows], self.squares[rows], self.product[rows],
            self.sample_peak[rows], self.true_peak[rows],
        )  # fmt: skip

    @property
    def whole_hops(self) -> int:
        return min(len(self.weighted), self.frames // hop_frames(self.rate))


def k_weighting(rate: int) -> Floats:
    """The K-weighting of BS.1770-5 for any rate, as two sections.

    The standard gives coefficients for 48 kHz only; these are the analogue filters that lie behind them, taken
    back to the z-plane at `rate` (B. Mansbridge et al., 'Implementation and evaluation of autonomous multi-track
    fader control', AES 132, 2012). At 48 kHz they equal the standard's to 1e-8.
    """
    f, gain, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f / rate)
    vh = 10.0 ** (gain / 20.0)
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (vh + vb * k / q + k * k) / a0, 2.0 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
        1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0,
    ]  # fmt: skip
    f, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * f / rate)
    a0 = 1.0 + k / q + k * k
    cut = [1.0, -2.0, 1.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0]
    return np.array([shelf, cut])


class Tracer:
    """Measures audio block by block.

    >>> tracer = Tracer(48000)
    >>> tracer.push(np.full((48000, 2), 0.5))
    >>> trace = tracer.finish()
    >>> len(trace.sample_peak), float(trace.sample_peak[0])
    (100, 0.5)
    """

    def __init__(self, rate: int, *, between: bool = True) -> None:
        """`between`: whether peaks between samples are read, too; without, the true peak is the sample peak."""
        self.rate = rate
        self.hop = hop_frames(rate)
        self._between = between
        self._filter = Sections(k_weighting(rate))
        self._reader = PeakReader(rate, BLOCK)
        self._weighted = np.zeros((BLOCK, 2))
        self._frames = 0
        self._rows = np.zeros((1024, 7))

    def push(self, x: np.ndarray) -> None:
        """Measure the next block, ``(n, 2)``; float32 is taken too."""
        for start in range(0, len(x), BLOCK):
            part = np.ascontiguousarray(x[start : start + BLOCK], dtype=np.float64)
            self._push(part, len(part))

    def _push(self, x: Audio, counted: int) -> None:
        need = (self._frames + len(x)) // self.hop + 2
        if need > len(self._rows):
            grown = np.zeros((max(need, 2 * len(self._rows)), 7))
            grown[: len(self._rows)] = self._rows
            self._rows = grown
        weighted = self._weighted[: len(x)]
        self._filter.run(x, weighted)
        reader = self._reader
        if self._between:
            reader.take(x)
        # without rough readings, which then stay 0, none is read finely
        gather(
            x, weighted, reader.rough, reader.history, reader.fine, self._frames, counted, self.hop, HALF, self._rows
        )  # fmt: skip
        if self._between:
            reader.leave(len(x))
        self._frames += counted

    def finish(self) -> Trace:
        """The trace of all that was pushed. Nothing can be pushed after."""
        self._push(np.zeros((HALF, 2)), 0)  # lets the last peaks out of the interpolator
        rows = self._rows[: -(-self._frames // self.hop)]
        mean = rows[:, :5] / self.hop
        return Trace(
            self.rate, self._frames, mean[:, 0:2], mean[:, 2:4], mean[:, 4], rows[:, 5].copy(),
            rows[:, 6 if self._between else 5].copy(),
        )  # fmt: skip


@kernel
def gather(x, weighted, rough, history, fine, first, counted, hop, late, rows):  # type: ignore[no-untyped-def]
    """Add a block to the hops' sums (K-weighted, plain, product) and largest values (sample, true peak).

    Only readings that may raise their hop's true peak are read finely.
    """
    frames = x.shape[0]
    row, left = first // hop, hop - first % hop
    for i in range(counted):
        a, b = x[i, 0], x[i, 1]
        rows[row, 0] += weighted[i, 0] * weighted[i, 0]
        rows[row, 1] += weighted[i, 1] * weighted[i, 1]
        rows[row, 2] += a * a
        rows[row, 3] += b * b
        rows[row, 4] += a * b
        rows[row, 5] = max(rows[row, 5], max(abs(a), abs(b)))
        left -= 1
        if left == 0:
            row, left = row + 1, hop
    skip = max(0, late - first)
    row = (first + skip - late) // hop
    left = hop - (first + skip - late) % hop
    for i in range(skip, frames):
        for c in range(2):
            v = rough[c, i + 1]
            if v > 0.7 * rows[row, 6] and v + bend(history[c], i) > rows[row, 6] and tops(rough[c], i, 1.05):
                rows[row, 6] = max(rows[row, 6], fine_peak(fine, history[c], i))
        left -= 1
        if left == 0:
            row, left = row + 1, hop


def trace_of(x: np.ndarray, rate: int) -> Trace:
    """The trace of a whole piece of audio, ``(frames, 2)``."""
    tracer = Tracer(rate)
    tracer.push(x)
    return tracer.finish()
