"""What the audio thread tells the window: a preallocated board, written without waiting."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.filters import Sections
from gluvo.dsp.interpolation import PeakReader
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.simd_max import largest
from gluvo.measure.trace import k_weighting
from gluvo.render.machine import NodeRunner
from gluvo.steps import MAX_BLOCK, Processor
from gluvo.steps.mid_side_eq import MOST_BANDS

ROWS = 512
MOST_STEPS, MOST_STRIPS = 64, 64


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
    squares: np.ndarray
    """Mean squares of left and right, ``(blocks, 2)``."""
    product: np.ndarray
    """Mean product of left and right."""
    reductions: np.ndarray
    """Largest reduction of each step that is on, dB, ``(blocks, MOST_STEPS)``."""
    levels: np.ndarray
    """Largest detector level of each step, dBFS, ``(blocks, MOST_STEPS)``."""
    strips: np.ndarray
    """Sample peaks of what each strip sends on, ``(blocks, MOST_STRIPS, 2)``, linear."""


STEPS_AT, STRIPS_AT = 8, 8 + 2 * MOST_STEPS
ROW_VALUES = STRIPS_AT + 2 * MOST_STRIPS
POSITION, PLAYING, DROPOUTS, WRITTEN, TAKEN, TAPPED, BEAT, HELD_BACK, HEARD, STALLS = range(10)
HEAD = 16
TAP_FRAMES = 65_536
"""Frames that are kept of what goes into the chosen step, of what comes out of it, and of what is heard."""


class Board:
    """What the audio thread tells, in one flat array, so that it can lie in memory shared between processes.

    Written by the audio thread without waiting; read by one other thread, here or in another process.
    """

    SIZE = HEAD + ROWS * ROW_VALUES + TAP_FRAMES * 6 + MOST_BANDS

    def __init__(self, memory: np.ndarray | None = None) -> None:
        flat = np.zeros(self.SIZE) if memory is None else memory
        self.state = flat[:HEAD]
        self.rows = flat[HEAD : HEAD + ROWS * ROW_VALUES].reshape(ROWS, ROW_VALUES)
        taps = flat[HEAD + ROWS * ROW_VALUES : -MOST_BANDS]
        self.tap = taps[: TAP_FRAMES * 4].reshape(TAP_FRAMES, 4)
        self.heard_tap = taps[TAP_FRAMES * 4 :].reshape(TAP_FRAMES, 2)
        self.moves = flat[-MOST_BANDS:]
        """By how many dB each band of the chosen equaliser has just moved, in the order of its bands."""
        self._read = int(self.state[WRITTEN])

    def tapped(self, frames: int) -> tuple[np.ndarray, np.ndarray] | None:
        """The last frames that went into the chosen step, and that came out of it; None before there are as many.

        The step's own latency lies between the two.
        """
        end = int(self.state[TAPPED])
        if end < frames:
            return None
        rows = self.tap[np.arange(end - frames, end) % TAP_FRAMES]
        return rows[:, :2], rows[:, 2:]

    def heard(self, frames: int) -> np.ndarray | None:
        """The last frames of what is heard, (frames, 2), before the monitor's gain; None before there are as many."""
        end = int(self.state[HEARD])
        return None if end < frames else np.asarray(self.heard_tap[np.arange(end - frames, end) % TAP_FRAMES])

    def read(self) -> Readings:
        """All blocks since the last call; the oldest are gone if that was long ago."""
        end = int(self.state[WRITTEN])
        start = max(min(self._read, end), end - ROWS + 8)
        self._read = end
        rows = self.rows[np.arange(start, end) % ROWS]
        reductions, levels = np.hsplit(rows[:, STEPS_AT:STRIPS_AT], 2)
        strips = rows[:, STRIPS_AT:].reshape(len(rows), MOST_STRIPS, 2)
        return Readings(
            rows[:, 0], rows[:, 1:3], rows[:, 3], rows[:, 4], rows[:, 5:7], rows[:, 7], reductions, levels, strips
        )


def arrived(reduction: float, share: float) -> float:
    """What is left of a reduction in dB of which a share is heard; see `dsp.compression.arriving`."""
    return -20.0 * math.log10(max(1e-10, 1.0 - share + share * 10.0 ** (reduction / -20.0)))


