"""Resonances: places of the spectrum that stand over their surroundings for most of the time."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import PARTS, octaves

SECONDS = 0.34
"""Length of a window: bins of 3 Hz."""
AT_ONCE = 64
"""Windows that are worked on at a time, so that long songs need no more memory than short ones."""
POINTS = 48
"""Places that are looked at in an octave."""
LOWEST, HIGHEST = 40.0, 16_000.0
STANDS = 4.0
"""dB over the surroundings that count."""
STEADY = 0.5
"""Share of the time for which it must stand out."""
TOP = 1.5
"""dB under a peak that still belong to its top."""
QUIET = 40.0
"""dB under the loudest moment at which the music counts as silent."""


@dataclass(frozen=True)
class Scale:
    """What is compared with what: means over 1/`fine` octave, and over `around` octaves about it."""

    fine: float
    around: float


NARROW, BROAD = Scale(24.0, 0.5), Scale(6.0, 1.5)
"""Single ringing notes and whistles; and build-ups of a third of an octave, where several players meet."""


@dataclass(frozen=True)
class Resonance:
    """A place that stands out."""

    freq: float
    """Hz"""
    prominence: float
    """dB over the surroundings, on average."""
    steady: float
    """Share of the time for which it stands out by `STANDS`."""
    q: float
    """How narrow it is: frequency over width at half of the prominence."""
    part: str
    """mid or side."""


def resonances(
    x: np.ndarray, rate: int, part: str = "mid", scales: Sequence[Scale] = (NARROW, BROAD)
) -> tuple[Resonance, ...]:
    """The resonances of a part of `x` (frames, 2), the most prominent first.

    Every window of a short-time Fourier transform is compared with its own surroundings on a scale of octaves: the mean
    power about each place against the mean of what lies around that, itself left out. What changes with the music moves on;
    what stays is a resonance. A place that was found on the narrow scale is not told again on the broad one.
    """
    values = PARTS[part](np.asarray(x, dtype=np.float64))
    centres = octaves(rate, LOWEST, POINTS)
    centres = centres[centres <= HIGHEST]
    levels: list[Floats] = []
    rows: list[list[Floats]] = [[] for _ in scales]
    for total, edges, level in _powers(values, rate):
        levels.append(level)
        for scale, row in zip(scales, rows, strict=True):
            row.append(_excess(total, edges, centres, scale))
    level = np.concatenate(levels)
    loud = level > max(1e-16, level.max() * 10.0 ** (-QUIET / 10.0))
    if not loud.any():
        return ()
    found: list[Resonance] = []
    for scale, row in zip(scales, rows, strict=True):
        excess = np.concatenate(row)[loud]
        for made in _peaks(excess, centres, scale, part):
            if all(abs(math.log2(made.freq / other.freq)) > 1.0 / scale.fine + 1.0 / 12.0 for other in found):
                found.append(made)
    return tuple(sorted(found, key=lambda r: -r.prominence))


def sameness(x: np.ndarray, rate: int, part: str = "mid") -> float:
    """How alike the spectra of all that sounds in a part of `x` (frames, 2) are, −1 to 1: the mean correlation of each window's
    twelfths of an octave from 200 Hz to 8 kHz, each against the two octaves about it, with the sum of all other windows. One
    sound that is played again and again comes near 1, notes of different pitch stay under 0.8.

    >>> tone = lambda freq: np.sin(2 * np.pi * freq * np.arange(24000) / 48000)
    >>> same, other = ([tone(440)] * 6, [tone(freq) for freq in range(300, 900, 100)])
    >>> [sameness(np.concatenate(x)[:, None] * np.ones(2), 48000) > 0.9 for x in (same, other)]
    [True, False]
    """
    values = PARTS[part](np.asarray(x, dtype=np.float64))
    centres = octaves(rate, 200.0, 12)
    centres = centres[centres < 8000.0]
    levels, rows = [], []
    for total, edges, level in _powers(values, rate):
        levels.append(level)
        rows.append(_excess(total, edges, centres, Scale(12.0, 2.0)))
    level, excess = np.concatenate(levels), np.concatenate(rows)
    excess = excess[level > max(1e-16, level.max() * 10.0 ** (-0.5 * QUIET / 10.0))]
    if len(excess) < 2:
        return 1.0
    excess = excess - excess.mean(axis=1, keepdims=True)
    others = excess.sum(axis=0) - excess
    sizes = np.linalg.norm(excess, axis=1) * np.linalg.norm(others, axis=1)
    return float(np.mean((excess * others).sum(axis=1) / np.maximum(sizes, 1e-12)))


def _powers(values: Floats, rate: int) -> Iterator[tuple[Floats, Floats, Floats]]:
    """For some windows at a time the running total of power over the bins' edges, the edges in Hz, and each window's power."""
    size = min(2 ** int(np.ceil(np.log2(rate * SECONDS))), max(16, len(values)))
    window = np.hanning(size + 1)[:-1]
    starts = range(0, max(1, len(values) - size + 1), size // 2)
    edges = (np.arange(size // 2 + 2) - 0.5) * rate / size
    for first in range(0, len(starts), AT_ONCE):
        pieces = np.zeros((len(starts[first : first + AT_ONCE]), size))
        for piece, start in zip(pieces, starts[first : first + AT_ONCE], strict=True):
            part = values[start : start + size]
            piece[: len(part)] = part * window[: len(part)]
        powers = np.abs(np.fft.rfft(pieces, axis=1)) ** 2
        total = np.concatenate([np.zeros((len(powers), 1)), np.cumsum(powers, axis=1)], axis=1)
        yield total, edges, powers.sum(axis=1)


def _excess(total: Floats, edges: Floats, centres: Floats, scale: Scale) -> Floats:
    """dB by which each place (columns) stands over its surroundings in each window (rows)."""

    def means(half: float) -> tuple[Floats, Floats]:
        low, high = centres / half, np.minimum(centres * half, edges[-1])
        # at least three bins, or a single note of a low octave would be its own surroundings
        low, high = np.minimum(low, centres - 1.5 * edges[1]), np.maximum(high, centres + 1.5 * edges[1])
        return _at(total, edges, high) - _at(total, edges, low), high - low

    inner, width = means(2.0 ** (0.5 / scale.fine))
    outer, span = means(2.0 ** (0.5 * scale.around))
    gap, hole = means(2.0 ** (1.0 / scale.fine))
    rest = np.maximum(outer - gap, 1e-30) / np.maximum(span - hole, 1e-9)
    return np.asarray(power_db(np.maximum(inner, 1e-30) / width) - power_db(rest))


def _at(total: Floats, edges: Floats, places: Floats) -> Floats:
    """Running totals between edges, for all windows at once."""
    where = np.clip(places / (edges[1] - edges[0]) + 0.5, 0.0, len(edges) - 1.001)
    below = where.astype(int)
    share = where - below
    return np.asarray(total[:, below] * (1.0 - share) + total[:, below + 1] * share)


def _peaks(excess: Floats, centres: Floats, scale: Scale, part: str) -> list[Resonance]:
    mean = np.mean(excess, axis=0)
    steady = np.mean(excess >= STANDS, axis=0)
    reach = max(1, round(POINTS / scale.fine))
    found = []
    for n in range(len(centres)):
        near = slice(max(0, n - reach), n + reach + 1)
        if mean[n] < STANDS or mean[n] < mean[near].max() or steady[n] < STEADY:
            continue
        found.append(Resonance(_middle(mean, centres, n), float(mean[n]), float(steady[n]), _q(mean, n), part))
    return found


def _middle(mean: Floats, centres: Floats, n: int) -> float:
    """The middle of the top about place `n`: a single tone is as high all over the width that is averaged."""
    a, b = n, n
    while a > 0 and mean[a - 1] > mean[n] - TOP:
        a -= 1
    while b < len(mean) - 1 and mean[b + 1] > mean[n] - TOP:
        b += 1
    weights = mean[a : b + 1] - (mean[n] - TOP)
    return float(np.exp(np.average(np.log(centres[a : b + 1]), weights=np.maximum(weights, 1e-9))))


def _q(mean: Floats, n: int) -> float:
    """Frequency over the width at half of the prominence, from a peak at place `n`."""
    half, a, b = 0.5 * mean[n], n, n
    while a > 0 and mean[a] > half:
        a -= 1
    while b < len(mean) - 1 and mean[b] > half:
        b += 1
    octaves_wide = max(1, b - a - 1) / POINTS
    return float(1.0 / (2.0 ** (octaves_wide / 2.0) - 2.0 ** (-octaves_wide / 2.0)))
