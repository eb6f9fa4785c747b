"""Peaks between samples (ITU-R BS.1770-5, Annex 2, made finer).

Two interpolators share the work. A coarse one, fourfold with 12 taps as in the standard, runs over everything in
vector code. A fine one, eightfold with 64 taps and a parabola through its highest points, runs only where the
coarse reading tops its surroundings and comes near what matters. The fine one is within 0.05 dB of ideal
interpolation up to 0.47 of the sample rate.
"""

from __future__ import annotations

import functools

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.simd_max import largest_sum
from gluvo.dsp.vectors import fma8, load8, splat8, store8

TAPS = 64
"""Taps of each fine phase; the filter looks `HALF` samples to either side."""
HALF = TAPS // 2
COARSE_TAPS, GENTLE_TAPS = 12, 20
LANES = 8
"""Phases that are read at a time, with zeros for those that there are not."""
STRETCH = 64
"""Frames that are looked over at a time for what needs a fine reading."""
BEND = 0.12
"""How much of the local curvature the coarse reading may be low by: next to nothing for lows, 3 dB at 20 kHz."""

COARSE_RIPPLE = 1.0045
"""By how much the coarse readings may be too high (0.039 dB, at 0.35 of the rate)."""
GENTLE_RIPPLE = 1.0042
"""By how much the gentle filter's readings may be too high (0.036 dB, at 0.4 of the rate)."""
RIPPLE = 1.0006
"""The fine readings' own error below 10 kHz (0.005 dB)."""
HIGH = 0.05
"""A bend of more than this share of the reading means highs, 5 kHz and up: only these are read gently, too."""
SAFE = 1.004
"""A gentle filter's readings are taken this much larger (0.03 dB): they are only sampled, too."""


@functools.cache
def phases(factor: int, taps: int, beta: float) -> Floats:
    """Kaiser-windowed sinc phases, ``(factor − 1, taps)``: phase p reads (p + 1)/factor after a sample.

    The sample itself needs no filter. Each phase has unit gain at 0 Hz.

    >>> phases(4, 12, 5.0).shape
    (3, 12)
    """
    half = taps // 2
    offsets = np.arange(1, factor)[:, None] / factor
    t = np.arange(-half + 1, half + 1)[None, :] - offsets
    window = np.i0(beta * np.sqrt(np.maximum(0.0, 1.0 - (t / half) ** 2))) / np.i0(beta)
    h = np.sinc(t) * window
    return np.ascontiguousarray(h / h.sum(axis=1, keepdims=True))


def coarse_phases(rate: int) -> Floats:
    """Fourfold up to 64 kHz, twofold above.

    >>> coarse_phases(48000).shape
    (3, 12)
    """
    return phases(4 if rate <= 64_000 else 2, COARSE_TAPS, 5.0)


def fine_phases(rate: int) -> Floats:
    """Eightfold up to 128 kHz, fourfold above.

    >>> fine_phases(48000).shape
    (7, 64)
    """
    return phases(8 if rate <= 128_000 else 4, TAPS, 6.0)


def gentle_phases(rate: int) -> Floats:
    """As `fine_phases`, of 20 taps, but falling slowly past the Nyquist frequency, as many converters do.

    >>> gentle_phases(192000).shape
    (3, 20)
    """
    return phases(8 if rate <= 128_000 else 4, GENTLE_TAPS, 5.0)


def beside(h: Floats) -> Floats:
    """Phases as `fine_peak` takes them, flat: ``(taps, LANES)``, tap by tap, the phases of each beside one another.

    >>> beside(fine_phases(48000)).shape
    (512,)
    """
    return np.ascontiguousarray(np.pad(h, ((0, LANES - len(h)), (0, 0))).T).reshape(-1)


@kernel
def take_in(x: Audio, history: Floats) -> None:
    """Append `x` (frames, 2) behind the kept frames of `history` (2, …)."""
    left, right = history[0], history[1]
    for i in range(x.shape[0]):
        left[TAPS - 1 + i] = x[i, 0]
        right[TAPS - 1 + i] = x[i, 1]


@kernel
def let_go(history: Floats, frames: int) -> None:
    """Keep the last frames of `history` (2, …) for the next block."""
    for c in range(2):
        row = history[c]
        for i in range(TAPS - 1):
            row[i] = row[frames + i]


