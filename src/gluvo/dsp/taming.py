"""What stands out of a spectrum, and how far it is cut: on short overlapping frames, with perfect reconstruction.

Analysis and synthesis by the same Hann window at four-fold overlap, whose squares add up to 3/2 everywhere (Allen and
Rabiner, 'A unified approach to short-time Fourier analysis and synthesis', Proc. IEEE 65(11), 1977).
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, Ints, kernel
from gluvo.dsp.logarithms import to_db

OVERLAP = 4
OVERLAP_SUM = 1.5
SURROUNDING = 1.2
"""Octaves to either side that a bin is compared with."""
LEAST_AROUND = 12
"""Bins to either side that it is compared with at least: in the lows an octave is hardly wider than a tone."""
OWN = 4
"""Bins to either side that are the tone itself, and not its surroundings."""
EDGE = 10.0 ** (-4.0 / 10.0)
"""Where a sound ends in frequency, its surroundings are taken to be so much softer, as power, than the louder side."""
FEWEST = 4
"""Bins that there must be to either side; what lies lower, below about 100 Hz, is let be."""
FRAME_SECONDS = 4096 / 48_000
WIDEN = 2
"""Bins to either side of one that is cut that are cut as much: as wide as the window smears a steady tone."""
PARTIALS = 8
"""What may be so high a partial of a note is judged by that note."""
CLOSEST = 6
"""Bins from partial to partial that there must be at least, so that what lies between two of them can be told."""
CLEAR, PLAIN = 10.0 ** (6.0 / 10.0), 10.0 ** (12.0 / 10.0)
"""How far a partial stands over what lies between it and the next, as power, that begins to be told, and that is sure."""
SOME, MOST = 0.4, 0.6
"""Share of all that sounds from which a tone begins to be let be, and is."""
SMALLEST_POWER = 1e-30
SILENT_POWER = 1e-12
"""Power of a bin's surroundings that they are taken to have at least, so that what stands out of silence is let be."""
NOTHING = 1e-9
ROUNDING = 1e-15
"""Share of a sum that its rounding may come to."""


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
    return np.maximum(low, 1), np.minimum(high, len(bins))


@kernel
def partial_of(power: Floats, place: float, spacing: float) -> tuple[float, float]:
    """Whether a partial of a note lies at a place in `power`, in bins, 0–1, and how strong it is, as power.

    It is the largest bin about there, and stands over what lies half way to the next on its softer side.
    """
    k = int(place + 0.5)
    aside = int(0.5 * spacing + 0.5)
    if k - aside < 1 or k + aside + 2 > power.shape[0]:
        return 0.0, 0.0
    most = max(power[k - 1], power[k], power[k + 1])
    below, above = power[k - aside - 1] + power[k - aside], power[k + aside] + power[k + aside + 1]
    ratio = most / max(0.5 * min(below, above), SMALLEST_POWER)
    if ratio <= CLEAR:
        return 0.0, 0.0
    return min(math.log(ratio / CLEAR) / math.log(PLAIN / CLEAR), 1.0), most


@kernel
def left_of_a_note(power: Floats, k: int, over: float, selectivity: float) -> float:
    """The share of `over`, the dB that would be cut of the tone whose top is bin `k`, that is left as it may be a note's.

    A tone is taken for each of the first partials of a note in turn. The lowest is let be where the next two are there. Any
    other is judged where the lowest is there, and those next to it are, or those two off (of some instruments every other
    one is missing): it is cut by what it stands over the middle of the two, less `selectivity`, if that is less.
    """
    a, b, c = math.log(power[k - 1]), math.log(power[k]), math.log(power[k + 1])
    bend = a - 2.0 * b + c
    place = k + (0.5 * (a - c) / bend if bend < 0.0 else 0.0)
    least = 1.0
    for partial in range(1, PARTIALS + 1):
        spacing = place / partial
        if spacing < CLOSEST:
            break
        if partial == 1:
            second, _ = partial_of(power, 2.0 * spacing, spacing)
            third, _ = partial_of(power, 3.0 * spacing, spacing)
            least = min(least, 1.0 - min(second, third))
            continue
        lowest, _ = partial_of(power, spacing, spacing)
        for off in range(1, 3):
            if lowest > 0.0 and partial > off:
                below, one = partial_of(power, (partial - off) * spacing, spacing)
                above, other = partial_of(power, (partial + off) * spacing, spacing)
                there = min(lowest, below, above)
                if there > 0.0:
                    stands = 10.0 / math.log(10.0) * (b - 0.5 * math.log(one * other))
                    judged = min(max(stands - selectivity, 0.0) / over, 1.0)
                    least = min(least, 1.0 - there * (1.0 - judged))
    return least


