"""Harmonics of a test tone, and what is new in a sound that has been worked on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import db_of, power_db
from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import PARTS, band_means, octaves, welch

MOST = 10
"""The highest harmonic that is told."""


@dataclass(frozen=True)
class Harmonics:
    """A tone and its harmonics."""

    level: float
    """Of the fundamental, dBFS (peak)."""
    levels: tuple[float, ...]
    """Harmonics 2–10 against the fundamental, dB; those above the Nyquist frequency at −200."""
    thd: float
    """Total harmonic distortion: the harmonics' RMS over the fundamental's."""


def harmonics_of(x: Floats, rate: int, freq: float) -> Harmonics:
    """The harmonics of a steady tone of `freq` Hz in a channel.

    By correlation with each harmonic over a Blackman–Harris window of whole cycles from the middle of `x`, so that
    neither the ends nor the neighbours count.

    >>> t = np.arange(48000) / 48000
    >>> wave = np.sin(2 * np.pi * 1000 * t) + 0.1 * np.sin(2 * np.pi * 2000 * t)
    >>> round(harmonics_of(wave, 48000, 1000.0).levels[0])
    -20
    """
    x = np.asarray(x, dtype=np.float64)
    inner = x[len(x) // 5 : len(x) - len(x) // 10]
    cycles = max(1, int(len(inner) * freq / rate))
    inner = inner[: round(cycles * rate / freq)]
    n = np.arange(len(inner))
    turn = 2.0 * np.pi * n / len(inner)
    window = 0.35875 - 0.48829 * np.cos(turn) + 0.14128 * np.cos(2 * turn) - 0.01168 * np.cos(3 * turn)

    def amplitude(harmonic: int) -> float:
        if harmonic * freq >= 0.5 * rate:
            return 0.0
        wave = np.exp(-2j * np.pi * harmonic * freq / rate * n)
        return float(2.0 * abs((inner * window * wave).sum()) / window.sum())

    first = amplitude(1)
    others = [amplitude(k) for k in range(2, MOST + 1)]
    if first <= 0.0:
        return Harmonics(db_of(0.0), (db_of(0.0),) * len(others), 0.0)
    return Harmonics(
        db_of(first), tuple(db_of(a / first) for a in others), float(np.sqrt(sum(a * a for a in others)) / first)
    )


@dataclass(frozen=True, eq=False)
class NewSound:
    """What a step has changed, by frequency."""

    freqs: Floats
    """Hz, evenly spaced in octaves."""
    before: Floats
    """Power density of the sound that came in, dB."""
    change: Floats
    """Power density of the difference, dB."""
    new: Floats
    """Power density of what is in the output and cannot be had from the input by any filter: harmonics, dB."""
    share: float
    """The power of the new over that of the input."""


def new_spectrum(before: np.ndarray, after: np.ndarray, rate: int, part: str = "mid", fraction: int = 12) -> NewSound:
    """What lies between two aligned sounds (frames, 2), split by coherence.

    The part of the output that no linear filter can make of the input has power ``Syy − |Sxy|² / Sxx`` (Bendat and
    Piersol, 'Random Data', ch. 6). Measured over windows of 0.17 s, it counts everything that moves quicker than that.
    """
    x = PARTS[part](np.asarray(before, dtype=np.float64))
    y = PARTS[part](np.asarray(after, dtype=np.float64))
    size = min(2 ** int(np.ceil(np.log2(rate * 0.17))), max(8, len(x)))
    freqs, xx = welch(x, x, rate, size)
    yy, xy, dd = welch(y, y, rate, size)[1].real, welch(x, y, rate, size)[1], welch(y - x, y - x, rate, size)[1].real
    linear = np.abs(xy) ** 2 / np.maximum(xx.real, 1e-30)
    new = np.maximum(yy - linear, 0.0)
    centres = octaves(rate)
    was, change, fresh = (power_db(band_means(freqs, v, centres, fraction)) for v in (xx.real, dd, new))
    total = float(xx.real.sum())
    return NewSound(centres, was, change, fresh, float(new.sum()) / total if total > 0.0 else 0.0)
