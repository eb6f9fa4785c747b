"""Bells and shelves whose gain moves with the level in their own range."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.compression import QUIETEST, wanted_reductions
from gluvo.dsp.filters import pairs, run_sections
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.logarithms import to_db
from gluvo.dsp.vectors import fma2, load2, mul2, splat2, store2

FACTORS = 6
"""That a state-variable filter reckons with: of its two integrators three, of its outputs three."""
LEAST_MOVE = 1e-6
"""dB that a table spans at least, however little its band may move."""
STEP = 1.0 / 16.0
"""dB between the places of the table, in which its curves are straight to a hundred thousandth."""
TILE = 256
"""Frames that are worked on at a time, so that what is reckoned for each stays near."""


def selector(shape: str, freq: float, q: float, rate: int) -> Floats:
    """The section, ``(1, 6)``, that takes out a band's own range, with unit gain and no phase at its middle.

    A band-pass for a bell, a first-order low- or high-pass for a shelf, by bilinear transform. Its level is what the
    band follows.

    >>> selector("bell", 1000.0, 1.0, 48000).shape
    (1, 6)
    """
    k = math.tan(math.pi * min(freq, 0.49 * rate) / rate)
    if shape == "bell":
        norm = 1.0 / (1.0 + k / q + k * k)
        return np.array([[k / q * norm, 0, -k / q * norm, 1, 2.0 * (k * k - 1.0) * norm, (1.0 - k / q + k * k) * norm]])
    pole = (k - 1.0) / (k + 1.0)
    if shape == "low_shelf":
        return np.array([[k / (k + 1.0), k / (k + 1.0), 0, 1, pole, 0]])
    return np.array([[1.0 / (k + 1.0), -1.0 / (k + 1.0), 0, 1, pole, 0]])


@kernel
def move(x, heard, columns, select, memory, curve, times, rises, state, table, span, place, filters, work, moved):  # type: ignore[no-untyped-def]
    """Move a band of `x` (frames, 2), in place, and tell by how many dB in `moved` (frames).

    `heard` (frames, 2), which may be `x`, is what its level is read from. `columns`: which of the two columns it
    works on; the louder of them decides for both. `select` is the filter of its range as `filters.pairs` has it and
    `memory` (4) its past. `curve` and `times` are those of `Band`; `state` holds the two stages of the ballistics
    (Giannoulis, Massberg, Reiss, 2012). `rises` is 1 to raise and −1 to lower. `table` (2, sections, FACTORS,
    knots) holds what the band's sections are over `span` dB, see `knots`; `place` is where its static gain of 0 dB
    lies, in dB of movement, or −1. `filters` (sections, 4) is their past. `work` is written over.
    """
    for start in range(0, x.shape[0], TILE):
        part, told = x[start : start + TILE], moved[start : start + TILE]
        n = part.shape[0]
        _listen(heard[start : start + TILE], columns, select, memory, work)
        _follow(work[1, :n], curve, times, state, told)
        _sections(told, table, span, work)
        _filter(part, columns, table.shape[1], told, place, filters, work)
        for i in range(n):
            told[i] *= rises
    _settle(filters)


@kernel
def shift(x, columns, moved, table, span, place, filters, work):  # type: ignore[no-untyped-def]
    """As `move`, by what others have found: `moved` (frames), dB."""
    for start in range(0, x.shape[0], TILE):
        part, told = x[start : start + TILE], moved[start : start + TILE]
        _sections(told, table, span, work)
        _filter(part, columns, table.shape[1], told, place, filters, work)
    _settle(filters)


@kernel
def _settle(filters):  # type: ignore[no-untyped-def]
    """Clear what has decayed to nothing, since denormal numbers are slow."""
    for s in range(filters.shape[0]):
        for k in range(4):
            if abs(filters[s, k]) < 1e-30:
                filters[s, k] = 0.0


@kernel
def _listen(x, columns, select, memory, work):  # type: ignore[no-untyped-def]
    """The level of the range alone in dBFS into ``work[1]``."""
    n, heard = x.shape[0], work[2:4].reshape(-1)[: 2 * x.shape[0]]
    run_sections(select, memory, x, heard.reshape(n, 2))
    left, right = columns[0], columns[1]
    top, level = work[0, :n], work[1, :n]
    for i in range(n):
        top[i] = max(max(abs(heard[2 * i]) * left, abs(heard[2 * i + 1]) * right), QUIETEST)
    to_db(top, level)


@kernel
def _follow(level, curve, times, state, out):  # type: ignore[no-untyped-def]
    """By how many dB the band has moved at each level."""
    wanted_reductions(level, curve, out)
    attack, release = times[0], times[1]
    first, y = state[0], state[1]
    for i in range(level.shape[0]):
        want = out[i]
        first = max(want, want + (first - want) * release)
        y = first + (y - first) * attack if first > y else first
        out[i] = y
    state[0] = first if first > 1e-12 else 0.0
    state[1] = y if y > 1e-12 else 0.0


@kernel
def _sections(moved, table, span, work):  # type: ignore[no-untyped-def]
    """The factors of every section's state-variable filter at each frame, `FACTORS` rows each, into ``work[4:]``."""
    n, last = moved.shape[0], table.shape[3] - 1
    index, share = work[0, :n].view(np.int64), work[1, :n]
    scale = last / span
    for i in range(n):
        at = moved[i] * scale
        k = min(np.int64(at), last - 1)
        index[i] = k
        share[i] = at - k
    for s in range(table.shape[1]):
        for v in range(FACTORS):
            values, slopes, out = table[0, s, v], table[1, s, v], work[4 + FACTORS * s + v, :n]
            for i in range(n):
                out[i] = values[index[i]] + share[i] * slopes[index[i]]


