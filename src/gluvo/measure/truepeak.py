"""Peaks between samples (ITU-R BS.1770-5, Annex 2), for every 10 ms or for a whole array."""

from __future__ import annotations

import concurrent.futures
import itertools

import numpy as np

from gluvo.dsp.interpolation import (
    HALF,
    LANES,
    TAPS,
    bends,
    beside,
    coarse_peaks,
    coarse_phases,
    fine_phases,
    steep_peak,
)
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.simd_max import largest
from gluvo.progress import CORES, step_back

BEFORE, AFTER = HALF - 1, HALF
"""Frames to either side that the interpolator must see."""
NOT_LOW = 0.7
"""A coarse reading is never lower than this share of the fine one."""
SLACK = 1.05
"""A place beside a higher one by less than this may still be the higher one when it is read finely."""


def hop_frames(rate: int) -> int:
    """Frames in 10 ms.

    >>> hop_frames(48000)
    480
    """
    return rate // 100


class HopPeaks:
    """Reads the largest magnitude of every 10 ms, at samples and between them, of either channel."""

    def __init__(self, rate: int, frames: int) -> None:
        """`frames`: the most that are read at a time."""
        self._hop = hop_frames(rate)
        self._coarse, self._steep, self._count = coarse_phases(rate), beside(fine_phases(rate)), len(fine_phases(rate))
        self._history = np.zeros((2, frames + TAPS - 1))
        self._rough = np.zeros((2, frames + 2))
        self._near = np.zeros((2, frames + 3))
        self._readings = np.zeros(LANES)

    def read(self, x: np.ndarray, out: Floats) -> None:
        """Peaks of `x` (`BEFORE` + n + `AFTER`, 2) into `out`, one for every hop of the n frames in the middle.

        What lies between a hop's last sample and the next hop's first belongs to it.
        """
        read_hops(
            self._coarse,
            self._steep,
            self._count,
            self._history,
            self._rough,
            self._near,
            x,
            self._hop,
            self._readings,
            out,
        )


@kernel
def read_hops(
    coarse: Floats,
    steep: Floats,
    count: int,
    history: Floats,
    rough: Floats,
    near: Floats,
    x: Audio,
    hop: int,
    readings: Floats,
    out: Floats,
) -> None:
    """See `HopPeaks.read`. Only where a reading may raise its hop's peak it is taken finely."""
    frames = x.shape[0] - TAPS + 1
    left, right = history[0], history[1]
    for i in range(x.shape[0]):
        left[i] = x[i, 0]
        right[i] = x[i, 1]
    for c in range(2):
        coarse_peaks(coarse, history[c], frames + 2, rough[c])
        bends(history[c], near[c, : frames + 3])
    for h in range(out.shape[0]):
        start, stop, top = h * hop, min(frames, (h + 1) * hop), 0.0
        for c in range(2):
            row, past, more = rough[c], history[c], near[c]
            highest = largest(row[start + 1 : stop + 1])
            if highest <= NOT_LOW * top:
                continue
            first = start
            while row[first + 1] < highest:
                first += 1
            top = max(top, steep_peak(steep, count, past, first, readings))
            for i in range(start, stop):
                v = row[i + 1]
                if v > NOT_LOW * top and v + more[i] > top and i != first:
                    before = row[i] if i > start else 0.0
                    after = row[i + 2] if i + 1 < stop else 0.0
                    if v * SLACK >= max(before, after):
                        top = max(top, steep_peak(steep, count, past, i, readings))
        out[h] = top


HOPS = 32
"""Hops that are read at a time."""


SIDE_BY_SIDE = 3000
"""Hops from which on it is worth while to read on all cores."""


def peaks_of(x: np.ndarray, rate: int, first: int = 0, count: int | None = None) -> Floats:
    """The true peaks of hops of `x` (frames, 2), linear: of `count` hops (all) from the `first` on.

    >>> peaks_of(np.full((960, 2), 0.5), 48000).shape
    (2,)
    """
    total = -(-len(x) // hop_frames(rate))
    count = max(0, min(total - first, total if count is None else count))
    out = np.zeros(count)
    if count < SIDE_BY_SIDE:
        _read(x, rate, first, out)
        return out
    with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-peaks", step_back) as pool:
        edges = np.linspace(0, count, CORES + 1).astype(int)
        parts = [(int(a), out[a:b]) for a, b in itertools.pairwise(edges)]
        list(pool.map(lambda part: _read(x, rate, first + part[0], part[1]), parts))
    return out


def _read(x: np.ndarray, rate: int, first: int, out: Floats) -> None:
    """Fill `out` with the peaks of the hops from the `first` on."""
    hop, count = hop_frames(rate), len(out)
    reader = HopPeaks(rate, HOPS * hop)
    stage = np.zeros((BEFORE + HOPS * hop + AFTER, 2))
    for row in range(0, count, HOPS):
        start = (first + row) * hop
        stop = min(len(x), (first + min(count, row + HOPS)) * hop)
        inside = slice(max(0, start - BEFORE), min(len(x), stop + AFTER))
        part = stage[: BEFORE + stop - start + AFTER]
        part[:] = 0.0
        at = inside.start - (start - BEFORE)
        part[at : at + inside.stop - inside.start] = x[inside]
        reader.read(part, out[row : row + HOPS])


def true_peak(x: np.ndarray, rate: int) -> float:
    """The largest magnitude between and at samples (BS.1770-5, Annex 2; eightfold with a parabola below 64 kHz).

    `x` is (frames, 2); the result is linear, 1.0 = full scale.

    >>> t = np.arange(4800) / 48000
    >>> sine = np.sin(2 * np.pi * 12000 * t + np.pi / 4)  # its samples lie 3 dB under its peaks
    >>> sine *= np.hanning(4800)
    >>> round(true_peak(np.stack([sine, sine], axis=1), 48000), 2)
    1.0
    """
    return float(peaks_of(x, rate).max(initial=0.0))
