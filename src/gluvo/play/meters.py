"""What the audio thread tells the window: a preallocated board, written without waiting."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.filters import Sections
from gluvo.dsp.interpolation import PeakReader
from gluvo.dsp.kernel import Audio, kernel
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


COLUMNS = 5 + 2 * MOST_STEPS
POSITION, PLAYING, DROPOUTS, WRITTEN, TAKEN = range(5)
HEAD = 8


class Board:
    """What the audio thread tells, in one flat array, so that it can lie in memory shared between processes.

    Written by the audio thread without waiting; read by one other thread, here or in another process.
    """

    SIZE = HEAD + ROWS * COLUMNS

    def __init__(self, memory: np.ndarray | None = None) -> None:
        flat = np.zeros(self.SIZE) if memory is None else memory
        self.state = flat[:HEAD]
        self.rows = flat[HEAD:].reshape(ROWS, COLUMNS)
        self._read = int(self.state[WRITTEN])

    def read(self) -> Readings:
        """All blocks since the last call; the oldest are gone if that was long ago."""
        end = int(self.state[WRITTEN])
        start = max(min(self._read, end), end - ROWS + 8)
        self._read = end
        rows = self.rows[np.arange(start, end) % ROWS]
        return Readings(rows[:, 0], rows[:, 1:3], rows[:, 3], rows[:, 4], *np.hsplit(rows[:, 5:], 2))


class Meters:
    """Measures blocks and puts the readings on the board."""

    def __init__(self, rate: int, board: Board) -> None:
        self._rate = rate
        self._board = board
        self._filter = Sections(k_weighting(rate))
        self._reader = PeakReader(rate, MAX_BLOCK)
        self._weighted = np.zeros((MAX_BLOCK, 2))
        self._peaks = np.zeros((MAX_BLOCK, 2))

    def write(self, x: Audio, processors: tuple[Processor, ...]) -> None:
        """Measure a block of what is heard, before the monitor's gain."""
        n, written = len(x), int(self._board.state[WRITTEN])
        row = self._board.rows[written % ROWS]
        weighted, peaks = self._weighted[:n], self._peaks[:n]
        self._filter.run(x, weighted)
        self._reader.read(x, 0.5, peaks)
        row[0] = n / self._rate
        row[1], row[2], row[3], row[4] = summed_up(x, weighted, peaks)
        for k, processor in enumerate(processors[:MOST_STEPS]):
            row[5 + k] = processor.reduction[:n].max()
            row[5 + MOST_STEPS + k] = processor.level[0]
        self._board.state[WRITTEN] = written + 1


@kernel
def summed_up(x, weighted, peaks):  # type: ignore[no-untyped-def]
    """Sample peaks of both channels, the true peak, and the K-weighted mean square with channels summed."""
    left, right, true_peak, power = 0.0, 0.0, 0.0, 0.0
    for i in range(x.shape[0]):
        left, right = max(left, abs(x[i, 0])), max(right, abs(x[i, 1]))
        true_peak = max(true_peak, max(peaks[i, 0], peaks[i, 1]))
        power += weighted[i, 0] * weighted[i, 0] + weighted[i, 1] * weighted[i, 1]
    return left, right, true_peak, power / max(1, x.shape[0])
