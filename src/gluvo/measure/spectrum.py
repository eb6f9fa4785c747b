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
    count = int(np.log2(min(20_000.0, 0.47 * rate) / low) * points) + 1
    centres = low * 2.0 ** (np.arange(count) / points)
    return Spectrum(centres, power_db(band_means(freqs, density.real, centres, fraction)))


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
