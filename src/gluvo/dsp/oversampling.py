"""Oversampling by powers of two with linear-phase filters, for what bends the wave.

What the shaper makes above the Nyquist frequency would fold back; it is made at a higher rate and filtered away before
coming back. The last filter down is steep and stops at the Nyquist frequency itself; the others need only keep clear
of each other's images.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.vectors import fma2, fma8, load2, load8, splat2, splat8, store2, store8

STOP = 110.0
"""dB of attenuation in the stopbands."""
FACTORS = (1, 2, 4, 8, 16)
MOST_LIFT = 2.0
"""By how much the averaging of neighbouring samples is made good at most."""


def passes(rate: int) -> float:
    """Hz up to which everything passes.

    >>> passes(48000)
    20000.0
    """
    return min(20_000.0, 0.45 * rate)


def kaiser_taps(width: float) -> int:
    """Taps for a transition of `width` (as a share of the sample rate) at `STOP` dB (Kaiser, 1974).

    >>> kaiser_taps(0.1)
    73
    """
    return math.ceil((STOP - 8.0) / (2.285 * 2.0 * math.pi * width)) + 1


def low_pass(taps: int, edge: float, lift: Floats | None = None) -> Floats:
    """A linear-phase low-pass of unit gain; half its gain at `edge` (as a share of the sample rate).

    `lift`: gains in the passband on an even grid from 0 to half the sample rate, in place of 1.

    >>> round(float(low_pass(31, 0.25).sum()), 9)
    1.0
    """
    size = 8192
    grid = np.arange(size // 2 + 1) / size
    wanted = np.where(grid < edge, 1.0 if lift is None else np.interp(grid, np.linspace(0, 0.5, len(lift)), lift), 0.0)
    # an even number of taps has its middle between two samples
    turned = wanted * np.exp(-2j * np.pi * grid * ((taps - 1) / 2.0))
    h = np.fft.irfft(turned, size)[:taps] * np.kaiser(taps, 0.1102 * (STOP - 8.7))
    return np.asarray(h / h.sum())


def half_band(width: float) -> Floats:
    """A half-band low-pass: every other tap is 0 but the middle one. Its length is 4 m + 3.

    >>> h = half_band(0.1)
    >>> float(h[len(h) // 2])
    0.5
    """
    m = math.ceil((kaiser_taps(width) - 3) / 4)
    h = low_pass(4 * m + 3, 0.25)
    middle = len(h) // 2
    h[middle % 2 :: 2] = 0.0
    h *= 0.5 / h.sum()
    h[middle] = 0.5
    return h


@kernel
def add_filtered(h: Floats, skip: int, x: Floats, out: Floats) -> None:
    """Add ``Σ h[k] x[i + skip + k]`` to `out`. All frames are pairs of left and right, flat; `skip` counts frames.

    The sums of 24 frames stay in registers until they are done. Whatever the block, each sum is added up in one order.
    """
    n, taps, i = out.shape[0], h.shape[0], 0
    while i + 48 <= n:
        a, b, c = load8(out, i), load8(out, i + 8), load8(out, i + 16)
        d, e, f = load8(out, i + 24), load8(out, i + 32), load8(out, i + 40)
        at = i + 2 * skip
        for k in range(taps):
            tap = splat8(h[k])
            a = fma8(tap, load8(x, at), a)
            b = fma8(tap, load8(x, at + 8), b)
            c = fma8(tap, load8(x, at + 16), c)
            d = fma8(tap, load8(x, at + 24), d)
            e = fma8(tap, load8(x, at + 32), e)
            f = fma8(tap, load8(x, at + 40), f)
            at += 2
        store8(out, i, a)
        store8(out, i + 8, b)
        store8(out, i + 16, c)
        store8(out, i + 24, d)
        store8(out, i + 32, e)
        store8(out, i + 40, f)
        i += 48
    while i < n:
        pair, at = load2(out, i), i + 2 * skip
        for k in range(taps):
            pair = fma2(splat2(h[k]), load2(x, at), pair)
            at += 2
        store2(out, i, pair)
        i += 2


@kernel
def doubled(h: Floats, middle: int, history: Floats, x: Floats, work: Floats, out: Floats) -> None:
    """`x` at twice its rate into `out`, by every other tap `h` of a half-band filter; the others but the middle are 0.

    `history` holds the past before `x` and is carried along; `middle` is where in it the frames lie that pass as they
    are.
    """
    n, past = x.shape[0], 2 * (h.shape[0] - 1)
    history[past : past + n] = x
    made = work[:n]
    made[:] = 0.0
    add_filtered(h, 0, history, made)
    straight = history[2 * middle : 2 * middle + n]
    for i in range(0, n, 2):
        store2(out, 2 * i, load2(made, i))
        store2(out, 2 * i + 2, load2(straight, i))
    for i in range(past):
        history[i] = history[n + i]


@kernel
def halved(
    even: Floats, skip_even: int, odd: Floats, skip_odd: int, past: int, history: Floats, x: Floats, out: Floats
) -> None:
    """Every other frame of `x` through the taps of two phases into `out`; see `_phases`.

    `history` (2 phases, …) is carried along, each with `past` frames before its first.
    """
    n, past = out.shape[0], 2 * past
    first, second = history[0], history[1]
    for i in range(0, n, 2):
        store2(first, past + i, load2(x, 2 * i))
        store2(second, past + i, load2(x, 2 * i + 2))
    out[:] = 0.0
    add_filtered(even, skip_even, first, out)
    add_filtered(odd, skip_odd, second, out)
    for i in range(past):
        first[i] = first[n + i]
        second[i] = second[n + i]


@kernel
def filtered(h: Floats, history: Floats, x: Floats, out: Floats) -> None:
    """`x` through taps `h` into `out`, at one rate."""
    n, past = x.shape[0], 2 * (h.shape[0] - 1)
    history[past : past + n] = x
    out[:] = 0.0
    add_filtered(h, 0, history, out)
    for i in range(past):
        history[i] = history[n + i]


class Oversampler:
    """Up to a multiple of the rate and back, for two channels; `latency` in frames is for the way there and back.

    What happens in between may be late by half a frame of the higher rate, as the mean of two neighbours is; that half
    frame is made good, and so is the loss of highs that the mean causes.
    """

    def __init__(self, factor: int, rate: int, longest: int) -> None:
        self.factor = factor
        up, down, self.latency = _filters(factor, rate)
        self._even = [np.ascontiguousarray(2.0 * h[(len(h) // 2 + 1) % 2 :: 2]) for h in up]
        self._middle = [len(e) - 1 - len(h) // 4 for e, h in zip(self._even, up, strict=True)]
        # of each pair of frames the later one meets the tap before
        self._down = [_phases(h) if factor > 1 else (h,) for h in down]
        self._rising = [np.zeros(2 * (len(h) - 1 + longest * 2**n)) for n, h in enumerate(self._even)]
        self._falling = [np.zeros((2, 2 * (len(p[0]) - 1 + longest * 2**n))) for n, p in enumerate(self._down)]
        self._within = [tuple(_without_ends(h) for h in p) for p in self._down]
        self._between = [np.zeros(2 * longest * 2**n) for n in range(len(up) + 1)]
        self._work = np.zeros(longest * max(2, factor))

    def up(self, x: Audio) -> Floats:
        """`x` (frames, 2) at the higher rate, flat: pairs of left and right. Used again by the next block."""
        now = x.reshape(-1)
        for stage, (taps, middle) in enumerate(zip(self._even, self._middle, strict=True)):
            higher = self._between[stage + 1][: 2 * len(now)]
            doubled(taps, middle, self._rising[stage], now, self._work, higher)
            now = higher
        return now

    def down(self, y: Floats, out: Audio) -> None:
        """`y`, flat and of the higher rate, back into `out` (frames, 2)."""
        now, flat = y, out.reshape(-1)
        if self.factor == 1:
            filtered(self._down[0][0], self._falling[0][0], now, flat)
            return
        for stage in range(len(self._down) - 1, -1, -1):
            lower = flat if stage == 0 else self._between[stage][: len(now) // 2]
            (even, skip_even), (odd, skip_odd) = self._within[stage]
            past = len(self._down[stage][0]) - 1
            halved(even, skip_even, odd, skip_odd, past, self._falling[stage], now, lower)
            now = lower

    def adopt(self, other: Oversampler) -> bool:
        """Go on where another one of the same factor is; whether it has the same."""
        if self.factor == other.factor:
            for mine, theirs in zip((*self._rising, *self._falling), (*other._rising, *other._falling), strict=True):
                np.copyto(mine, theirs)
        return self.factor == other.factor


@functools.lru_cache(maxsize=64)
def _filters(factor: int, rate: int) -> tuple[list[Floats], list[Floats], int]:
    """The filters up and down, from the lowest rate on, and how late they are together, in frames."""
    stages = int(math.log2(factor))
    clear = 0.5 - passes(rate) / rate
    up = [half_band(_clearance(n, clear)) for n in range(stages)]
    down = [half_band(_clearance(n, clear)) for n in range(stages)] or [np.zeros(0)]
    if stages:
        down[0] = low_pass(kaiser_taps(clear / 2.0) | 1, 0.25 * (0.5 + passes(rate) / rate))
    down[-1] = _mending_the_mean(down, stages, rate)
    late = 0.5 + sum((len(h) // 2) * factor / 2 ** (n + 1) for n, h in enumerate(up))
    late += sum((len(h) - 1) / 2 * factor / 2 ** min(stages, n + 1) for n, h in enumerate(down))
    pad = round(-late % factor)  # whole frames of the lower rate in all
    down[-1] = np.concatenate([down[-1], np.zeros(pad)])  # the last tap meets the newest frame
    return up, down, round((late + pad) / factor)


def _clearance(stage: int, clear: float) -> float:
    """The transition of the filter between ``2**stage`` and twice that rate, as a share of the latter."""
    return clear if stage == 0 else 0.5 - 0.5 / 2**stage


def _mending_the_mean(down: list[Floats], stages: int, rate: int) -> Floats:
    """The filter at the highest rate: an even number of taps, lifting what the mean of neighbours lowers."""
    grid = np.linspace(0.0, 0.5, 513)
    lift = np.minimum(MOST_LIFT, 1.0 / np.maximum(np.cos(np.pi * grid), 1e-3))
    if stages == 0:
        return low_pass(64, 0.5, lift)
    edge = 0.25 * (0.5 + passes(rate) / rate) if stages == 1 else 0.25
    return low_pass(len(down[-1]) + 1, edge, lift)


def _phases(h: Floats) -> tuple[Floats, Floats]:
    """Taps for the even and for the odd frames; `h` runs from the oldest frame to the newest, which is an even one."""
    if len(h) % 2 == 0:
        h = np.concatenate([[0.0], h])
    return np.ascontiguousarray(h[0::2]), np.concatenate([h[1::2], [0.0]])


def _without_ends(h: Floats) -> tuple[Floats, int]:
    """Taps without the zeros at their ends, and how many there were before the first: of a half-band filter one phase
    has a single tap."""
    found = np.flatnonzero(h)
    return (h[found[0] : found[-1] + 1], int(found[0])) if len(found) else (h[:0], 0)
