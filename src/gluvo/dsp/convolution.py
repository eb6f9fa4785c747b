"""Linear-phase filters: their design from a magnitude, and their convolution block by block."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from gluvo.dsp.compression import from_mid_side, to_mid_side
from gluvo.dsp.kernel import Audio, Floats, kernel

PART = 1024
"""Frames that are convolved at a time; what comes out is late by as many."""
LENGTHS = (0.15, 0.3, 0.6)
"""Seconds to either side of a filter's middle; the shortest that is exact enough is taken."""
EXACT = 0.04
"""dB off above `FROM` that is exact enough."""
FROM, DEEPEST = 30.0, -60.0
"""Hz and dB: what lies below need not be followed."""

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
def add_products(filters, pasts, newest, total):  # type: ignore[no-untyped-def]
    """Sum the products of the parts of a filter with the spectra of the past blocks, the newest first.

    All have (2, parts, bins): real and imaginary parts lie apart, so that the compiler makes vector code.
    """
    count = filters.shape[1]
    for p in range(count):
        place = newest - p
        if place < 0:
            place += count
        a, b, c, d = filters[0, p], filters[1, p], pasts[0, place], pasts[1, place]
        for k in range(total.shape[1]):
            total[0, k] += a[k] * c[k] - b[k] * d[k]
            total[1, k] += a[k] * d[k] + b[k] * c[k]


class Convolver:
    """Two inputs to two outputs through a matrix of filters of equal length, in uniform parts (overlap-save).

    `filters[o][i]` are the taps from input ``i`` to output ``o``, or None for nothing; inputs and outputs are left and
    right, or with `mid_side` mid and side of them. Late by `PART`, whatever the blocks. See Stockham, 'High-speed
    convolution and correlation', 1966.
    """

    def __init__(self, filters: list[list[Floats | None]], *, mid_side: bool = False) -> None:
        self._mid_side = mid_side
        longest = max(len(h) for row in filters for h in row if h is not None)
        self.parts = -(-longest // PART)
        self._filters = [[None if h is None else self._spectra(h) for h in row] for row in filters]
        self._past = np.zeros((2, 2, self.parts, PART + 1))
        """Spectra of past blocks: inputs, real and imaginary, parts, bins."""
        self._spectrum = np.zeros(PART + 1, dtype=complex)
        self._taken = np.zeros((2, 2 * PART))
        self._made = np.zeros((2, PART))
        self._total = np.zeros((2, PART + 1))
        self._wave = np.zeros(2 * PART)
        self._filled, self._newest = 0, 0

    def _spectra(self, taps: Floats) -> np.ndarray:
        padded = np.zeros((self.parts, 2 * PART))
        padded[:, :PART] = np.pad(taps, (0, self.parts * PART - len(taps))).reshape(self.parts, PART)
        spectra = np.fft.rfft(padded, axis=1)
        return np.ascontiguousarray(np.stack([spectra.real, spectra.imag]))

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, late by `PART`."""
        at = 0
        while at < len(x):
            n = min(len(x) - at, PART - self._filled)
            place = slice(self._filled, self._filled + n)
            taken, made = self._taken[:, PART + place.start : PART + place.stop], self._made[:, place]
            np.copyto(taken, x[at : at + n].T)
            np.copyto(out[at : at + n], made.T)
            if self._mid_side:
                to_mid_side(taken.T, taken.T)
                from_mid_side(out[at : at + n], out[at : at + n])
            self._filled += n
            at += n
            if self._filled == PART:
                self._turn()

    def _turn(self) -> None:
        """Convolve the part that is full."""
        self._filled = 0
        self._newest = (self._newest + 1) % self.parts
        for c in range(2):
            np.fft.rfft(self._taken[c], out=self._spectrum)
            self._past[c, 0, self._newest], self._past[c, 1, self._newest] = self._spectrum.real, self._spectrum.imag
            self._taken[c, :PART] = self._taken[c, PART:]
        for o in range(2):
            self._total[:] = 0.0
            for i in range(2):
                filters = self._filters[o][i]
                if filters is not None:
                    add_products(filters, self._past[i], self._newest, self._total)
            self._spectrum.real, self._spectrum.imag = self._total
            np.fft.irfft(self._spectrum, 2 * PART, out=self._wave)
            np.copyto(self._made[o], self._wave[PART:])

    def adopt(self, other: Convolver) -> None:
        """Go on where another one is, as far as its past reaches."""
        shared = min(self.parts, other.parts)
        past, taken, made = other._past, other._taken, other._made
        if self._mid_side is not other._mid_side:
            past, taken, made = (_turned(v, self._mid_side) for v in (past, taken, made))
        for back in range(shared):
            self._past[:, :, (self._newest - back) % self.parts] = past[:, :, (other._newest - back) % other.parts]
        np.copyto(self._taken, taken)
        np.copyto(self._made, made)
        self._filled = other._filled


def _turned(pair: np.ndarray, to_mid_side: bool) -> np.ndarray:
    """What was left and right as mid and side, or the other way round; everything here is linear."""
    scale = 0.5 if to_mid_side else 1.0
    return scale * np.stack([pair[0] + pair[1], pair[0] - pair[1]])
