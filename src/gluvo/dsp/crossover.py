"""Linkwitz–Riley crossovers: bands that add up to the signal, but for an all-pass."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.filters import Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Audio, Floats

SLOPE = 24
"""dB per octave."""


def low_side(freq: float, rate: int) -> Floats:
    """The fourth-order low-pass of a crossover: a Butterworth low-pass twice (Linkwitz and Riley, JAES 24, 1976).

    >>> low_side(200.0, 48000).shape
    (2, 6)
    """
    return cascade(high_cut(freq, SLOPE // 2, rate), high_cut(freq, SLOPE // 2, rate))


def high_side(freq: float, rate: int) -> Floats:
    """The high-pass that goes with it, in phase with it everywhere.

    >>> high_side(200.0, 48000).shape
    (2, 6)
    """
    return cascade(low_cut(freq, SLOPE // 2, rate), low_cut(freq, SLOPE // 2, rate))


def all_pass(freq: float, rate: int) -> Floats:
    """What low and high side add up to: ``(1 − √2 s + s²) / (1 + √2 s + s²)``.

    >>> all_pass(200.0, 48000).shape
    (1, 6)
    """
    k = math.tan(math.pi * min(freq, 0.49 * rate) / rate)
    over, under, middle = 1.0 + math.sqrt(2.0) * k + k * k, 1.0 - math.sqrt(2.0) * k + k * k, 2.0 * (k * k - 1.0)
    return np.array([[under, middle, over, over, middle, under]]) / over


def band_magnitude(low: float, high: float, freqs: Floats) -> Floats:
    """The share of a band in a crossover at both of its ends, 0–1; none where `low` is 0 or `high` infinite.

    The magnitudes of the crossovers' sides, without their phase: what lies in the band and what lies outside add up to
    the whole.

    >>> band_magnitude(0.0, float("inf"), np.array([100.0])).tolist()
    [1.0]
    """
    f = np.asarray(freqs, dtype=np.float64)
    above = 1.0 if low <= 0.0 else 1.0 / (1.0 + (low / np.maximum(f, 1e-3)) ** 4)
    below = 1.0 if math.isinf(high) else 1.0 / (1.0 + (f / high) ** 4)
    return np.asarray(above * below * np.ones_like(f))


class Crossover:
    """Splits a signal into bands at some frequencies, lowest first.

    What has been split off runs through the all-passes of the crossovers above it, so that all bands are in phase and
    their sum is flat.

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

    def adopt(self, other: Crossover) -> None:
        """Go on where another one with as many bands is."""
        if len(self.freqs) == len(other.freqs):
            for mine, theirs in zip((*self._low, *self._high), (*other._low, *other._high), strict=True):
                mine.adopt(theirs)
