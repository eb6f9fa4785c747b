"""Linear-phase filters: their design from a magnitude, and their convolution block by block."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

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
    """Whole parts to either side."""
    return max(1, round(seconds * rate / PART)) * PART


def symmetric(magnitude: Magnitude, half: int, rate: int) -> Floats:
    """``2 · half + 1`` taps, symmetric, of a filter with that magnitude and no phase but the delay of `half`.

    Sampled in frequency four times as densely as needed, then tapered over the outer quarter to either side.
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
    """How far the response of symmetric taps lies off a magnitude at most, dB, from 30 Hz to 20 kHz."""
    half = len(taps) // 2
    size = 8 * half
    got = np.fft.rfft(np.roll(np.pad(taps, (0, size - len(taps))), -half)).real
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    wanted = magnitude(freqs)
    counted = (freqs >= FROM) & (freqs <= min(20_000.0, 0.47 * rate)) & (wanted > 10.0 ** (DEEPEST / 20.0))
    if not counted.any():
        return 0.0
    return float(np.abs(20.0 * np.log10(np.maximum(np.abs(got[counted]), 1e-9) / wanted[counted])).max())


def chosen_half(magnitudes: list[Magnitude], rate: int) -> tuple[int, float]:
    """The shortest half length at which all filters are exact enough (else the longest), and how far off they are."""
    off = 0.0
    for seconds in LENGTHS:
        half = half_length(seconds, rate)
        off = max((deviation(symmetric(m, half, rate), m, rate) for m in magnitudes), default=0.0)
        if off <= EXACT:
            break
    return half, off


@kernel
def add_products(filters, pasts, newest, total):  # type: ignore[no-untyped-def]
    """Sum the products of the parts of a filter with the spectra of the past blocks, the newest first."""
    count = filters.shape[0]
    for p in range(count):
        place = newest - p
        if place < 0:
            place += count
        row, past = filters[p], pasts[place]
        for k in range(total.shape[0]):
            total[k] += row[k] * past[k]


class Convolver:
    """Two inputs to two outputs through a matrix of filters of equal length, in uniform parts (overlap-save).

    `filters[o][i]` are the taps from input ``i`` to output ``o``, or None for nothing. Late by `PART`, whatever the
    blocks. See Stockham, 'High-speed convolution and correlation', 1966.
    """

    def __init__(self, filters: list[list[Floats | None]]) -> None:
        longest = max(len(h) for row in filters for h in row if h is not None)
        self.parts = -(-longest // PART)
        self._filters = [[None if h is None else self._spectra(h) for h in row] for row in filters]
        self._past = np.zeros((2, self.parts, PART + 1), dtype=complex)
        self._taken = np.zeros((2, 2 * PART))
        self._made = np.zeros((2, PART))
        self._total = np.zeros(PART + 1, dtype=complex)
        self._wave = np.zeros(2 * PART)
        self._filled, self._newest = 0, 0

    def _spectra(self, taps: Floats) -> np.ndarray:
        padded = np.zeros((self.parts, 2 * PART))
        padded[:, :PART] = np.pad(taps, (0, self.parts * PART - len(taps))).reshape(self.parts, PART)
        return np.fft.rfft(padded, axis=1)

    def run(self, x: Audio, out: Audio) -> None:
        at = 0
        while at < len(x):
            n = min(len(x) - at, PART - self._filled)
            place = slice(self._filled, self._filled + n)
            for c in range(2):
                self._taken[c, PART + place.start : PART + place.stop] = x[at : at + n, c]
                out[at : at + n, c] = self._made[c, place]
            self._filled += n
            at += n
            if self._filled == PART:
                self._turn()

    def _turn(self) -> None:
        """Convolve the part that is full."""
        self._filled = 0
        self._newest = (self._newest + 1) % self.parts
        for c in range(2):
            np.fft.rfft(self._taken[c], out=self._past[c, self._newest])
            self._taken[c, :PART] = self._taken[c, PART:]
        for o in range(2):
            self._total[:] = 0.0
            for i in range(2):
                filters = self._filters[o][i]
                if filters is not None:
                    add_products(filters, self._past[i], self._newest, self._total)
            np.fft.irfft(self._total, 2 * PART, out=self._wave)
            np.copyto(self._made[o], self._wave[PART:])

    def adopt(self, other: Convolver) -> None:
        """Go on where another one is, as far as its past reaches."""
        shared = min(self.parts, other.parts)
        for back in range(shared):
            self._past[:, (self._newest - back) % self.parts] = other._past[:, (other._newest - back) % other.parts]
        np.copyto(self._taken, other._taken)
        np.copyto(self._made, other._made)
        self._filled = other._filled