@kernel
def let_notes_be(power: Floats, over: Floats, selectivity: float, shares: Floats) -> None:
    """Scale the dB by which bins would be cut, `over` (bins), where they are no resonances: partials of notes (see
    `left_of_a_note`), and tones that are most of what sounds. `shares` (bins) is written over."""
    bins, total = power.shape[0], 0.0
    for k in range(bins):
        total += power[k]
        shares[k] = 1.0
    for k in range(OWN, bins - OWN):
        if over[k] <= 0.0:
            continue
        tone, top = 0.0, True
        for j in range(k - WIDEN, k + WIDEN + 1):
            tone += power[j]
            top = top and power[j] <= power[k]
        if top:
            share = min(max((MOST - tone / total) / (MOST - SOME), 0.0), 1.0)
            if share > 0.0:
                share *= left_of_a_note(power, k, over[k], selectivity)
            for j in range(k - OWN, k + OWN + 1):
                shares[j] = min(shares[j], share)
    for k in range(bins):
        over[k] *= shares[k]


@kernel
def standing_out(
    z: Floats,
    meant: Floats,
    keep: float,
    power: Floats,
    low: Ints,
    high: Ints,
    selectivity: float,
    weights: Floats,
    depth: float,
    work: Audio,
    cut: Floats,
) -> None:
    """By how many dB each bin is cut, into `cut` (bins).

    `z` is the spectrum of a frame of two columns as one complex signal, as pairs (2 · frame); `meant` says which of the
    two are looked at, 0 or 1 each. `power` (bins) is the mean power so far, which takes in a share ``1 − keep`` of the
    frame's. A bin that stands over the mean of what lies to either side of it (as far as `low` and `high`, see
    `surroundings`; without the nearest `OWN`, which are the same tone) by more than `selectivity` dB is cut by what is
    more, at most by `depth`; `weights` (bins) scale both what is cut and how much it may be.

    The mean is the quadratic one of powers, which goes by what is loud in the surroundings: one partial among others does
    not stand out, one that is louder than its neighbours does. Of the two sides it is the middle in dB, so that a sound
    that leans is judged by its own slope; but no further under the louder one than `EDGE`, so that the end of a sound does
    not stand out. Notes are let be, see `let_notes_be`. `work` (3, bins + 1) is written over.
    """
    bins, size = power.shape[0], z.shape[0] // 2
    ratio, level, sums = work[0, :bins], work[1, :bins], work[2]
    for k in range(bins):
        j = 2 * ((size - k) % size)
        a, b, c, d = z[2 * k], z[2 * k + 1], z[j], z[j + 1]
        first = (a + c) * (a + c) + (b - d) * (b - d)
        second = (a - c) * (a - c) + (b + d) * (b + d)
        now = 0.25 * (meant[0] * first + meant[1] * second)
        power[k] = max(now + (power[k] - now) * keep, SMALLEST_POWER)
    sums[bins] = 0.0
    for k in range(bins - 1, -1, -1):  # from above, so that loud lows take nothing from the precision of soft highs
        sums[k] = sums[k + 1] + power[k] * power[k]
    for k in range(bins):
        below, above = k - OWN - low[k], high[k] - (k + OWN + 1)
        ratio[k] = NOTHING
        if below >= FEWEST and above >= FEWEST:
            least = ROUNDING * sums[low[k]]
            one = math.sqrt(max((sums[low[k]] - sums[k - OWN]) / below, least))
            other = math.sqrt(max((sums[k + OWN + 1] - sums[high[k]]) / above, least))
            around = max(math.sqrt(one * other), EDGE * max(one, other))
            ratio[k] = max(math.sqrt(power[k] / max(around, SILENT_POWER)), NOTHING)
    to_db(ratio, level)
    over = ratio
    for k in range(bins):
        over[k] = max(level[k] - selectivity, 0.0)
    let_notes_be(power, over, selectivity, level)
    for k in range(bins):
        over[k] = min(over[k], depth) * weights[k]
    for k in range(bins):
        most = 0.0
        for j in range(max(0, k - WIDEN), min(bins, k + WIDEN + 1)):
            most = max(most, over[j])
        cut[k] = most


