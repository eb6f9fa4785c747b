"""Oversampling by powers of two with linear-phase filters, for what bends the wave.

What the shaper makes above the Nyquist frequency would fold back; it is made at a higher rate and filtered away before
coming back. The last filter down is steep and stops at the Nyquist frequency itself; the others need only keep clear
of each other's images.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Floats, kernel

STOP = 110.0
"""dB of attenuation in the stopbands."""
FACTORS = (1, 2, 4, 8, 16)
MOST_LIFT = 2.0
"""By how much the averaging of neighbouring samples is made good at most."""


def passes(rate: int) -> float:
    """Hz up to which everything passes."""
    return min(20_000.0, 0.45 * rate)


def kaiser_taps(width: float) -> int:
    """Taps for a transition of `width` (as a share of the sample rate) at `STOP` dB (Kaiser, 1974)."""
    return math.ceil((STOP - 8.0) / (2.285 * 2.0 * math.pi * width)) + 1


def low_pass(taps: int, edge: float, lift: Floats | None = None) -> Floats:
    """A linear-phase low-pass of unit gain; half its gain at `edge` (as a share of the sample rate).

    `lift`: gains in the passband on an even grid from 0 to half the sample rate, in place of 1.
    """
    size = 8192
    grid = np.arange(size // 2 + 1) / size
    wanted = np.where(grid < edge, 1.0 if lift is None else np.interp(grid, np.linspace(0, 0.5, len(lift)), lift), 0.0)
    # an even number of taps has its middle between two samples
    turned = wanted * np.exp(-2j * np.pi * grid * ((taps - 1) / 2.0))
    h = np.fft.irfft(turned, size)[:taps] * np.kaiser(taps, 0.1102 * (STOP - 8.7))
    return np.asarray(h / h.sum())


def half_band(width: float) -> Floats:
    """A half-band low-pass: every other tap is 0 but the middle one. Its length is 4 m + 3."""
    m = math.ceil((kaiser_taps(width) - 3) / 4)
    h = low_pass(4 * m + 3, 0.25)
    middle = len(h) // 2
    h[middle % 2 :: 2] = 0.0
    h *= 0.5 / h.sum()
    h[middle] = 0.5
    return h


@kernel
def add_filtered(h, x, out):  # type: ignore[no-untyped-def]
    """Add ``Σ h[k] x[i + k]`` to `out`; eight taps at a time, frames innermost, so that the compiler makes vector code.

    The number of taps is a multiple of eight; groups that are all 0 are left out.
    """
    n = out.shape[0]
    for k in range(0, h.shape[0], 8):
        a, b, c, d, e, f, g, w = h[k], h[k + 1], h[k + 2], h[k + 3], h[k + 4], h[k + 5], h[k + 6], h[k + 7]
        if a == 0.0 and b == 0.0 and c == 0.0 and d == 0.0 and e == 0.0 and f == 0.0 and g == 0.0 and w == 0.0:
            continue
        x0, x1, x2, x3 = x[k : k + n], x[k + 1 : k + 1 + n], x[k + 2 : k + 2 + n], x[k + 3 : k + 3 + n]
        x4, x5, x6, x7 = x[k + 4 : k + 4 + n], x[k + 5 : k + 5 + n], x[k + 6 : k + 6 + n], x[k + 7 : k + 7 + n]
        for i in range(n):
            low = a * x0[i] + b * x1[i] + c * x2[i] + d * x3[i]
            out[i] += low + (e * x4[i] + f * x5[i] + g * x6[i] + w * x7[i])


@kernel
def doubled(h, middle, history, x, work, out):  # type: ignore[no-untyped-def]
    """`x` at twice its rate into `out`, by every other tap `h` of a half-band filter; the others but the middle are 0.

    `history` holds the past before `x` and is carried along; `middle` is where in it the frames lie that pass as they
    are.
    """
    n, past = x.shape[0], h.shape[0] - 1
    for i in range(n):
        history[past + i] = x[i]
        work[i] = 0.0
    add_filtered(h, history, work[:n])
    for i in range(n):
        out[2 * i] = work[i]
        out[2 * i + 1] = history[i + middle]
    for i in range(past):
        history[i] = history[n + i]


@kernel
def halved(h, history, x, out):  # type: ignore[no-untyped-def]
    """Every other frame of `x` through taps `h` (2 phases, taps) into `out`; `history` (2 phases, …) is carried along."""
    n, past = out.shape[0], h.shape[1] - 1
    for i in range(n):
        history[0, past + i] = x[2 * i]
        history[1, past + i] = x[2 * i + 1]
        out[i] = 0.0
    for phase in range(2):
        add_filtered(h[phase], history[phase], out)
        for i in range(past):
            history[phase, i] = history[phase, n + i]


@kernel
def filtered(h, history, x, out):  # type: ignore[no-untyped-def]
    """`x` through taps `h` into `out`, at one rate."""
    n, past = x.shape[0], h.shape[0] - 1
    for i in range(n):
        history[past + i] = x[i]
        out[i] = 0.0
    add_filtered(h, history, out)
    for i in range(past):
        history[i] = history[n + i]


def padded(h: Floats, multiple: int = 8) -> Floats:
    """Taps with zeros before them, to a multiple of eight: the last tap meets the newest frame."""
    return np.ascontiguousarray(np.pad(h, (-len(h) % multiple, 0)))


class Oversampler:
    """Up to a multiple of the rate and back, for two channels; `latency` in frames is for the way there and back.

    What happens in between may be late by half a frame of the higher rate, as the mean of two neighbours is; that half
    frame is made good, and so is the loss of highs that the mean causes.
    """

    def __init__(self, factor: int, rate: int, longest: int) -> None:
        self.factor = factor
        stages = int(math.log2(factor))
        clear = 0.5 - passes(rate) / rate
        up = [half_band(self._clearance(n, clear)) for n in range(stages)]
        down = [half_band(self._clearance(n, clear)) for n in range(stages)] or [np.zeros(0)]
        if stages:
            down[0] = low_pass(kaiser_taps(clear / 2.0) | 1, 0.25 * (0.5 + passes(rate) / rate))
        down[-1] = self._mending_the_mean(down, stages, rate)
        late = 0.5 + sum((len(h) // 2) * factor / 2 ** (n + 1) for n, h in enumerate(up))
        late += sum((len(h) - 1) / 2 * factor / 2 ** min(stages, n + 1) for n, h in enumerate(down))
        pad = round(-late % factor)  # whole frames of the lower rate in all
        down[-1] = np.concatenate([down[-1], np.zeros(pad)])  # the last tap meets the newest frame
        self.latency = round((late + pad) / factor)
        self._even = [padded(2.0 * h[(len(h) // 2 + 1) % 2 :: 2]) for h in up]
        self._middle = [len(e) - 1 - len(h) // 4 for e, h in zip(self._even, up, strict=True)]
        # of each pair of frames the later one meets the tap before
        self._down = [self._phases(h) if stages else padded(h) for h in down]
        self._rising = [np.zeros((2, len(h) - 1 + longest * 2**n)) for n, h in enumerate(self._even)]
        self._falling = [
            np.zeros((2, *h.shape[:-1], h.shape[-1] - 1 + longest * 2**n)) for n, h in enumerate(self._down)
        ]
        self._between = [np.zeros((2, longest * 2**n)) for n in range(stages + 1)]
        self._work = np.zeros(longest * max(1, factor // 2))

    @staticmethod
    def _phases(h: Floats) -> Floats:
        """Taps for the even and for the odd frames; `h` runs from the oldest frame to the newest, which is an even one."""
        if len(h) % 2 == 0:
            h = np.concatenate([[0.0], h])
        even, odd = h[0::2], np.concatenate([h[1::2], [0.0]])
        return np.stack([padded(even), padded(odd)])

    @staticmethod
    def _clearance(stage: int, clear: float) -> float:
        """The transition of the filter between ``2**stage`` and twice that rate, as a share of the latter."""
        return clear if stage == 0 else 0.5 - 0.5 / 2**stage

    @staticmethod
    def _mending_the_mean(down: list[Floats], stages: int, rate: int) -> Floats:
        """The filter at the highest rate: an even number of taps, lifting what the mean of neighbours lowers."""
        grid = np.linspace(0.0, 0.5, 513)
        lift = np.minimum(MOST_LIFT, 1.0 / np.maximum(np.cos(np.pi * grid), 1e-3))
        if stages == 0:
            return low_pass(64, 0.5, lift)
        edge = 0.25 * (0.5 + passes(rate) / rate) if stages == 1 else 0.25
        return low_pass(len(down[-1]) + 1, edge, lift)

    def up(self, x: Floats) -> Floats:
        """`x` (2 channels, frames) at the higher rate; used again by the next block."""
        n = x.shape[1]
        now = self._between[0][:, :n]
        np.copyto(now, x)
        for stage, (taps, middle) in enumerate(zip(self._even, self._middle, strict=True)):
            higher = self._between[stage + 1][:, : n * 2 ** (stage + 1)]
            for c in range(2):
                doubled(taps, middle, self._rising[stage][c], now[c], self._work, higher[c])
            now = higher
        return now

    def down(self, y: Floats, out: Floats) -> None:
        """`y`, of the higher rate, back into `out` (2 channels, frames)."""
        now = y
        for stage in range(len(self._down) - 1, -1, -1):
            lower = out if stage == 0 else self._between[stage][:, : now.shape[1] // 2]
            for c in range(2):
                run = halved if self.factor > 1 else filtered
                run(self._down[stage], self._falling[stage][c], now[c], lower[c])
            now = lower

    def adopt(self, other: Oversampler) -> None:
        """Go on where another one of the same factor is."""
        if self.factor == other.factor:
            for mine, theirs in zip((*self._rising, *self._falling), (*other._rising, *other._falling), strict=True):
                np.copyto(mine, theirs)