@kernel
def _filter(x, columns, sections, moved, place, filters, work):  # type: ignore[no-untyped-def]
    """The sections at work; where nothing has moved from a gain of 0 dB, or a column is not meant, nothing is changed."""
    flat, n = x.reshape(-1), x.shape[0]
    kept, still = work[2:4].reshape(-1)[: 2 * n], 0
    for i in range(n):
        still |= moved[i] == place
    some = still or columns[0] == 0.0 or columns[1] == 0.0
    if some:
        kept[:] = flat
    minus, twice = splat2(-1.0), splat2(2.0)
    for s in range(sections):
        at, past = 4 + FACTORS * s, filters[s]
        f, gf, ggf = work[at], work[at + 1], work[at + 2]
        high, band, low = work[at + 3], work[at + 4], work[at + 5]
        p, q = load2(past, 0), load2(past, 2)
        for i in range(n):
            u = load2(flat, 2 * i)
            v = fma2(minus, q, u)
            first = fma2(splat2(gf[i]), v, mul2(splat2(f[i]), p))
            second = fma2(splat2(ggf[i]), v, fma2(splat2(gf[i]), p, q))
            p = fma2(twice, first, mul2(minus, p))
            q = fma2(twice, second, mul2(minus, q))
            u = fma2(splat2(low[i]), second, fma2(splat2(band[i]), first, mul2(splat2(high[i]), u)))
            store2(flat, 2 * i, u)
        store2(past, 0, p)
        store2(past, 2, q)
        if some and s + 1 < sections:  # every section hears what would have come to it
            for i in range(n):
                if moved[i] == place:
                    flat[2 * i], flat[2 * i + 1] = kept[2 * i], kept[2 * i + 1]
    if some:
        for i in range(n):
            if columns[0] == 0.0 or moved[i] == place:
                flat[2 * i] = kept[2 * i]
            if columns[1] == 0.0 or moved[i] == place:
                flat[2 * i + 1] = kept[2 * i + 1]


@kernel
def follow(levels, curve, times, out):  # type: ignore[no-untyped-def]
    """By how many dB a band of a curve and times moves for these levels, from rest; see `move`."""
    _follow(levels, curve, times, np.zeros(2), out)


