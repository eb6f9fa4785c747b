"""Bells and shelves that come near a curve."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.progress import Progress, no_progress
from gluvo.steps.bands import Band, Shape

MOST_GAIN = 6.0
ENOUGH = 0.2
"""dB RMS that may remain; no further band is added for less."""
QS = (0.4, 4.0)


def fitted(
    centres: Floats,
    wanted: Floats,
    rate: int,
    most: int,
    progress: Progress = no_progress,
    most_gain: float = MOST_GAIN,
) -> tuple[Band, ...]:
    """At most so many bands that come near a curve in dB, a constant aside."""
    bands: list[Band] = []
    best: list[Band] = []
    remains = wanted - wanted.mean()
    while len(bands) < most and float(np.sqrt(np.mean(remains**2))) > ENOUGH:
        progress(len(bands) / most)
        bands = _refined([*bands, _next(centres, remains, bands)], centres, wanted, rate, most_gain)
        total = response_of(bands, centres, rate)
        remains = (wanted - wanted.mean()) - (total - total.mean())
        best = bands
    return tuple(
        msgspec.structs.replace(b, id=n) for n, b in enumerate((b for b in best if abs(b.gain) >= 0.05), start=1)
    )


def _next(centres: Floats, remains: Floats, bands: Sequence[Band]) -> Band:
    """A band for where most remains: a shelf if that is at an end that has none, else a bell."""
    third = max(1, len(centres) // 8)
    ends: dict[Shape, Floats] = {"low_shelf": remains[:third], "high_shelf": remains[-third:]}
    at = int(np.argmax(np.abs(np.convolve(remains, np.hanning(9)[1:-1] / np.hanning(9).sum(), mode="same"))))
    for shape, end in ends.items():
        near = at < third if shape == "low_shelf" else at >= len(centres) - third
        if near and abs(float(end.mean())) > 0.6 * abs(float(remains[at])) and all(b.shape != shape for b in bands):
            freq = float(centres[third if shape == "low_shelf" else -third])
            return Band(shape=shape, freq=freq, gain=float(np.clip(end.mean(), -6.0, 6.0)), q=0.71, slope=12)
    return Band(freq=float(centres[at]), gain=float(np.clip(remains[at], -6.0, 6.0)), q=1.2)


def _refined(bands: list[Band], centres: Floats, wanted: Floats, rate: int, most_gain: float) -> list[Band]:
    from scipy.optimize import least_squares  # takes half a second to load, which only a worker should wait for

    low, high = float(np.log(centres[0])), float(np.log(centres[-1]))
    start, least, most = [], [], []
    for band in bands:
        start += [
            np.clip(np.log(band.freq), low + 1e-3, high - 1e-3),
            np.clip(band.gain, 0.01 - most_gain, most_gain - 0.01),
        ]
        start.append(np.clip(np.log(band.q), np.log(QS[0]) + 1e-3, np.log(QS[1]) - 1e-3))
        least += [low, -most_gain, np.log(QS[0])]
        most += [high, most_gain, np.log(QS[1])]
    target = wanted - wanted.mean()

    def remaining(x: Floats) -> Floats:
        total = response_of(_with(bands, x), centres, rate)
        return np.asarray(total - total.mean() - target)

    found = least_squares(remaining, start, bounds=(least, most), max_nfev=60, x_scale=[1.0, 3.0, 1.0] * len(bands))
    return _with(bands, found.x)


def _with(bands: list[Band], x: Floats) -> list[Band]:
    return [
        msgspec.structs.replace(
            band,
            freq=float(np.exp(x[3 * n])),
            gain=float(x[3 * n + 1]),
            q=0.71 if band.shape != "bell" else float(np.exp(x[3 * n + 2])),
        )
        for n, band in enumerate(bands)
    ]


def response_of(bands: Sequence[Band], freqs: Floats, rate: int) -> Floats:
    """What bands do together, dB."""
    total = np.zeros(len(freqs))
    for band in bands:
        total += 20.0 * np.log10(np.maximum(np.abs(band.response(freqs, rate)), 1e-9))
    return total