@kernel
def coarse_peaks(h: Floats, history: Floats, count: int, rough: Floats) -> None:
    """The coarse reading of the interval from each sample to the next into ``rough[:count]``.

    The first is the interval before the block's own first: the fine reading asks for neighbours, and must get the
    same answer however the audio is cut into blocks. The middle phase is symmetric, the outer two are mirror images of
    each other, so that sums and differences of the samples to either side serve both: of what their even part ``a`` and
    their odd part ``b`` make, ``|a + b|`` and ``|a − b|``, the larger is ``|a| + |b|``.
    """
    o = HALF - COARSE_TAPS // 2 - 1
    x0, x1, x2 = history[o : o + count], history[o + 1 : o + 1 + count], history[o + 2 : o + 2 + count]
    x3, x4, x5 = history[o + 3 : o + 3 + count], history[o + 4 : o + 4 + count], history[o + 5 : o + 5 + count]
    x6, x7, x8 = history[o + 6 : o + 6 + count], history[o + 7 : o + 7 + count], history[o + 8 : o + 8 + count]
    x9, xa, xb = history[o + 9 : o + 9 + count], history[o + 10 : o + 10 + count], history[o + 11 : o + 11 + count]
    m = h[h.shape[0] // 2]
    m0, m1, m2, m3, m4, m5 = m[0], m[1], m[2], m[3], m[4], m[5]
    if h.shape[0] == 1:
        for i in range(count):
            v = m0 * (x0[i] + xb[i]) + m1 * (x1[i] + xa[i]) + m2 * (x2[i] + x9[i])
            v += m3 * (x3[i] + x8[i]) + m4 * (x4[i] + x7[i]) + m5 * (x5[i] + x6[i])
            rough[i] = max(max(abs(x5[i]), abs(x6[i])), abs(v))
        return
    p, q = h[0], h[2]
    a0, a1, a2 = 0.5 * (p[0] + q[0]), 0.5 * (p[1] + q[1]), 0.5 * (p[2] + q[2])
    a3, a4, a5 = 0.5 * (p[3] + q[3]), 0.5 * (p[4] + q[4]), 0.5 * (p[5] + q[5])
    b0, b1, b2 = 0.5 * (p[0] - q[0]), 0.5 * (p[1] - q[1]), 0.5 * (p[2] - q[2])
    b3, b4, b5 = 0.5 * (p[3] - q[3]), 0.5 * (p[4] - q[4]), 0.5 * (p[5] - q[5])
    for i in range(count):
        s0, s1, s2 = x0[i] + xb[i], x1[i] + xa[i], x2[i] + x9[i]
        s3, s4, s5 = x3[i] + x8[i], x4[i] + x7[i], x5[i] + x6[i]
        d0, d1, d2 = x0[i] - xb[i], x1[i] - xa[i], x2[i] - x9[i]
        d3, d4, d5 = x3[i] - x8[i], x4[i] - x7[i], x5[i] - x6[i]
        v = (m0 * s0 + m1 * s1 + m2 * s2) + (m3 * s3 + m4 * s4 + m5 * s5)
        a = (a0 * s0 + a1 * s1 + a2 * s2) + (a3 * s3 + a4 * s4 + a5 * s5)
        b = (b0 * d0 + b1 * d1 + b2 * d2) + (b3 * d3 + b4 * d4 + b5 * d5)
        rough[i] = max(max(abs(x5[i]), abs(x6[i])), max(abs(v), abs(a) + abs(b)))


@kernel
def bends(history: Floats, near: Floats) -> None:
    """How far the fine reading of each of the block's frames may lie over the coarse one, into `near` (frames + 3)."""
    count = near.shape[0]
    o = HALF - 3
    x0, x1, x2 = history[o : o + count], history[o + 1 : o + 1 + count], history[o + 2 : o + 2 + count]
    for i in range(count):
        near[i] = BEND * abs(x0[i] - 2.0 * x1[i] + x2[i])
    # in place: nothing that is yet to be read is written over
    for i in range(count - 3):
        near[i] = max(max(near[i], near[i + 1]), max(near[i + 2], near[i + 3]))


@kernel
def tops(rough: Floats, i: int, slack: float) -> bool:
    """Whether the reading of frame `i` of the block is, within a factor, not under its neighbours'."""
    return rough[i + 1] * slack >= max(rough[i], rough[i + 2])


@kernel
def fine_peak(h: Floats, count: int, history: Floats, at: int, first: float, last: float, readings: Floats) -> float:
    """The largest magnitude from a sample (`first`) up to its successor (`last`), by an interpolator of `count` phases.

    `h`: see `beside`; its taps meet `history` from `at` on, their number a multiple of four. `readings` holds `LANES`
    values and is written over.
    """
    a, b, c, d = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    for k in range(0, h.shape[0] // LANES, 4):
        t = LANES * k
        a = fma8(splat8(history[at + k]), load8(h, t), a)
        b = fma8(splat8(history[at + k + 1]), load8(h, t + LANES), b)
        c = fma8(splat8(history[at + k + 2]), load8(h, t + 2 * LANES), c)
        d = fma8(splat8(history[at + k + 3]), load8(h, t + 3 * LANES), d)
    one = splat8(1.0)
    store8(readings, 0, fma8(one, fma8(one, a, b), fma8(one, c, d)))
    top, found = first, -1
    for p in range(count):
        v = abs(readings[p])
        if v > top:
            top, found = v, p
    if found < 0:
        return max(first, last)
    before = abs(readings[found - 1]) if found > 0 else first
    later = abs(readings[found + 1]) if found + 1 < count else last
    bent = before - 2.0 * top + later
    if bent < 0.0 and later <= top:
        top -= 0.125 * (later - before) ** 2 / bent
    return max(top, last)


@kernel
def steep_peak(h: Floats, count: int, history: Floats, i: int, readings: Floats) -> float:
    """The fine reading of the block's frame `i`."""
    return fine_peak(h, count, history, i, abs(history[i + HALF - 1]), abs(history[i + HALF]), readings)


@kernel
def read_peaks(
    coarse: Floats,
    steep: Floats,
    gentle: Floats,
    count: int,
    history: Floats,
    rough: Floats,
    near: Floats,
    x: Audio,
    floor: float,
    readings: Floats,
    out: Audio,
) -> None:
    """Peaks of `x` (frames, 2) into the rows of `out`: fine ones where the coarse may pass `floor` and tops its
    surroundings.

    What lies near the Nyquist frequency peaks differently behind every converter's filter. The largest of a steep
    and two gentle readings is the safe side for all of them.
    """
    n = x.shape[0]
    take_in(x, history)
    for c in range(2):
        row, found, past = rough[c], out[c, :n], history[c]
        coarse_peaks(coarse, past, n + 2, row)
        bends(past, near[: n + 3])
        for i in range(n):
            found[i] = row[i + 1]
        for start in range(0, n, STRETCH):
            stop = min(n, start + STRETCH)
            if largest_sum(found[start:stop], near[start:stop]) > floor:
                _refine(steep, gentle, count, past, row, near, start, stop, floor, readings, found)
    let_go(history, n)


@kernel
def _refine(
    steep: Floats,
    gentle: Floats,
    count: int,
    history: Floats,
    rough: Floats,
    near: Floats,
    start: int,
    stop: int,
    floor: float,
    readings: Floats,
    out: Floats,
) -> None:
    for i in range(start, stop):
        v, more = out[i], near[i]
        first, last = abs(history[i + HALF - 1]), abs(history[i + HALF])
        if v + more > floor and more > 0.001 * v and tops(rough, i, 1.1):
            v = fine_peak(steep, count, history, i, first, last, readings)
            if more > HIGH * v:
                by_gentle = fine_peak(gentle, count, history, i + HALF - GENTLE_TAPS // 2, first, last, readings)
                # as much more as is safe, but no more than it is over: what is under the floor stays as it is
                over = max(0.0, v - RIPPLE * floor)
                v = max(v, min(SAFE * by_gentle, by_gentle / GENTLE_RIPPLE + 8.0 * over))
            if floor < v <= RIPPLE * floor and max(first, last) <= floor:
                v = floor * (1.0 - 1e-12)  # the filter's own ripple is not taken for a peak
        elif v > floor:  # beside a top, which is read finely: what the coarse filter reads too much is left out
            v = max(v / COARSE_RIPPLE, max(first, last))
        out[i] = v


@functools.cache
def _both(rate: int) -> tuple[Floats, Floats]:
    """The steep and the gentle phases as `fine_peak` takes them."""
    return beside(fine_phases(rate)), beside(gentle_phases(rate))


class PeakReader:
    """Peaks between samples, block by block; late by `HALF` frames.

    After ``read(x, floor, out)``, ``out[c, i]`` is the largest magnitude of channel ``c`` from the sample `HALF` frames
    before ``x[i]`` up to that sample's successor: exact where it may pass `floor`, coarse elsewhere.
    """

    def __init__(self, rate: int, longest_block: int) -> None:
        self.coarse = coarse_phases(rate)
        self.count = len(fine_phases(rate))
        """Phases of the fine filters."""
        self.steep, self.gentle = _both(rate)
        self.history = np.zeros((2, TAPS - 1 + longest_block))
        self.rough = np.zeros((2, longest_block + 2))
        self.near = np.zeros(longest_block + 3)
        self.readings = np.zeros(LANES)

    def read(self, x: Audio, floor: float, out: Floats) -> None:
        """Peaks of `x` (n, 2) into the first n of `out` (2, n or more), fine where they may pass `floor`."""
        read_peaks(
            self.coarse,
            self.steep,
            self.gentle,
            self.count,
            self.history,
            self.rough,
            self.near,
            x,
            floor,
            self.readings,
            out,
        )
