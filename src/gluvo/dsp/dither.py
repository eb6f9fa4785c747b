"""The last step before whole numbers: dither, even or moved to where it is heard least."""

from __future__ import annotations

import functools
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from gluvo.dsp.kernel import Audio, Floats, Ints, kernel

Curve = Literal["light", "ear", "deep"]
TAPS = 48
"""Of the filter that the error goes through, up to 64 kHz; as many more at higher rates as these are higher."""
SHARE = {"light": 0.35, "ear": 0.7, "deep": 1.0}
"""How much of the threshold of hearing, in dB, each curve follows."""
HIGHEST = {"light": 24.0, "ear": 36.0, "deep": 46.0}
"""dB over its deepest place that each curve rises at most."""
SIZE = 4096


def threshold_in_quiet(freqs: Floats) -> Floats:
    """The level in dB at which a tone is just heard (Terhardt, Hearing Research 1, 1979), from 200 Hz to 22 kHz.

    >>> threshold_in_quiet(np.array([3300.0])).round(1).tolist()
    [-5.0]
    """
    k = np.clip(np.asarray(freqs), 200.0, 22_000.0) / 1000.0
    return np.asarray(3.64 * k**-0.8 - 6.5 * np.exp(-0.6 * (k - 3.3) ** 2) + 1e-3 * k**4)


def wanted_noise(curve: Curve, amount: float, freqs: Floats, rate: int) -> Floats:
    """The noise in dB against TPDF that a curve is designed for, at some frequencies; its mean over all is 0, since what is
    taken in one place must go to another (Gerzon and Craven, AES preprint 2822, 1989).

    >>> bool(wanted_noise("ear", 0.0, np.array([1000.0, 20000.0]), 48000).any())
    False
    """
    grid = np.linspace(0.0, rate / 2.0, SIZE // 2 + 1)

    def shape(at: Floats) -> Floats:
        heard = threshold_in_quiet(at) * SHARE[curve]
        lowest = float((threshold_in_quiet(grid) * SHARE[curve]).min())
        return np.asarray(np.minimum(heard, lowest + HIGHEST[curve]))

    return np.asarray(amount * (shape(np.asarray(freqs)) - float(shape(grid).mean())))


@functools.lru_cache(maxsize=64)
def error_filter(curve: Curve, amount: float, rate: int) -> Floats:
    """What past errors are weighted with so that the noise is as wanted: the minimum-phase filter of that spectrum, by the
    cepstrum (Oppenheim and Schafer), without its first tap, which is 1. `amount` 0–1.

    >>> error_filter("ear", 0.5, 48000).shape
    (48,)
    """
    grid = np.linspace(0.0, rate / 2.0, SIZE // 2 + 1)
    log = wanted_noise(curve, amount, grid, rate) * (np.log(10.0) / 20.0)
    cepstrum = np.fft.irfft(log)
    cepstrum[1 : SIZE // 2] *= 2.0
    cepstrum[SIZE // 2 + 1 :] = 0.0
    cepstrum[0] = 0.0
    count = TAPS * max(1, round(rate / 48_000))
    taps = np.fft.irfft(np.exp(np.fft.rfft(cepstrum)))[: count + 1]
    falling = count + 1 - count // 2
    window = np.ones(count + 1)
    window[count // 2 :] = 0.5 + 0.5 * np.cos(np.pi * np.arange(falling) / falling)
    return np.ascontiguousarray((taps * window)[1:])


def noise_of(curve: Curve, amount: float, freqs: Floats, rate: int) -> Floats:
    """The noise in dB against TPDF that the filter really makes.

    >>> float(noise_of("ear", 1.0, np.array([3300.0]), 48000)[0]) < -10.0
    True
    """
    taps = np.concatenate([[1.0], error_filter(curve, amount, rate)])
    turns = np.exp(-2j * np.pi * np.outer(np.asarray(freqs) / rate, np.arange(len(taps))))
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(turns @ taps), 1e-9)))


class Ditherer:
    """Rounds to whole numbers, block by block, with or without dither.

    TPDF: triangular, 2 LSB peak to peak, rectangular noise twice (Lipshitz, Wannamaker, Vanderkooy, JAES 40(5), 1992). A
    curve feeds back the errors. The noise comes from a seeded generator, so that the same master gives the same file.
    """

    def __init__(
        self, bits: int, rate: int, curve: Curve | Literal["tpdf", "none"] = "tpdf", amount: float = 1.0, seed: int = 1
    ) -> None:
        """`amount` 0–1 of the curve."""
        self.bits, self.step, self.dithers = bits, 2.0 ** (1 - bits), curve != "none"
        self._random = np.random.default_rng(seed)
        shaped = curve not in ("none", "tpdf") and amount > 0.0
        self._taps = error_filter(curve, amount, rate) if shaped else None
        self._past = np.zeros((2, 2 * len(self._taps) if self._taps is not None else 0))
        self._at = np.zeros(1, dtype=np.int64)

    def run(self, x: Audio) -> np.ndarray:
        """`x` (n, 2) as whole numbers of `bits`, left-justified in int32, held at full scale."""
        if not self.dithers:
            return to_whole(x, self.bits)
        pairs = self._random.random((*x.shape, 2))  # drawn frame by frame, so that blocks make no difference
        noise = np.ascontiguousarray(pairs[..., 0] - pairs[..., 1])
        if self._taps is None:
            return to_whole(x + noise * self.step, self.bits)
        out = np.zeros(x.shape, dtype=np.int32)
        _shaped(np.ascontiguousarray(x), noise, 2.0 ** (self.bits - 1), self._taps, self._past, self._at, out)
        return out << (32 - self.bits)


@kernel
def _shaped(x: Audio, noise: Floats, full: float, taps: Floats, past: Floats, at: Ints, out: NDArray[np.int32]) -> None:
    """Round with the weighted errors of the past taken off. `past` holds each channel's errors twice, newest first."""
    size, place = taps.shape[0], at[0]
    for i in range(x.shape[0]):
        place = place - 1 if place > 0 else size - 1
        for c in range(2):
            line = past[c]
            fed = 0.0
            for k in range(size):
                fed += taps[k] * line[place + 1 + k]
            wanted = x[i, c] * full + fed
            whole = np.rint(wanted + noise[i, c])
            error = whole - wanted
            whole = min(max(whole, -full), full - 1.0)
            error = min(max(error, -4.0), 4.0)
            line[place] = error
            line[place + size] = error
            out[i, c] = np.int32(whole)
    at[0] = place


def to_whole(x: Audio, bits: int) -> np.ndarray:
    """Round to `bits`-bit whole numbers, left-justified in int32, held at full scale.

    >>> to_whole(np.array([[0.5, 2.0]]), 16).tolist()
    [[1073741824, 2147418112]]
    """
    full = 2 ** (bits - 1)
    whole = np.clip(np.rint(x * full), -full, full - 1).astype(np.int32)
    return whole << (32 - bits)
