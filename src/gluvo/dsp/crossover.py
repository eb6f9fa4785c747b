"""Crossovers whose bands add up to the signal: Linkwitz–Riley, but for an all-pass; and linear phase, exactly."""

from __future__ import annotations

import functools
import itertools
import math
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.convolution import PARTITION, Convolver, Magnitude, chosen_half, symmetric
from gluvo.dsp.filters import NOTHING, Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Audio, Floats

SLOPE = 24
"""dB per octave where nothing else is said."""


def low_side(freq: float, rate: int, slope: int = SLOPE) -> Floats:
    """The low-pass of a crossover of 12, 24 or 48 dB/oct: a Butterworth low-pass twice (Linkwitz and Riley, JAES 24,
    1976).

    >>> low_side(200.0, 48000).shape
    (2, 6)
    """
    if slope == 12:
        k = _warped(freq, rate)
        return np.array([[k * k, 2.0 * k * k, k * k, *_critical(k)]]) / (1.0 + k) ** 2
    return cascade(high_cut(freq, slope // 2, rate), high_cut(freq, slope // 2, rate))


def high_side(freq: float, rate: int, slope: int = SLOPE) -> Floats:
    """The high-pass that goes with it, in phase with it everywhere; at 12 dB/oct that needs it turned over.

    >>> high_side(200.0, 48000).shape
    (2, 6)
    """
    if slope == 12:
        k = _warped(freq, rate)
        return np.array([[-1.0, 2.0, -1.0, *_critical(k)]]) / (1.0 + k) ** 2
    return cascade(low_cut(freq, slope // 2, rate), low_cut(freq, slope // 2, rate))


def all_pass(freq: float, rate: int, slope: int = SLOPE) -> Floats:
    """What low and high side add up to: ``B(−s) / B(s)`` of the Butterworth polynomial that both have twice.

    >>> all_pass(200.0, 48000).shape
    (1, 6)
    """
    if slope == 12:
        k = _warped(freq, rate)
        return np.array([[k - 1.0, k + 1.0, 0.0, k + 1.0, k - 1.0, 0.0]]) / (k + 1.0)
    poles = low_cut(freq, slope // 2, rate)[:, 4:]
    return np.array([[a2, a1, 1.0, 1.0, a1, a2] for a1, a2 in poles])


def _warped(freq: float, rate: int) -> float:
    return math.tan(math.pi * min(freq, 0.49 * rate) / rate)


def _critical(k: float) -> tuple[float, float, float]:
    """The denominator of ``(1 + s)²``, times ``(1 + k)²``."""
    return (1.0 + k) ** 2, 2.0 * (k * k - 1.0), (1.0 - k) ** 2


def band_sections(freqs: Sequence[float], place: int, rate: int, slope: int = SLOPE) -> Floats:
    """The sections of the band at a place, lowest first, of a crossover at rising frequencies.

    What has been split off runs through the all-passes of the crossovers above it, so that all bands are in phase and
    their sum is flat.

    >>> [len(band_sections([200.0, 2000.0], n, 48000)) for n in range(3)]
    [3, 4, 4]
    """
    below = [high_side(f, rate, slope) for f in freqs[:place]]
    own = [low_side(freqs[place], rate, slope)] if place < len(freqs) else [NOTHING]
    return cascade(*below, *own, *(all_pass(f, rate, slope) for f in freqs[place + 1 :]))


def band_magnitude(low: float, high: float, freqs: Floats, slope: int = SLOPE) -> Floats:
    """The share of a band in a crossover at both of its ends, 0–1; none where `low` is 0 or `high` infinite.

    The magnitudes of the crossovers' sides, without their phase: what lies in the band and what lies outside add up to
    the whole.

    >>> band_magnitude(0.0, float("inf"), np.array([100.0])).tolist()
    [1.0]
    """
    f, order = np.asarray(freqs, dtype=np.float64), slope // 6
    above = 1.0 if low <= 0.0 else 1.0 / (1.0 + (low / np.maximum(f, 1e-3)) ** order)
    below = 1.0 if math.isinf(high) else 1.0 / (1.0 + (f / high) ** order)
    return np.asarray(above * below * np.ones_like(f))


@functools.lru_cache(maxsize=64)
def linear_bands(freqs: tuple[float, ...], rate: int, slope: int = SLOPE) -> tuple[Floats, ...]:
    """Symmetric taps, equally many, of each band of a crossover that turns no phase; their sum is one tap of 1.

    >>> taps = linear_bands((200.0, 2000.0), 48000)
    >>> total = sum(taps); middle = len(total) // 2
    >>> bool(abs(total[middle] - 1.0) < 1e-15 and np.abs(np.delete(total, middle)).max() < 1e-15)
    True
    """
    edges = list(itertools.pairwise((0.0, *freqs, math.inf)))

    def magnitude(place: int) -> Magnitude:
        """Of the band as it is left by the crossovers below it."""

        def share(f: Floats) -> Floats:
            total = np.ones_like(f)
            for _, high in edges[:place]:
                total *= band_magnitude(high, math.inf, f, slope)
            return total * band_magnitude(0.0, edges[place][1], f, slope)

        return share

    half, _ = chosen_half([magnitude(n) for n in range(len(edges))], rate)
    bands = [symmetric(magnitude(n), half, rate) for n in range(len(freqs))]
    last = -np.sum(bands, axis=0) if bands else np.zeros(2 * half + 1)
    last[half] += 1.0
    return (*bands, last)


def linear_latency(freqs: Sequence[float], rate: int, slope: int = SLOPE) -> int:
    """Frames by which the bands of a crossover in linear phase are late."""
    return len(linear_bands(tuple(freqs), rate, slope)[0]) // 2 + PARTITION


class LinearBand:
    """One band of a crossover in linear phase, block by block. Late by `latency`."""

    def __init__(self, freqs: Sequence[float], place: int, rate: int, slope: int = SLOPE) -> None:
        taps = linear_bands(tuple(freqs), rate, slope)[place]
        self.latency = linear_latency(freqs, rate, slope)
        self._convolver = Convolver([[taps, None], [None, taps]])

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, which may be `x`."""
        self._convolver.run(x, out)

    def adopt(self, other: LinearBand) -> None:
        """Go on where another one is."""
        self._convolver.adopt(other._convolver)


class Crossover:
    """Splits a signal into bands at some frequencies, lowest first; see `band_sections`.

    >>> split = Crossover([200.0, 2000.0], 48000, 64)
    >>> x = np.zeros((64, 2)); x[0] = 1.0
    >>> [band.shape for band in split.run(x)]
    [(64, 2), (64, 2), (64, 2)]
    """

    def __init__(self, freqs: Sequence[float], rate: int, longest: int) -> None:
        self.freqs = tuple(freqs)
        self._low = [
            Sections(cascade(low_side(f, rate), *(all_pass(above, rate) for above in self.freqs[n + 1 :])))
            for n, f in enumerate(self.freqs)
        ]
        self._high = [Sections(high_side(f, rate)) for f in self.freqs]
        self._bands = [np.zeros((longest, 2)) for _ in range(len(self.freqs) + 1)]

    def run(self, x: Audio) -> list[Audio]:
        """The bands of a block; used again for the next one."""
        n = len(x)
        rest = self._bands[-1][:n]
        np.copyto(rest, x)
        for k, (low, high) in enumerate(zip(self._low, self._high, strict=True)):
            low.run(rest, self._bands[k][:n])
            high.run(rest, rest)
        return [band[:n] for band in self._bands]

    def adopt(self, other: Crossover) -> bool:
        """Go on where another one with the same frequencies is; whether it has the same."""
        if self.freqs == other.freqs:
            for mine, theirs in zip((*self._low, *self._high), (*other._low, *other._high), strict=True):
                mine.adopt(theirs)
        return self.freqs == other.freqs
