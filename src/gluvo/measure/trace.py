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
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.simd_max import largest_magnitude
from gluvo.dsp.vectors import fma2, load2, mul2, store2
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


class LazyTruePeaks:
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

    def part(self, rows: slice) -> LazyTruePeaks:
        """Those of some of the hops."""
        first, stop, _ = rows.indices(self.count)
        made = LazyTruePeaks(max(0, stop - first), None, self._audio, self._rate)
        made._first, made._gain = self._first + first, self._gain
        made._known = None if self._known is None else self._known[first:stop]
        return made

    def scaled(self, gain: float) -> LazyTruePeaks:
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
    between: LazyTruePeaks
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
        self._filter = Sections(k_weighting(rate))
        self._reader = HopPeaks(rate, HOPS * self.hop) if between else None
        self._stage = np.zeros((BEFORE + HOPS * self.hop + AFTER, 2))
        """Frames between which no peaks have been read, whole hops at a time, with what the interpolator sees to either
        side."""
        self._filled, self._frames = BEFORE, 0
        self._sums, self._rows, self._peaks = np.zeros(SUMS), np.zeros((1024, SUMS)), np.zeros(1024)

    def push(self, x: np.ndarray) -> None:
        """Measure the next block, ``(n, 2)``; float32 is taken too."""
        if self._reader is None:
            self._push_sums(x)
            return
        at = 0
        while at < len(x):
            n = min(len(x) - at, len(self._stage) - self._filled)
            self._stage[self._filled : self._filled + n] = x[at : at + n]
            self._filled += n
            at += n
            if self._filled == len(self._stage):
                self._measure(HOPS * self.hop)

    def _push_sums(self, x: np.ndarray) -> None:
        """The same, where nothing is read between samples."""
        if x.dtype == np.float64 and x.flags.c_contiguous:
            self._sum(x)
            return
        for at in range(0, len(x), len(self._stage)):
            part = x[at : at + len(self._stage)]
            self._stage[: len(part)] = part
            self._sum(self._stage[: len(part)])

    def _measure(self, frames: int) -> None:
        """Measure so many frames of the stage, and keep what lies after them."""
        first, count = self._frames // self.hop, -(-frames // self.hop)
        self._sum(self._stage[BEFORE : BEFORE + frames])
        assert self._reader is not None
        self._reader.read(self._stage[: BEFORE + frames + AFTER], self._peaks[first : first + count])
        kept = self._filled - frames
        self._stage[:kept] = self._stage[frames : self._filled].copy()
        self._filled = kept

    def _sum(self, x: Audio) -> None:
        first, begun = divmod(self._frames, self.hop)
        if first + len(x) // self.hop + 2 > len(self._rows):
            more = max(len(x) // self.hop + 2, len(self._rows))
            self._rows, self._peaks = np.pad(self._rows, ((0, more), (0, 0))), np.pad(self._peaks, (0, more))
        sum_hops(self._filter.coefficients, self._filter.states, x, self.hop, begun, self._sums, self._rows[first:])
        self._frames += len(x)

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
        if self._frames % self.hop:
            rows[-1] = self._sums
        mean = rows[:, :5] / self.hop
        peaks = rows[:, 5].copy()
        known = self._peaks[:hops].copy() if self._reader is not None else None if audio is not None else peaks
        between = LazyTruePeaks(hops, known, audio, self.rate)
        return Trace(self.rate, self._frames, mean[:, 0:2], mean[:, 2:4], mean[:, 4], peaks, between)


SUMS = 6
"""K-weighted left and right, plain left and right, product, and the sample peak."""


@kernel
def sum_hops(coefficients: Floats, memory: Floats, x: Audio, hop: int, begun: int, sums: Floats, rows: Floats) -> None:
    """The sums of every hop that ends in `x` (frames, 2), into rows from the first on.

    `begun` frames of the first one have been before; `sums` (6) and the `memory` of the K-weighting, two sections with
    `coefficients` as of `Sections`, are carried from block to block. The filter waits for itself, so that the sums,
    taken on the way, cost no time.
    """
    flat, c, m = x.reshape(-1), coefficients, memory
    b0, b1, b2, a1, a2 = load2(c, 0), load2(c, 4), load2(c, 8), load2(c, 12), load2(c, 16)
    d0, d1, d2, e1, e2 = load2(c, 2), load2(c, 6), load2(c, 10), load2(c, 14), load2(c, 18)
    p, r, q, s = load2(m, 0), load2(m, 2), load2(m, 4), load2(m, 6)
    at, row = 0, 0
    while at < x.shape[0]:
        count = min(x.shape[0] - at, hop - begun)
        energy, plain, both = load2(sums, 0), load2(sums, 2), sums[4]
        for i in range(2 * at, 2 * (at + count), 2):
            u = load2(flat, i)
            v = fma2(b0, u, p)
            p = fma2(a1, v, fma2(b1, u, q))
            q = fma2(a2, v, mul2(b2, u))
            w = fma2(d0, v, r)
            r = fma2(e1, w, fma2(d1, v, s))
            s = fma2(e2, w, mul2(d2, v))
            energy, plain = fma2(w, w, energy), fma2(u, u, plain)
            both += flat[i] * flat[i + 1]
        store2(sums, 0, energy)
        store2(sums, 2, plain)
        sums[4], sums[5] = both, max(sums[5], largest_magnitude(flat[2 * at : 2 * (at + count)]))
        at += count
        begun += count
        if begun == hop:
            rows[row] = sums
            sums[:] = 0.0
            begun = 0
            row += 1
    store2(m, 0, p)
    store2(m, 2, r)
    store2(m, 4, q)
    store2(m, 6, s)
    for k in range(memory.shape[0]):
        if abs(memory[k]) < 1e-30:  # decayed to nothing: denormal numbers are slow
            memory[k] = 0.0


def trace_of(x: np.ndarray, rate: int) -> Trace:
    """The trace of a whole piece of audio, ``(frames, 2)``.

    >>> trace = trace_of(np.full((48000, 2), 0.5), 48000)
    >>> trace.seconds, float(trace.squares[50, 0])
    (1.0, 0.25)
    """
    tracer = Tracer(rate)
    tracer.push(x)
    return tracer.finish()