def knots(sections: Sequence[Floats], span: float) -> Floats:
    """The table of `move`, ``(2, sections, FACTORS, knots)``, of a band's sections, ``(n, 6)`` each, at even distances.

    Every section is told as a state-variable filter, whose integrators are safe to move (Zavalishin, 'The art of VA
    filter design', 2012). The logarithms of its frequency, its damping and the shares of its high-, band- and low-pass
    are nearly straight lines between the given places, and parabolas through three neighbours all but are them; of those,
    what the filter reckons with is tabled every `STEP` dB of `span`, with the slope up to the next.
    """
    found = np.log(np.maximum(np.array([[_state_variable(row) for row in sos] for sos in sections]), 1e-12))
    at = np.linspace(0.0, len(found) - 1.0, max(2, math.ceil(span / STEP) + 1))
    middle = np.clip(np.round(at).astype(int), 1, len(found) - 2)
    t = (at - middle)[:, None, None]
    low, here, high = found[middle - 1], found[middle], found[middle + 1]
    g, damping, n2, n1, n0 = np.exp(here + t * (0.5 * (high - low) + t * (0.5 * (high + low) - here))).transpose(
        2, 1, 0
    )
    f = 1.0 / (1.0 + g * (g + damping))
    values = np.stack([f, g * f, g * g * f, n2, n1 - damping * n2, n0 - n2], axis=1)
    return np.ascontiguousarray(np.stack([values, np.diff(values, axis=-1, append=values[..., -1:])]))


def _state_variable(row: Floats) -> tuple[float, float, float, float, float]:
    """Frequency, damping and shares of a section ``b0 b1 b2 1 a1 a2``, by the inverse of the bilinear transform."""
    b0, b1, b2, _, a1, a2 = row
    low, high = 1.0 + a1 + a2, 1.0 - a1 + a2
    g = math.sqrt(max(low, 1e-30) / max(high, 1e-30))
    damping = 2.0 * (1.0 - a2) * g / low
    return g, damping, (b0 - b1 + b2) * g * g / low, 2.0 * (b0 - b2) * g / low, (b0 + b1 + b2) / low


class MovingBand:
    """A band that moves, with its past. At every moment it is the static band of the gain that it has then."""

    def __init__(
        self,
        columns: tuple[bool, bool],
        select: Floats,
        curve: Floats,
        times: Floats,
        table: Floats,
        *,
        rises: bool,
        neutral_at: float,
    ) -> None:
        """`select`: see `selector`. `table`: see `knots`, over the range of the curve. `neutral_at`: dB of movement at
        which the band does nothing; −1 where there is no such place."""
        self.columns = np.array(columns, dtype=np.float64)
        self.select, self.curve, self.times, self.table = pairs(select), curve, times, table
        self.rises, self.neutral_at = 1.0 if rises else -1.0, neutral_at
        self.memory, self.state = np.zeros(4), np.zeros(2)
        self.filters = np.zeros((table.shape[1], 4))
        self._work = np.zeros((4 + FACTORS * table.shape[1], TILE))

    def run(self, x: Audio, moved: Floats, heard: Audio | None = None) -> None:
        """Move the band of `x` (n, 2), in place, by the level of its range in `heard` (in `x` itself), and tell by how
        many dB in `moved` (n)."""
        move(
            x,
            x if heard is None else heard,
            self.columns,
            self.select,
            self.memory,
            self.curve,
            self.times,
            self.rises,
            self.state,
            self.table,
            max(self.curve[3], LEAST_MOVE),
            self.neutral_at,
            self.filters,
            self._work,
            moved,
        )

    def adopt(self, other: MovingBand) -> None:
        """Go on where `other` is, as far as it has the same sections."""
        np.copyto(self.memory, other.memory)
        np.copyto(self.state, other.state)
        if self.filters.shape == other.filters.shape:
            np.copyto(self.filters, other.filters)


class ShiftedBand:
    """A band whose movement is found elsewhere, with its past."""

    def __init__(self, table: Floats, span: float, neutral_at: float) -> None:
        """`table`: see `knots`, over `span` dB. `neutral_at`: dB of movement at which the band does nothing."""
        self._table, self._span, self._neutral_at = table, max(span, LEAST_MOVE), neutral_at
        self._filters = np.zeros((table.shape[1], 4))
        self._work = np.zeros((4 + FACTORS * table.shape[1], TILE))

    def run(self, x: Audio, moved: Floats, columns: Floats) -> None:
        """Move `x` (n, 2) in place by `moved` (n) dB; `columns`: which of the two are meant, 0 or 1 each."""
        shift(x, columns, moved, self._table, self._span, self._neutral_at, self._filters, self._work)

    def adopt(self, other: ShiftedBand) -> None:
        """Go on where `other` is, if it has as many sections."""
        if self._filters.shape == other._filters.shape:
            np.copyto(self._filters, other._filters)
