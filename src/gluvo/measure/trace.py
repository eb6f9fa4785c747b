"""What a piece of audio is, every 10 ms: measured once, summed up for any span of it.

A `Trace` keeps mean squares (plain and K-weighted) and peaks of each 10 ms. Loudness, true peak, crest factor
and correlation of the whole song or of any section are sums over a slice of it, so no figure needs the audio a
second time.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.extremes import largest_magnitude
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Floats, kernel
from gluvo.dsp.vectors import fma8, load8, splat8, store8
from gluvo.measure.truepeak import AFTER, BEFORE, HOPS, HopPeaks, hop_frames, peaks_of


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


class Between:
    """The true peaks of some hops; where they are not known, they are read from the audio when they are first asked for."""

    def __init__(self, count: int, known: Floats | None = None, audio: np.ndarray | None = None, rate: int = 0) -> None:
        """Of `count` hops: `known` already, or to be read of `audio` (frames, 2), from its beginning."""
        self.count = count
        self._known, self._audio, self._rate = known, audio, rate
        self._first, self._gain = 0, 1.0

    @property
    def values(self) -> Floats:
        """Linear, ``(hops,)``."""
        if self._known is None:
            assert self._audio is not None
            self._known = peaks_of(self._audio, self._rate, self._first, self.count) * self._gain
        return self._known

    def part(self, rows: slice) -> Between:
        """Those of some of the hops."""
        first, stop, _ = rows.indices(self.count)
        made = Between(max(0, stop - first), None, self._audio, self._rate)
        made._first, made._gain = self._first + first, self._gain
        made._known = None if self._known is None else self._known[first:stop]
        return made

    def scaled(self, gain: float) -> Between:
        """Those of the same audio with another level."""
        made = self.part(slice(None))
        made._gain *= abs(gain)
        made._known = None if self._known is None else self._known * abs(gain)
        return made


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
    between: Between
    """What `true_peak` is taken from."""

    @property
    def true_peak(self) -> Floats:
        """The largest magnitude of each hop at and between samples, linear."""
        return self.between.values

    @property
    def bytes(self) -> int:
        """How much memory it takes."""
        arrays = (self.weighted, self.squares, self.product, self.sample_peak, self.sample_peak)
        return sum(int(part.nbytes) for part in arrays)

    def scaled(self, gain: float) -> Trace:
        """The trace of the same audio with another level."""
        return Trace(
            self.rate,
            self.frames,
            self.weighted * gain**2,
            self.squares * gain**2,
            self.product * gain**2,
            self.sample_peak * abs(gain),
            self.between.scaled(gain),
        )

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
            self.rate,
            frames,
            self.weighted[rows],
            self.squares[rows],
            self.product[rows],
            self.sample_peak[rows],
            self.between.part(rows),
        )

    @property
    def whole_hops(self) -> int:
        return min(len(self.weighted), self.frames // hop_frames(self.rate))


def k_weighting(rate: int) -> Floats:
    """The K-weighting of BS.1770-5 for any rate, as two sections.

    The standard gives coefficients for 48 kHz only; these are the analogue filters that lie behind them, taken
    back to the z-plane at `rate` (B. Mansbridge et al., 'Implementation and evaluation of autonomous multi-track
    fader control', AES 132, 2012). At 48 kHz they equal the standard's to 1e-8.

    >>> k_weighting(48000).shape
    (2, 6)
    """
    f, gain, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f / rate)
    vh = 10.0 ** (gain / 20.0)
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (vh + vb * k / q + k * k) / a0,
        2.0 * (k * k - vh) / a0,
        (vh - vb * k / q + k * k) / a0,
        1.0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / q + k * k) / a0,
    ]
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
        """`between`: whether peaks between samples are read, too; without, the true peak is the sample peak, unless
        `finish` is given the audio."""
        self.rate = rate
        self.hop = hop_frames(rate)
        frames = HOPS * self.hop
        self._filter = Sections(k_weighting(rate))
        self._reader = HopPeaks(rate, frames) if between else None
        self._stage = np.zeros((BEFORE + frames + AFTER, 2))
        """Frames that have not been measured, whole hops at a time, with what the interpolator sees to either side."""
        self._weighted = np.zeros((frames, 2))
        self._lanes = np.zeros(8)
        self._filled, self._frames = BEFORE, 0
        self._rows, self._peaks = np.zeros((1024, SUMS)), np.zeros(1024)

    def push(self, x: np.ndarray) -> None:
        """Measure the next block, ``(n, 2)``; float32 is taken too."""
        at = 0
        while at < len(x):
            n = min(len(x) - at, len(self._stage) - self._filled)
            self._stage[self._filled : self._filled + n] = x[at : at + n]
            self._filled += n
            at += n
            if self._filled == len(self._stage):
                self._measure(HOPS * self.hop)

    def _measure(self, frames: int) -> None:
        """Measure so many frames of the stage, and keep what lies after them."""
        first, count = self._frames // self.hop, -(-frames // self.hop)
        if first + count > len(self._rows):
            more = max(count, len(self._rows))
            self._rows, self._peaks = np.pad(self._rows, ((0, more), (0, 0))), np.pad(self._peaks, (0, more))
        x, weighted = self._stage[BEFORE : BEFORE + frames], self._weighted[:frames]
        self._filter.run(x, weighted)
        sum_hops(x, weighted, self.hop, self._lanes, self._rows[first : first + count])
        if self._reader is not None:
            self._reader.read(self._stage[: BEFORE + frames + AFTER], self._peaks[first : first + count])
        self._frames += frames
        kept = self._filled - frames
        self._stage[:kept] = self._stage[frames : self._filled].copy()
        self._filled = kept

    def finish(self, audio: np.ndarray | None = None) -> Trace:
        """The trace of all that was pushed. Nothing can be pushed after.

        `audio`: all of it again; peaks between samples are then read from it, but only when they are asked for.
        """
        while (left := self._filled - BEFORE) > 0:
            stage = self._stage
            stage[self._filled :] = 0.0
            self._filled = len(stage)
            self._measure(min(left, HOPS * self.hop))
            self._filled = BEFORE + left - min(left, HOPS * self.hop)
        hops = -(-self._frames // self.hop)
        rows = self._rows[:hops]
        mean = rows[:, :5] / self.hop
        peaks = rows[:, 5].copy()
        known = self._peaks[:hops].copy() if self._reader is not None else None if audio is not None else peaks
        between = Between(hops, known, audio, self.rate)
        return Trace(self.rate, self._frames, mean[:, 0:2], mean[:, 2:4], mean[:, 4], peaks, between)


SUMS = 6
"""K-weighted left and right, plain left and right, product, and the sample peak."""


@kernel
def sum_hops(x, weighted, hop, lanes, rows):  # type: ignore[no-untyped-def]
    """The sums of every hop of `x` (frames, 2) into `rows`, and its largest sample. `lanes` (8) is written over.

    Four frames go at a time. Of ``x[j] x[j + 1]`` every other one is left × right.
    """
    flat, heavy = x.reshape(-1), weighted.reshape(-1)
    for h in range(rows.shape[0]):
        start, stop = 2 * h * hop, min(flat.shape[0], 2 * (h + 1) * hop)
        energy, plain, both = splat8(0.0), splat8(0.0), splat8(0.0)
        j = start
        while j + 9 <= stop:
            w, v = load8(heavy, j), load8(flat, j)
            energy, plain, both = fma8(w, w, energy), fma8(v, v, plain), fma8(v, load8(flat, j + 1), both)
            j += 8
        a = b = c = d = e = 0.0
        while j < stop:
            a += heavy[j] * heavy[j]
            b += heavy[j + 1] * heavy[j + 1]
            c += flat[j] * flat[j]
            d += flat[j + 1] * flat[j + 1]
            e += flat[j] * flat[j + 1]
            j += 2
        row = rows[h]
        store8(lanes, 0, energy)
        row[0] = a + ((lanes[0] + lanes[2]) + (lanes[4] + lanes[6]))
        row[1] = b + ((lanes[1] + lanes[3]) + (lanes[5] + lanes[7]))
        store8(lanes, 0, plain)
        row[2] = c + ((lanes[0] + lanes[2]) + (lanes[4] + lanes[6]))
        row[3] = d + ((lanes[1] + lanes[3]) + (lanes[5] + lanes[7]))
        store8(lanes, 0, both)
        row[4] = e + ((lanes[0] + lanes[2]) + (lanes[4] + lanes[6]))
        row[5] = largest_magnitude(flat[start:stop])


def trace_of(x: np.ndarray, rate: int) -> Trace:
    """The trace of a whole piece of audio, ``(frames, 2)``.

    >>> trace = trace_of(np.full((48000, 2), 0.5), 48000)
    >>> trace.seconds, float(trace.squares[50, 0])
    (1.0, 0.25)
    """
    tracer = Tracer(rate)
    tracer.push(x)
    return tracer.finish()