class Meters:
    """Measures blocks and puts the readings on the board."""

    def __init__(self, rate: int, board: Board) -> None:
        self._rate = rate
        self._board = board
        self._filter = Sections(k_weighting(rate))
        self._reader = PeakReader(rate, MAX_BLOCK)
        self._weighted = np.zeros((MAX_BLOCK, 2))
        self._peaks = np.zeros((2, MAX_BLOCK))

    def write(
        self,
        x: Audio,
        processors: Sequence[Processor | None],
        strips: Sequence[tuple[NodeRunner, float, float]],
        tapped: tuple[NodeRunner, NodeRunner] | None = None,
        moving: Sequence[tuple[int, Floats]] = (),
        heard: Sequence[NodeRunner | None] = (),
    ) -> None:
        """Measure a block of what is heard, before the monitor's gain, and of what each strip sends on; `tapped` are
        the two sides of the chosen step, `moving` its bands that move: their places and their curves. `heard` tells for
        processors of steps that work in some sections alone how much of them there is."""
        n, written = len(x), int(self._board.state[WRITTEN])
        row = self._board.rows[written % ROWS]
        weighted, peaks = self._weighted[:n], self._peaks
        self._filter.run(x, weighted)
        self._reader.read(x, 0.5, peaks)
        row[0] = n / self._rate
        row[1], row[2], row[3], row[4], row[5], row[6], row[7] = summed_up(x, weighted, peaks)
        for k, processor in enumerate(processors[:MOST_STEPS]):
            if processor is not None:
                within = heard[k] if k < len(heard) else None
                row[STEPS_AT + k] = largest(processor.reduction[:n])
                if within is not None and within.share < 1.0:
                    row[STEPS_AT + k] = arrived(row[STEPS_AT + k], within.share)
                row[STEPS_AT + MOST_STEPS + k] = processor.level[0]
        for k, (part, left, right) in enumerate(strips[:MOST_STRIPS]):
            peaks_of(part.out[:n], left, right, row[STRIPS_AT + 2 * k : STRIPS_AT + 2 * k + 2])
        for place, curve in moving:
            self._board.moves[place] = curve[n - 1]
        if tapped is not None:
            end = int(self._board.state[TAPPED])
            keep(tapped[0].out[:n], tapped[1].out[:n], end % TAP_FRAMES, self._board.tap)
            self._board.state[TAPPED] = end + n
        end = int(self._board.state[HEARD])
        keep_one(x, end % TAP_FRAMES, self._board.heard_tap)
        self._board.state[HEARD] = end + n
        self._board.state[WRITTEN] = written + 1


@kernel
def keep(before: Audio, after: Audio, place: int, ring: Floats) -> None:
    """Put a block of two sounds into a ring, from a place in it on."""
    for i in range(before.shape[0]):
        ring[place, 0], ring[place, 1] = before[i, 0], before[i, 1]
        ring[place, 2], ring[place, 3] = after[i, 0], after[i, 1]
        place += 1
        if place == ring.shape[0]:
            place = 0


@kernel
def keep_one(x: Audio, place: int, ring: Floats) -> None:
    """Put a block of a sound into a ring, from a place in it on."""
    for i in range(x.shape[0]):
        ring[place, 0], ring[place, 1] = x[i, 0], x[i, 1]
        place += 1
        if place == ring.shape[0]:
            place = 0


@kernel
def peaks_of(x: Audio, left: float, right: float, out: Floats) -> None:
    """The largest magnitudes of both channels, scaled."""
    a, b = 0.0, 0.0
    for i in range(x.shape[0]):
        a, b = max(a, abs(x[i, 0])), max(b, abs(x[i, 1]))
    out[0], out[1] = a * abs(left), b * abs(right)


@kernel
def summed_up(x: Audio, weighted: Floats, peaks: Floats) -> tuple[float, float, float, float, float, float, float]:
    """Sample peaks of both channels, the true peak, the K-weighted mean square with channels summed, the mean squares of
    both channels, and the mean of their product.

    `peaks` is (2, frames or more), the others (frames, 2).
    """
    left, right, true_peak, power = 0.0, 0.0, 0.0, 0.0
    first, second, product = 0.0, 0.0, 0.0
    for i in range(x.shape[0]):
        a, b = x[i, 0], x[i, 1]
        left, right = max(left, abs(a)), max(right, abs(b))
        true_peak = max(true_peak, max(peaks[0, i], peaks[1, i]))
        power += weighted[i, 0] * weighted[i, 0] + weighted[i, 1] * weighted[i, 1]
        first, second, product = first + a * a, second + b * b, product + a * b
    n = max(1, x.shape[0])
    return left, right, true_peak, power / n, first / n, second / n, product / n
