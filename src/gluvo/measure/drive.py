"""What drives a reduction: where in the spectrum the energy lies that a detector hears while something is taken off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats

THIRDS = np.array([1000.0 * 2.0 ** (n / 3.0) for n in range(-17, 14)])
"""Middles of thirds of an octave from 20 Hz to 20 kHz."""
RANGES = ((17.8, 60.0), (60.0, 150.0), (150.0, 500.0), (500.0, 2000.0), (2000.0, 6000.0), (6000.0, 22_400.0))
"""Hz from and to: what is told as one range."""
FRAME_SECONDS = 0.1707
"""Length of the frames that are looked at."""


@dataclass(frozen=True, eq=False)
class Drive:
    """Shares of the detector's energy during reduction."""

    thirds: Floats
    """By third of an octave, see `THIRDS`; they sum to 1, or are all 0 where nothing is reduced."""

    def share(self, low: float, high: float) -> float:
        """Of the thirds whose middles lie from `low` to `high` Hz."""
        first, last = np.searchsorted(THIRDS, (low, high))
        return float(self.thirds[first:last].sum())

    @property
    def ranges(self) -> tuple[float, ...]:
        """Of each of `RANGES`."""
        return tuple(self.share(low, high) for low, high in RANGES)

    @property
    def top(self) -> tuple[float, float]:
        """The third that drives most, Hz, and its share."""
        place = int(np.argmax(self.thirds))
        return float(THIRDS[place]), float(self.thirds[place])


def drive_of(heard: np.ndarray, reduction: np.ndarray, rate: int) -> Drive:
    """What drives a reduction in dB of every frame, where the detector hears `heard` (frames, 2).

    The power spectrum of half-overlapping Hann windows of 171 ms, each weighted by the mean reduction in it, summed by
    thirds of an octave (IEC 61260-1) in frequency bins; a bin between two thirds counts for the nearer one.

    >>> t = np.arange(48000) / 48000
    >>> x = np.stack([np.sin(2 * np.pi * 63 * t)] * 2, axis=1)
    >>> round(drive_of(x, np.ones(48000), 48000).top[0])
    62
    """
    meter = DriveMeter(rate)
    count = min(len(heard), len(reduction))
    meter.push(heard[:count], reduction[:count])
    return meter.finish()


class DriveMeter:
    """As `drive_of`, of a sound that comes in pieces."""

    def __init__(self, rate: int) -> None:
        size = int(2 ** round(np.log2(FRAME_SECONDS * rate)))
        self._rate, self._filled = rate, 0
        self._window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(size) / size)
        self._heard, self._reduction = np.zeros((size, 2)), np.zeros(size)
        self._total = np.zeros(size // 2 + 1)

    def push(self, heard: np.ndarray, reduction: np.ndarray) -> None:
        """Take in frames of what the detector hears (n, 2), and the reduction in dB of each."""
        size, at = len(self._reduction), 0
        while at < len(heard):
            n = min(size - self._filled, len(heard) - at)
            self._heard[self._filled : self._filled + n] = heard[at : at + n]
            self._reduction[self._filled : self._filled + n] = reduction[at : at + n]
            self._filled += n
            at += n
            if self._filled == size:
                self._turn()

    def _turn(self) -> None:
        size = len(self._reduction)
        weight = float(self._reduction.mean())
        if weight > 0.0:
            spectrum = np.fft.rfft(self._heard * self._window[:, None], axis=0)
            self._total += weight * (np.abs(spectrum) ** 2).sum(axis=1)
        self._filled = size // 2
        self._heard[: size // 2] = self._heard[size // 2 :]
        self._reduction[: size // 2] = self._reduction[size // 2 :]

    def finish(self) -> Drive:
        """What has come in so far."""
        freqs = np.fft.rfftfreq(len(self._reduction), 1.0 / self._rate)
        edges = np.concatenate([THIRDS[:1] * 2.0 ** (-1.0 / 6.0), THIRDS * 2.0 ** (1.0 / 6.0)])
        which = np.searchsorted(edges, freqs) - 1
        inside = (which >= 0) & (which < len(THIRDS))
        thirds = np.bincount(which[inside], self._total[inside], minlength=len(THIRDS)).astype(np.float64)
        return Drive(thirds / thirds.sum() if thirds.sum() > 0.0 else thirds)
