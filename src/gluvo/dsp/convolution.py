"""Linear-phase filters: their design from a magnitude, and their convolution block by block."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from gluvo.dsp.fourier import aligned, transform, twiddle_factors
from gluvo.dsp.kernel import Audio, Floats, Ints, kernel
from gluvo.dsp.vectors import fma8, load8, mul8, splat8, store8

PARTITION = 1024
"""Frames that are convolved at a time; what comes out is late by as many."""
LENGTHS = (0.15, 0.3, 0.6)
"""Seconds to either side of a filter's middle; the shortest that is exact enough is taken."""
EXACT = 0.04
"""dB off above `FROM` that is exact enough."""
FROM, DEEPEST = 30.0, -60.0
"""Hz and dB: what lies below need not be followed."""

TWIDDLES = twiddle_factors(2 * PARTITION)

Magnitude = Callable[[Floats], Floats]
"""Magnitudes, ≥ 0, at frequencies in Hz."""


def half_length(seconds: float, rate: int) -> int:
    """Whole parts to either side.

    >>> half_length(0.15, 48000)
    7168
    """
    return max(1, round(seconds * rate / PARTITION)) * PARTITION


def symmetric(magnitude: Magnitude, half: int, rate: int) -> Floats:
    """``2 · half + 1`` taps, symmetric, of a filter with that magnitude and no phase but the delay of `half`.

    Sampled in frequency four times as densely as needed, then tapered over the outer quarter to either side.

    >>> taps = symmetric(lambda f: np.ones_like(f), 1024, 48000)
    >>> len(taps), round(float(taps[1024]), 6)
    (2049, 1.0)
    """
    size = 8 * half
    wanted = magnitude(np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64))
    whole = np.fft.irfft(wanted, size)
    right = whole[: half + 1]
    taper = np.ones(half + 1)
    outer = np.arange(half // 4 + 1) / (half // 4 + 1)
    taper[half - half // 4 :] = 0.5 + 0.5 * np.cos(np.pi * outer)
    right = right * taper
    return np.concatenate([right[:0:-1], right])


def deviation(taps: Floats, magnitude: Magnitude, rate: int) -> float:
    """How far the response of symmetric taps lies off a magnitude at most, dB, from 30 Hz to 20 kHz.

    >>> taps = symmetric(lambda f: np.ones_like(f), 1024, 48000)
    >>> round(deviation(taps, lambda f: np.ones_like(f), 48000), 3)
    0.0
    """
    half = len(taps) // 2
    size = 8 * half
    got = np.fft.rfft(np.roll(np.pad(taps, (0, size - len(taps))), -half)).real
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    wanted = magnitude(freqs)
    counted = (freqs >= FROM) & (freqs <= min(20_000.0, 0.47 * rate)) & (wanted > 10.0 ** (DEEPEST / 20.0))
    if not counted.any():
        return 0.0
    return float(np.abs(20.0 * np.log10(np.maximum(np.abs(got[counted]), 1e-9) / wanted[counted])).max())


def chosen_half(magnitudes: list[Magnitude], rate: int, lengths: Sequence[float] = LENGTHS) -> tuple[int, float]:
    """The shortest half length at which all filters are exact enough (else the longest), and how far off they are.

    `lengths`: seconds to either side to choose from.
    """
    off = 0.0
    for seconds in lengths:
        half = half_length(seconds, rate)
        off = max((deviation(symmetric(m, half, rate), m, rate) for m in magnitudes), default=0.0)
        if off <= EXACT:
            break
    return half, off


@kernel
def convolve(
    x: Audio,
    out: Audio,
    place: Ints,
    taken: Floats,
    made: Floats,
    past: Floats,
    straight: Floats,
    turned: Floats,
    twiddles: tuple[Floats, Floats, Floats],
    work: Audio,
    total: Floats,
) -> None:
    """Convolve `x` (frames, 2) into `out`, which may be `x`, part by part: left and right as one complex signal, real and
    imaginary parts apart.

    `place` holds how many frames of the newest part have come, and where in `past` it lies. `taken` (2, bins) is the part
    before and the newest one; `made` (2, `PARTITION`) what comes out while that comes in. `past` is (2, 2, parts, bins): the
    spectra as they are and turned round (the conjugate at the opposite frequency). `straight` and `turned` (2, parts,
    bins) are the filters for either; `turned` has no parts where both channels pass the same filter. `twiddles`: see
    `fourier`; `work` and `total` (2, bins) are written over.
    """
    at = 0
    while at < x.shape[0]:
        filled = place[0]
        n = min(x.shape[0] - at, PARTITION - filled)
        left, right, a, b = (
            taken[0, PARTITION + filled :],
            taken[1, PARTITION + filled :],
            made[0, filled:],
            made[1, filled:],
        )
        for i in range(n):
            left[i], right[i] = x[at + i, 0], x[at + i, 1]
        for i in range(n):
            out[at + i, 0], out[at + i, 1] = a[i], b[i]
        at += n
        place[0] = filled + n
        if place[0] == PARTITION:
            place[0], place[1] = 0, (place[1] + 1) % past.shape[2]
            _convolve_partition(place[1], taken, made, past, straight, turned, twiddles, work, total)


@kernel
def _convolve_partition(
    newest: int,
    taken: Floats,
    made: Floats,
    past: Floats,
    straight: Floats,
    turned: Floats,
    twiddles: tuple[Floats, Floats, Floats],
    work: Audio,
    total: Floats,
) -> None:
    bins = past.shape[3]
    a, b, c, d = past[0, 0, newest], past[0, 1, newest], past[1, 0, newest], past[1, 1, newest]
    a[:] = taken[0]
    b[:] = taken[1]
    transform(a, b, twiddles, work)
    _multiply(straight, past[0], newest, False, total)
    if turned.shape[1] > 0:
        c[0], d[0] = a[0], -b[0]
        for k in range(1, bins):
            c[k], d[k] = a[bins - k], -b[bins - k]
        _multiply(turned, past[1], newest, True, total)
    real, imaginary = total[0], total[1]
    transform(imaginary, real, twiddles, work)
    left, right, scale = made[0], made[1], 1.0 / bins
    for k in range(PARTITION):
        left[k], right[k] = scale * real[PARTITION + k], scale * imaginary[PARTITION + k]
    for side in range(2):
        taken[side, :PARTITION] = taken[side, PARTITION:]


@kernel
def _multiply(filters: Floats, past: Floats, newest: int, add: bool, total: Floats) -> None:
    """The spectra of the past times those of the parts of a filter, summed up into `total` (2, bins), or added to it. The
    sums of 16 bins stay in registers until they are done."""
    count, minus, none = past.shape[1], splat8(-1.0), splat8(0.0)
    real, imaginary = total[0], total[1]
    for k in range(0, past.shape[2], 16):
        r, s, u, v = none, none, none, none
        if add:
            r, s, u, v = load8(real, k), load8(real, k + 8), load8(imaginary, k), load8(imaginary, k + 8)
        for p in range(count):
            place = newest - p
            if place < 0:
                place += count
            of_real, of_imaginary, x, y = filters[0, p], filters[1, p], past[0, place], past[1, place]
            e, f, g, h = load8(of_real, k), load8(of_imaginary, k), load8(x, k), load8(y, k)
            r, u = fma8(e, g, fma8(mul8(minus, f), h, r)), fma8(e, h, fma8(f, g, u))
            e, f, g, h = load8(of_real, k + 8), load8(of_imaginary, k + 8), load8(x, k + 8), load8(y, k + 8)
            s, v = fma8(e, g, fma8(mul8(minus, f), h, s)), fma8(e, h, fma8(f, g, v))
        store8(real, k, r)
        store8(real, k + 8, s)
        store8(imaginary, k, u)
        store8(imaginary, k + 8, v)


class Convolver:
    """Two inputs to two outputs through a matrix of filters of equal length, in uniform parts (overlap-save).

    `filters[o][i]` are the taps from input ``i`` to output ``o``, or None for nothing; inputs and outputs are left and
    right, or with `mid_side` mid and side of them. Late by `PARTITION`, whatever the blocks. See Stockham, 'High-speed
    convolution and correlation', 1966.

    Left and right are transformed as one complex signal ``z``: what a matrix of real filters makes of it is one filter of
    ``z`` plus another one of its conjugate, which is none where both channels pass the same filter.
    """

    def __init__(self, filters: list[list[Floats | None]], *, mid_side: bool = False) -> None:
        longest = max(len(h) for row in filters for h in row if h is not None)
        self.partitions = -(-longest // PARTITION)
        (a, b), (c, d) = ([np.zeros(longest) if h is None else h for h in row] for row in filters)
        if mid_side:  # a and d on mid and side, back to left and right
            a, b, c, d = (0.5 * (a + d), 0.5 * (a - d), 0.5 * (a - d), 0.5 * (a + d))
        self._straight = self._spectra(0.5 * ((a + d) + 1j * (c - b)))
        other = 0.5 * ((a - d) + 1j * (c + b))
        self._turned = self._spectra(other) if np.any(other) else np.zeros((2, 0, 2 * PARTITION))
        self._past = aligned(2, 2, self.partitions, 2 * PARTITION)
        self._taken, self._made = aligned(2, 2 * PARTITION), aligned(2, PARTITION)
        self._work, self._total = aligned(2, 2 * PARTITION), aligned(2, 2 * PARTITION)
        self._place = np.zeros(2, dtype=np.int64)

    def _spectra(self, taps: np.ndarray) -> Floats:
        padded = np.zeros((self.partitions, 2 * PARTITION), dtype=complex)
        padded[:, :PARTITION] = np.pad(taps, (0, self.partitions * PARTITION - len(taps))).reshape(
            self.partitions, PARTITION
        )
        found, spectra = aligned(2, self.partitions, 2 * PARTITION), np.fft.fft(padded, axis=1)
        found[0], found[1] = spectra.real, spectra.imag
        return found

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, which may be `x`, late by `PARTITION`."""
        convolve(
            x,
            out,
            self._place,
            self._taken,
            self._made,
            self._past,
            self._straight,
            self._turned,
            TWIDDLES,
            self._work,
            self._total,
        )

    def adopt(self, other: Convolver) -> None:
        """Go on where another one is, as far as its past reaches."""
        newest, theirs = int(self._place[1]), int(other._place[1])
        for back in range(min(self.partitions, other.partitions)):
            self._past[:, :, (newest - back) % self.partitions] = other._past[:, :, (theirs - back) % other.partitions]
        np.copyto(self._taken, other._taken)
        np.copyto(self._made, other._made)
        self._place[0] = other._place[0]