@kernel
def scale_bins(z: Floats, meant: Floats, factors: Floats, mix: float) -> tuple[float, float]:
    """Scale the meant columns of a spectrum (see `standing_out`) by factors (bins), of which `mix` is taken; the power of
    both columns before and after."""
    bins, size = factors.shape[0], z.shape[0] // 2
    before, after = 0.0, 0.0
    for k in range(bins):
        i, j = 2 * k, 2 * ((size - k) % size)
        change = 0.5 * mix * (factors[k] - 1.0)
        a, b, c, d = z[i], z[i + 1], z[j], z[j + 1]
        before += a * a + b * b + c * c + d * d
        first, second = change * meant[0], change * meant[1]
        e = a + first * (a + c) + second * (a - c)
        f = b + first * (b - d) + second * (b + d)
        g = c + first * (a + c) - second * (a - c)
        h = d - first * (b - d) + second * (b + d)
        after += e * e + f * f + g * g + h * h
        z[i], z[i + 1] = e, f
        if j != i:
            z[j], z[j + 1] = g, h
    return before, after


@kernel
def windowed(x: Floats, window: Floats, out: Floats) -> None:
    """Both columns of a flat row of pairs times a window."""
    for i in range(window.shape[0]):
        out[2 * i], out[2 * i + 1] = x[2 * i] * window[i], x[2 * i + 1] * window[i]


@kernel
def laid_under(total: Floats, frame: Floats, window: Floats, hop: int) -> None:
    """Move a sum of frames, as pairs, on by `hop`, and lay a windowed frame under it."""
    n = window.shape[0]
    for i in range(2 * (n - hop)):
        total[i] = total[i + 2 * hop]
    for i in range(2 * (n - hop), 2 * n):
        total[i] = 0.0
    for i in range(n):
        total[2 * i] += frame[2 * i] * window[i]
        total[2 * i + 1] += frame[2 * i + 1] * window[i]


class Frames:
    """Overlapping frames of a stream of two columns, as one complex signal, and their sum. Late by one frame."""

    def __init__(self, size: int) -> None:
        self.size, self.hop = size, size // OVERLAP
        window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(size) / size)
        self._window, self._back = window, window / OVERLAP_SUM
        self._taken = np.zeros((size, 2))
        self._sum = np.zeros((size, 2))
        self._frame = np.zeros(size, dtype=complex)
        self.spectrum = np.zeros(2 * size)
        """Of the frame that is full, as pairs."""
        self._spectrum = self.spectrum.view(complex)
        self._filled = 0

    def begin(self, place: int) -> None:
        """Frames are full where the song's time is a multiple of the hop; what comes next is at `place` in it."""
        self._filled = place % self.hop

    @property
    def phase(self) -> int:
        """How far into a hop the next frame lies."""
        return self._filled

    def push(self, x: Audio, out: Audio, at: int) -> tuple[int, bool]:
        """Take in frames of `x` (n, 2) from `at` on, and put as many into `out`; how many, and whether a frame is full."""
        n = min(len(x) - at, self.hop - self._filled)
        start = self.size - self.hop + self._filled
        self._taken[start : start + n] = x[at : at + n]
        out[at : at + n] = self._sum[self._filled : self._filled + n]
        self._filled += n
        return n, self._filled == self.hop

    def analyse(self) -> None:
        """The spectrum of the frame that is full."""
        windowed(self._taken.reshape(-1), self._window, self._frame.view(np.float64))
        np.fft.fft(self._frame, out=self._spectrum)

    def add(self) -> None:
        """Put what has become of the spectrum under the frames before, and go on."""
        self._filled = 0
        np.fft.ifft(self._spectrum, out=self._frame)
        laid_under(self._sum.reshape(-1), self._frame.view(np.float64), self._back, self.hop)
        self._taken[: self.size - self.hop] = self._taken[self.hop :]

    def adopt(self, other: Frames) -> None:
        """Go on where another one of the same size is, which is as far into its hop."""
        if self.size == other.size:
            np.copyto(self._taken, other._taken)
            np.copyto(self._sum, other._sum)


def weights_at(freqs: Floats, places: Floats, values: Floats) -> Floats:
    """Weights between a few places, straight over the logarithm of frequency, even outside of them."""
    return np.asarray(np.interp(np.log(np.maximum(freqs, 1.0)), np.log(places), values))
