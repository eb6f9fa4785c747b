"""What the audio thread tells the window: a preallocated ring, written without waiting."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.filters import Sections
from gluvo.dsp.interpolation import PeakReader
from gluvo.dsp.kernel import Audio
from gluvo.measure.trace import k_weighting
from gluvo.steps import MAX_BLOCK, Processor

ROWS = 1024
MOST_STEPS = 32


@dataclass(frozen=True, eq=False)
class Readings:
    """Blocks since the last look, oldest first."""

    seconds: np.ndarray
    """Length of each block."""
    peaks: np.ndarray
    """Sample peaks, ``(blocks, 2)``, linear."""
    true_peak: np.ndarray
    power: np.ndarray
    """K-weighted mean square, channels summed."""
    reductions: np.ndarray
    """Largest reduction of each step that is on, dB, ``(blocks, MOST_STEPS)``."""
    levels: np.ndarray
    """Largest detector level of each step, dBFS, ``(blocks, MOST_STEPS)``."""


class MeterRing:
    """Written by the audio thread, read by one other."""

    def __init__(self, rate: int) -> None:
        self._rate = rate
        self._rows = np.zeros((ROWS, 5 + 2 * MOST_STEPS))
        self._written = 0
        self._read = 0
        self._filter = Sections(k_weighting(rate))
        self._reader = PeakReader(rate, MAX_BLOCK)
        self._weighted = np.zeros((MAX_BLOCK, 2))
        self._peaks = np.zeros((MAX_BLOCK, 2))

    def write(self, x: Audio, processors: tuple[Processor, ...]) -> None:
        """Measure a block of what is heard, before the monitor's gain."""
        n = len(x)
        row = self._rows[self._written % ROWS]
        weighted, peaks = self._weighted[:n], self._peaks[:n]
        self._filter.run(x, weighted)
        self._reader.read(x, 0.5, peaks)
        row[0] = n / self._rate
        np.abs(x).max(axis=0, out=row[1:3])
        row[3] = peaks.max()
        row[4] = np.einsum("ij,ij->", weighted, weighted) / n
        for k, processor in enumerate(processors[:MOST_STEPS]):
            row[5 + k] = processor.reduction[:n].max()
            row[5 + MOST_STEPS + k] = processor.level[0]
        self._written += 1

    def read(self) -> Readings:
        """All blocks since the last call; the oldest are gone if that was long ago."""
        end = self._written
        start = max(self._read, end - ROWS + 8)
        self._read = end
        rows = self._rows[np.arange(start, end) % ROWS]
        return Readings(rows[:, 0], rows[:, 1:3], rows[:, 3], rows[:, 4], *np.hsplit(rows[:, 5:], 2))
