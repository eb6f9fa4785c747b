"""What stands out of a spectrum, and how far it is cut: on short overlapping frames, with perfect reconstruction.

Analysis and synthesis by the same Hann window at four-fold overlap, whose squares add up to 3/2 everywhere (Allen and
Rabiner, 'A unified approach to short-time Fourier analysis and synthesis', Proc. IEEE 65(11), 1977).
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.logarithms import to_db

OVERLAP = 4
OVERLAP_SUM = 1.5
SURROUNDING = 0.5
"""Octaves to either side that a bin is compared with."""
LEAST_AROUND = 12
"""Bins to either side that it is compared with at least: in the lows half an octave is narrower than a tone."""
OWN = 4
"""Bins to either side that are the tone itself, and not its surroundings."""
FRAME_SECONDS = 4096 / 48_000
WIDEN = 2
"""Bins to either side of one that is cut that are cut as much: as wide as the window smears a steady tone."""
SMALLEST_POWER = 1e-30
SILENT_POWER = 1e-12
"""Power of a bin's surroundings that they are taken to have at least, so that what stands out of silence is let be."""
NOTHING = 1e-9


def frame_length(rate: int) -> int:
    """Frames of a window: the power of two that is nearest to 85 ms.

    >>> frame_length(48000), frame_length(192000)
    (4096, 16384)
    """
    return int(2 ** round(math.log2(FRAME_SECONDS * rate)))


def surroundings(size: int) -> tuple[np.ndarray, np.ndarray]:
    """For each bin of a frame of `size` the first and the last bin (past the end) that it is compared with."""
    bins = np.arange(size // 2 + 1)
    low = np.minimum(np.floor(bins * 2.0**-SURROUNDING).astype(np.int64), bins - LEAST_AROUND)
    high = np.maximum(np.ceil(bins * 2.0**SURROUNDING).astype(np.int64), bins + LEAST_AROUND) + 1
    return np.clip(low, 1, len(bins) - 2 * LEAST_AROUND), np.clip(high, 2 * LEAST_AROUND, len(bins))


@kernel
def standing_out(left, right, keep, power, low, high, selectivity, weights, depth, work, cut):  # type: ignore[no-untyped-def]
    """By how many dB each bin is cut, into `cut` (bins).

    `left` and `right` are the spectra of a frame, as pairs (2 bins); `power` (bins) is the mean power so far, which
    takes in a share ``1 − keep`` of them. A bin that stands over the mean power of its surroundings (`low`, `high`: see
    `surroundings`; without the nearest `OWN`, which are the same tone) by more than `selectivity` dB is cut by what is
    more, at most by `depth`; `weights` (bins) scale both what is cut and how much it may be. Powers are compared, so that
    one partial among others does not stand out, but one that is louder than its neighbours does. `work` (3, bins + 1) is
    written over.
    """
    bins = power.shape[0]
    ratio, level, sums = work[0, :bins], work[1, :bins], work[2]
    for k in range(bins):
        a, b, c, d = left[2 * k], left[2 * k + 1], right[2 * k], right[2 * k + 1]
        now = a * a + b * b + c * c + d * d
        power[k] = max(now + (power[k] - now) * keep, SMALLEST_POWER)
    sums[0] = 0.0
    for k in range(bins):
        sums[k + 1] = sums[k] + power[k]
    for k in range(bins):
        first, last = max(low[k], k - OWN), min(high[k], k + OWN + 1)
        around = sums[high[k]] - sums[low[k]] - (sums[last] - sums[first])
        count = (high[k] - low[k]) - (last - first)
        mean = max(around / count, SILENT_POWER)
        ratio[k] = max(math.sqrt(power[k] / mean), NOTHING)
    to_db(ratio, level)
    over = ratio
    for k in range(bins):
        over[k] = min(max(level[k] - selectivity, 0.0), depth) * weights[k]
    for k in range(bins):
        most = 0.0
        for j in range(max(0, k - WIDEN), min(bins, k + WIDEN + 1)):
            most = max(most, over[j])
        cut[k] = most


@kernel
def scaled(spectrum, factors, mix):  # type: ignore[no-untyped-def]
    """A spectrum, as pairs (2 bins), times factors (bins), of which `mix` is taken; its power before and after."""
    before, after = 0.0, 0.0
    for k in range(factors.shape[0]):
        f = 1.0 + mix * (factors[k] - 1.0)
        a, b = spectrum[2 * k], spectrum[2 * k + 1]
        power = a * a + b * b
        before += power
        after += power * f * f
        spectrum[2 * k], spectrum[2 * k + 1] = a * f, b * f
    return before, after


class Frames:
    """Overlapping frames of a stream, and their sum. Late by one frame."""

    def __init__(self, size: int) -> None:
        self.size, self.hop = size, size // OVERLAP
        window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(size) / size)
        self._window, self._back = window, window / OVERLAP_SUM
        self._taken = np.zeros((2, size))
        self._sum = np.zeros((2, size))
        self._windowed = np.zeros(size)
        self._frame = np.zeros(size)
        self.spectra = np.zeros((2, size // 2 + 1), dtype=complex)
        self._filled = 0

    def push(self, x: Audio, out: Audio, at: int) -> tuple[int, bool]:
        """Take in frames of `x` (n, 2) from `at` on, and put as many into `out`; how many, and whether a frame is full."""
        n = min(len(x) - at, self.hop - self._filled)
        start = self.size - self.hop + self._filled
        for c in range(2):
            self._taken[c, start : start + n] = x[at : at + n, c]
            out[at : at + n, c] = self._sum[c, self._filled : self._filled + n]
        self._filled += n
        return n, self._filled == self.hop

    def analyse(self) -> None:
        """The spectra of the frame that is full, into `spectra`."""
        for c in range(2):
            np.multiply(self._taken[c], self._window, out=self._windowed)
            np.fft.rfft(self._windowed, out=self.spectra[c])

    def add(self) -> None:
        """Put what has become of `spectra` under the frames before, and go on."""
        size, hop = self.size, self.hop
        self._filled = 0
        for c in range(2):
            total, taken = self._sum[c], self._taken[c]
            total[: size - hop] = total[hop:]
            total[size - hop :] = 0.0
            np.fft.irfft(self.spectra[c], size, out=self._frame)
            np.multiply(self._frame, self._back, out=self._frame)
            np.add(total, self._frame, out=total)
            taken[: size - hop] = taken[hop:]

    def adopt(self, other: Frames) -> None:
        """Go on where another one of the same size is."""
        if self.size == other.size:
            np.copyto(self._taken, other._taken)
            np.copyto(self._sum, other._sum)
            self._filled = other._filled


def weights_at(freqs: Floats, places: Floats, values: Floats) -> Floats:
    """Weights between a few places, straight over the logarithm of frequency, even outside of them."""
    return np.asarray(np.interp(np.log(np.maximum(freqs, 1.0)), np.log(places), values))
