"""Correlation, width and mono loss by frequency."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.measure.spectrum import welch

BANDS: tuple[tuple[float, float], ...] = (
    (20.0, 140.0), (140.0, 500.0), (500.0, 2000.0), (2000.0, 6000.0), (6000.0, 20000.0)
)  # fmt: skip


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
    """The image of `x` (frames, 2) in bands given in Hz, from Welch cross-spectra."""
    x = np.asarray(x, dtype=np.float64)
    size = min(8192, max(8, len(x) // 2 * 2))
    left_x, right_x = np.ascontiguousarray(x[:, 0]), np.ascontiguousarray(x[:, 1])
    freqs, ll = welch(left_x, left_x, rate, size)
    rr = welch(right_x, right_x, rate, size)[1].real
    lr = welch(left_x, right_x, rate, size)[1].real
    result = []
    for low, high in bands:
        inside = (freqs >= low) & (freqs < high)
        left, right, both = (float(v[inside].sum()) for v in (ll.real, rr, lr))
        result.append(StereoBand(low, high, *image(left, right, both)))
    return tuple(result)


def image(left: float, right: float, product: float) -> tuple[float, float, float]:
    """Correlation, width in dB and mono loss in dB from the powers of left, right, and their product."""
    total = left + right
    if total <= 1e-20:
        return 1.0, -60.0, 0.0
    mid, side = max(total + 2.0 * product, 1e-30) / 4.0, max(total - 2.0 * product, 1e-30) / 4.0
    correlation = product / (left * right) ** 0.5 if left * right > 0.0 else 0.0
    return (
        float(np.clip(correlation, -1.0, 1.0)),
        float(np.clip(10.0 * np.log10(side / mid), -60.0, 60.0)),
        float(min(60.0, 10.0 * np.log10(total / 2.0 / mid))),
    )
