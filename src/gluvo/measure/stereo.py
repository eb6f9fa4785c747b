"""Correlation, width and mono loss by frequency."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Tone, band_means, octaves, tone_of

BANDS: tuple[tuple[float, float], ...] = (
    (20.0, 140.0),
    (140.0, 500.0),
    (500.0, 2000.0),
    (2000.0, 6000.0),
    (6000.0, 20000.0),
)


@dataclass(frozen=True)
class StereoBand:
    """The stereo image of one band."""

    low: float
    high: float
    correlation: float
    """−1 to 1; 1 where there is nothing."""
    width: float
    """Side to mid, dB."""
    mono_loss: float
    """What a mono sum loses, dB."""


def stereo_bands(x: np.ndarray, rate: int, bands: Sequence[tuple[float, float]] = BANDS) -> tuple[StereoBand, ...]:
    """The image of `x` (frames, 2) in bands given in Hz.

    >>> x = np.random.default_rng(0).standard_normal((48000, 1)) * [0.1, 0.1]
    >>> [round(band.correlation, 2) for band in stereo_bands(x, 48000, [(100.0, 1000.0)])]
    [1.0]
    """
    return bands_of_tone(tone_of(x, rate), bands)


def bands_of_tone(tone: Tone, bands: Sequence[tuple[float, float]]) -> tuple[StereoBand, ...]:
    """The image in bands given in Hz, from spectra that have been measured already."""
    result = []
    for low, high in bands:
        inside = (tone.freqs >= low) & (tone.freqs < high)
        left, right, both = (float(v[inside].sum()) for v in (tone.left, tone.right, tone.cross.real))
        result.append(StereoBand(low, high, *image(left, right, both)))
    return tuple(result)


@dataclass(frozen=True, eq=False)
class ImageCurve:
    """The stereo image by frequency."""

    freqs: Floats
    """Hz, evenly spaced in octaves."""
    correlation: Floats
    width: Floats
    """Side to mid, dB."""
    mono_loss: Floats
    """dB"""
    level: Floats
    """Of both channels together, dB: where there is next to nothing, the image tells nothing."""


def image_by_frequency(tone: Tone, rate: int, fraction: int = 6) -> ImageCurve:
    """The stereo image, smoothed to 1/`fraction` octave."""
    centres = octaves(rate, 20.0, 12)
    left, right, both = (band_means(tone.freqs, v, centres, fraction) for v in (tone.left, tone.right, tone.cross.real))
    rows = np.array([image(float(a), float(b), float(c)) for a, b, c in zip(left, right, both, strict=True)])
    level = 10.0 * np.log10(np.maximum(left + right, 1e-20))
    return ImageCurve(centres, rows[:, 0], rows[:, 1], rows[:, 2], level)


@dataclass(frozen=True, eq=False)
class Scatter:
    """How often left and right stand where: mid upright, side across."""

    density: Floats
    """``(bins, bins)`` of mid and side from −`scale` to `scale`, 0–1; square roots of shares, so that the rare is seen."""
    scale: float
    """Full deflection of mid and side."""


def scatter_of(x: np.ndarray, bins: int = 160, most: int = 400_000) -> Scatter:
    """The `Scatter` of `x` (frames, 2), of at most `most` frames of it.

    >>> scatter_of(np.ones((100, 2))).density.shape
    (160, 160)
    """
    step = max(1, len(x) // most)
    left, right = x[::step, 0].astype(np.float64), x[::step, 1].astype(np.float64)
    loud = np.abs(left) + np.abs(right)
    scale = max(1e-6, float(np.percentile(loud, 99.9)) / 2.0 * 1.15) if len(loud) else 1.0
    mid, side = (left + right) / 2.0 / scale, (right - left) / 2.0 / scale
    counts, _, _ = np.histogram2d(mid, side, bins=bins, range=((-1.0, 1.0), (-1.0, 1.0)))
    return Scatter(np.sqrt(counts / max(1.0, counts.max())), scale)


def image(left: float, right: float, product: float) -> tuple[float, float, float]:
    """Correlation, width in dB and mono loss in dB from the powers of left, right, and their product.

    >>> image(1.0, 1.0, 1.0)[0], image(1.0, 1.0, 0.0)[1]
    (1.0, 0.0)
    """
    total = left + right
    if total <= 1e-20:
        return 1.0, -60.0, 0.0
    mid, side = max(total + 2.0 * product, 1e-30) / 4.0, max(total - 2.0 * product, 1e-30) / 4.0
    correlation = product / (left * right) ** 0.5 if min(left, right) > 1e-20 * total else 0.0
    return (
        float(np.clip(correlation, -1.0, 1.0)),
        float(np.clip(10.0 * np.log10(side / mid), -60.0, 60.0)),
        float(min(60.0, 10.0 * np.log10(total / 2.0 / mid))),
    )
