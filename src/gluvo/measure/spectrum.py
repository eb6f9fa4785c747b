"""Average spectra."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats

PARTS = {
    "left": lambda x: x[:, 0],
    "right": lambda x: x[:, 1],
    "mid": lambda x: 0.5 * (x[:, 0] + x[:, 1]),
    "side": lambda x: 0.5 * (x[:, 0] - x[:, 1]),
}
"""How a part of a stereo signal is taken out of it."""


@dataclass(frozen=True, eq=False)
class Spectrum:
    """Power density by frequency."""

    freqs: Floats
    """Hz, evenly spaced in octaves."""
    levels: Floats
    """dB relative to full scale² per Hz."""


LEAST_SPREAD = 1.0
"""dB to either side that a corridor of spectra is wide at least: one alone is no law."""
FINE_SECONDS = 0.6
"""Length of the windows of a `Tone`: bins of 1.5 Hz, for lows."""


@dataclass(frozen=True, eq=False)
class Tone:
    """Powers and cross power of left and right by frequency, from which those of mid and side follow."""

    freqs: Floats
    """Hz, evenly spaced from 0."""
    left: Floats
    """Power density, full scale² per Hz."""
    right: Floats
    cross: np.ndarray
    """Cross density ``conj(L) R``, complex."""

    def power(self, part: str) -> Floats:
        """The density of a part: stereo (the mean of both channels), mid, side, left or right."""
        if part == "left":
            return self.left
        if part == "right":
            return self.right
        both = self.left + self.right
        if part == "stereo":
            return 0.5 * both
        twice = 2.0 * self.cross.real * (1.0 if part == "mid" else -1.0)
        return np.maximum(0.25 * (both + twice), 0.0)

    def total(self, part: str, weight: Floats | None = None) -> float:
        """The mean square of a part; with the squared magnitude of a filter on it, if one is given."""
        density = self.power(part) if weight is None else self.power(part) * weight
        return float(density.sum() * self.freqs[1])

    def smoothed(self, part: str, fraction: float, centres: Floats) -> Floats:
        """Levels in dB of the density, smoothed to 1/`fraction` octave about each centre."""
        return power_db(band_means(self.freqs, self.power(part), centres, fraction))


def tone_of(x: np.ndarray, rate: int) -> Tone:
    """The `Tone` of `x` (frames, 2): Welch's method with Hann windows of about 0.6 s, half overlapped.

    One transform does for both channels: left is taken as the real, right as the imaginary part.
    """
    size = min(2 ** int(np.ceil(np.log2(rate * FINE_SECONDS))), max(8, len(x)))
    window = np.hanning(size + 1)[:-1]
    half = size // 2 + 1
    left, right, cross = np.zeros(half), np.zeros(half), np.zeros(half, dtype=complex)
    count, step = 0, size // 2
    pairs = np.zeros(size, dtype=complex)
    for start in range(0, max(1, len(x) - size + 1), step):
        piece = x[start : start + size]
        pairs[:] = 0.0
        pairs.real[: len(piece)], pairs.imag[: len(piece)] = piece[:, 0], piece[:, 1]
        z = np.fft.fft(pairs * window)
        mirrored = np.conj(np.concatenate([z[:1], z[:0:-1]]))[:half]
        z = z[:half]
        a, b = 0.5 * (z + mirrored), -0.5j * (z - mirrored)
        left += a.real**2 + a.imag**2
        right += b.real**2 + b.imag**2
        cross += np.conj(a) * b
        count += 1
    scale = np.full(half, 2.0 / (rate * float((window**2).sum()) * count))
    scale[0] *= 0.5
    if size % 2 == 0:
        scale[-1] *= 0.5
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    return Tone(freqs, left * scale, right * scale, cross * scale)


def spectrum(
    x: np.ndarray, rate: int, part: str = "mid", fraction: int = 3, low: float = 20.0, points: int = 24
) -> Spectrum:
    """The average power density of a part of `x` (frames, 2), smoothed to 1/`fraction` octave.

    Welch's method (1967) with Hann windows of about 0.17 s, half overlapped; `points` per octave from `low` Hz to
    20 kHz. `part` is a key of `PARTS`.
    """
    values = PARTS[part](np.asarray(x, dtype=np.float64))
    size = min(2 ** int(np.ceil(np.log2(rate * 0.17))), max(8, len(values)))
    freqs, density = welch(values, values, rate, size)
    centres = octaves(rate, low, points)
    return Spectrum(centres, power_db(band_means(freqs, density.real, centres, fraction)))


def octaves(rate: int, low: float = 20.0, points: int = 24) -> Floats:
    """Frequencies in Hz from `low` to 20 kHz, `points` to an octave.

    >>> octaves(48000, 100.0, 1)[:3].tolist()
    [100.0, 200.0, 400.0]
    """
    count = int(np.log2(min(20_000.0, 0.47 * rate) / low) * points) + 1
    return np.asarray(low * 2.0 ** (np.arange(count) / points))


def welch(a: Floats, b: Floats, rate: int, size: int) -> tuple[Floats, np.ndarray]:
    """The cross power density of two signals: mean over Hann windows of `size`, half overlapped (Welch, 1967).

    For ``a is b`` it is real. Signals shorter than a window are padded with silence.
    """
    window = np.hanning(size + 1)[:-1]
    scale = 2.0 / (rate * float((window**2).sum()))
    total = np.zeros(size // 2 + 1, dtype=complex)
    step, count = size // 2, 0
    for start in range(0, max(1, len(a) - size + 1), step):
        parts = [np.zeros(size) for _ in range(2 if b is not a else 1)]
        for part, x in zip(parts, (a, b), strict=False):
            piece = x[start : start + size]
            part[: len(piece)] = piece
            part *= window
        spectra = [np.fft.rfft(part) for part in parts]
        total += np.conj(spectra[0]) * spectra[-1]
        count += 1
    total[0] /= 2.0
    total[-1] /= 2.0
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    return freqs, total * scale / count


def band_means(freqs: Floats, values: Floats, centres: Floats, fraction: float) -> Floats:
    """Means of `values` over a band of 1/`fraction` octave about each centre, edges counted in part."""
    step = freqs[1] - freqs[0]
    edges = np.concatenate([freqs - step / 2, [freqs[-1] + step / 2]])
    total = np.concatenate([[0.0], np.cumsum(values)]) * step
    half = 2.0 ** (0.5 / fraction)
    low, high = centres / half, np.minimum(centres * half, edges[-1])
    return (np.interp(high, edges, total) - np.interp(low, edges, total)) / (high - low)


def spanned(spectra: Floats) -> tuple[Floats, Floats]:
    """The mean of some spectra (which, points) at equal loudness, and how far to either side they reach.

    >>> [v.tolist() for v in spanned(np.array([[0.0, 4.0], [0.5, 0.0]]))]
    [[0.25, 2.0], [1.0, 2.0]]
    """
    mean = spectra.mean(axis=0)
    return mean, np.maximum(LEAST_SPREAD, np.abs(spectra - mean).max(axis=0))
