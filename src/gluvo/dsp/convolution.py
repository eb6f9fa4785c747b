"""Linear-phase filters: their design from a magnitude, and their convolution block by block."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from gluvo.dsp.fourier import aligned, transform, turns
from gluvo.dsp.kernel import Audio, Floats, kernel

PART = 1024
"""Frames that are convolved at a time; what comes out is late by as many."""
LENGTHS = (0.15, 0.3, 0.6)
"""Seconds to either side of a filter's middle; the shortest that is exact enough is taken."""
EXACT = 0.04
"""dB off above `FROM` that is exact enough."""
FROM, DEEPEST = 30.0, -60.0
"""Hz and dB: what lies below need not be followed."""

TURNS = turns(2 * PART)

Magnitude = Callable[[Floats], Floats]
"""Magnitudes, ≥ 0, at frequencies in Hz."""


def half_length(seconds: float, rate: int) -> int:
    """Whole parts to either side.

    >>> half_length(0.15, 48000)
    7168
    """
    return max(1, round(seconds * rate / PART)) * PART


def symmetric(magnitude: Magnitude, half: int, rate: int) -> Floats:
    """``2 · half + 1`` taps, symmetric, of a filter with that magnitude and no phase but the delay of `half`.

    Sampled in frequency four times as densely as needed, then tapered over the outer quarter to either side.

    >>> taps = symmetric(lambda f: np.ones_like(f), 1024, 48000)
    >>> len(taps), round(float(taps[1024]), 6)
    (2049, 1.0)
    """
    size = 8 * half
    wanted = magnitude(np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64))
    whole = np.fft.irfft(wanted, size)
    right = whole[: half + 1]
    taper = np.ones(half + 1)
    outer = np.arange(half // 4 + 1) / (half // 4 + 1)
    taper[half - half // 4 :] = 0.5 + 0.5 * np.cos(np.pi * outer)
    right = right * taper
    return np.concatenate([right[:0:-1], right])


def deviation(taps: Floats, magnitude: Magnitude, rate: int) -> float:
    """How far the response of symmetric taps lies off a magnitude at most, dB, from 30 Hz to 20 kHz.

    >>> taps = symmetric(lambda f: np.ones_like(f), 1024, 48000)
    >>> round(deviation(taps, lambda f: np.ones_like(f), 48000), 3)
    0.0
    """
    half = len(taps) // 2
    size = 8 * half
    got = np.fft.rfft(np.roll(np.pad(taps, (0, size - len(taps))), -half)).real
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    wanted = magnitude(freqs)
    counted = (freqs >= FROM) & (freqs <= min(20_000.0, 0.47 * rate)) & (wanted > 10.0 ** (DEEPEST / 20.0))
    if not counted.any():
        return 0.0
    return float(np.abs(20.0 * np.log10(np.maximum(np.abs(got[counted]), 1e-9) / wanted[counted])).max())


def chosen_half(magnitudes: list[Magnitude], rate: int, lengths: Sequence[float] = LENGTHS) -> tuple[int, float]:
    """The shortest half length at which all filters are exact enough (else the longest), and how far off they are.

    `lengths`: seconds to either side to choose from.
    """
    off = 0.0
    for seconds in lengths:
        half = half_length(seconds, rate)
        off = max((deviation(symmetric(m, half, rate), m, rate) for m in magnitudes), default=0.0)
        if off <= EXACT:
            break
    return half, off


@kernel
def convolve_part(taken, past, newest, straight, turned, turns, work, total, made):  # type: ignore[no-untyped-def]
    """Convolve the newest part: left and right as one complex signal, real and imaginary parts apart.

    `taken` (2, bins) is the part before and the newest one, and is moved on; `made` (2, `PART`) what comes out. `past` is
    (2, 2, parts, bins): the spectra as they are and turned round (the conjugate at the opposite frequency). `straight` and
    `turned` (2, parts, bins) are the filters for either; `turned` has no parts where both channels pass the same filter.
    `turns`: see `fourier`; `work` and `total` (2, bins) are written over.
    """
    count, bins = past.shape[2], past.shape[3]
    a, b, c, d = past[0, 0, newest], past[0, 1, newest], past[1, 0, newest], past[1, 1, newest]
    a[:] = taken[0]
    b[:] = taken[1]
    transform(a, b, turns, work)
    if turned.shape[1] > 0:
        c[0], d[0] = a[0], -b[0]
        for k in range(1, bins):
            c[k], d[k] = a[bins - k], -b[bins - k]
    real, imaginary = total[0], total[1]
    real[:] = 0.0
    imaginary[:] = 0.0
    for p in range(count):
        place = newest - p
        if place < 0:
            place += count
        for way in range(1 + (turned.shape[1] > 0)):
            filters = straight if way == 0 else turned
            e, f, g, h = filters[0, p], filters[1, p], past[way, 0, place], past[way, 1, place]
            for k in range(bins):
                real[k] += e[k] * g[k] - f[k] * h[k]
                imaginary[k] += e[k] * h[k] + f[k] * g[k]
    transform(imaginary, real, turns, work)
    left, right, scale = made[0], made[1], 1.0 / bins
    for k in range(PART):
        left[k], right[k] = scale * real[PART + k], scale * imaginary[PART + k]
    for side in range(2):
        taken[side, :PART] = taken[side, PART:]


@kernel
def exchange(x, at, taken, made, out):  # type: ignore[no-untyped-def]
    """Put `x` (frames, 2) from a place of the newest part on into `taken`, and what was made for there into `out`, which may
    be `x`."""
    left, right = taken[0, PART + at :], taken[1, PART + at :]
    for i in range(x.shape[0]):
        left[i], right[i] = x[i, 0], x[i, 1]
    for i in range(x.shape[0]):
        out[i, 0], out[i, 1] = made[0, at + i], made[1, at + i]


class Convolver:
    """Two inputs to two outputs through a matrix of filters of equal length, in uniform parts (overlap-save).

    `filters[o][i]` are the taps from input ``i`` to output ``o``, or None for nothing; inputs and outputs are left and
    right, or with `mid_side` mid and side of them. Late by `PART`, whatever the blocks. See Stockham, 'High-speed
    convolution and correlation', 1966.

    Left and right are transformed as one complex signal ``z``: what a matrix of real filters makes of it is one filter of
    ``z`` plus another one of its conjugate, which is none where both channels pass the same filter.
    """

    def __init__(self, filters: list[list[Floats | None]], *, mid_side: bool = False) -> None:
        longest = max(len(h) for row in filters for h in row if h is not None)
        self.parts = -(-longest // PART)
        (a, b), (c, d) = ([np.zeros(longest) if h is None else h for h in row] for row in filters)
        if mid_side:  # a and d on mid and side, back to left and right
            a, b, c, d = (0.5 * (a + d), 0.5 * (a - d), 0.5 * (a - d), 0.5 * (a + d))
        self._straight = self._spectra(0.5 * ((a + d) + 1j * (c - b)))
        other = 0.5 * ((a - d) + 1j * (c + b))
        self._turned = self._spectra(other) if np.any(other) else np.zeros((2, 0, 2 * PART))
        self._past = aligned(2, 2, self.parts, 2 * PART)
        self._taken, self._made = aligned(2, 2 * PART), aligned(2, PART)
        self._work, self._total = aligned(2, 2 * PART), aligned(2, 2 * PART)
        self._filled, self._newest = 0, 0

    def _spectra(self, taps: np.ndarray) -> Floats:
        padded = np.zeros((self.parts, 2 * PART), dtype=complex)
        padded[:, :PART] = np.pad(taps, (0, self.parts * PART - len(taps))).reshape(self.parts, PART)
        found, spectra = aligned(2, self.parts, 2 * PART), np.fft.fft(padded, axis=1)
        found[0], found[1] = spectra.real, spectra.imag
        return found

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, which may be `x`, late by `PART`."""
        at = 0
        while at < len(x):
            n = min(len(x) - at, PART - self._filled)
            exchange(x[at : at + n], self._filled, self._taken, self._made, out[at : at + n])
            self._filled += n
            at += n
            if self._filled == PART:
                self._turn()

    def _turn(self) -> None:
        """Convolve the part that is full."""
        self._filled = 0
        self._newest = (self._newest + 1) % self.parts
        convolve_part(
            self._taken,
            self._past,
            self._newest,
            self._straight,
            self._turned,
            TURNS,
            self._work,
            self._total,
            self._made,
        )

    def adopt(self, other: Convolver) -> None:
        """Go on where another one is, as far as its past reaches."""
        for back in range(min(self.parts, other.parts)):
            self._past[:, :, (self._newest - back) % self.parts] = other._past[
                :, :, (other._newest - back) % other.parts
            ]
        np.copyto(self._taken, other._taken)
        np.copyto(self._made, other._made)
        self._filled = other._filled
