"""Bells and shelves whose gain moves with the level in their own range."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from gluvo.dsp.compression import QUIETEST, Curve, wanted_reductions
from gluvo.dsp.kernel import Audio, Floats, Records, kernel, record
from gluvo.dsp.logarithms import to_db
from gluvo.dsp.vectors import fma2, fma8, load2, load8, mul2, splat2, splat8, store2, store8

FACTORS = 8
"""That a state-variable filter reckons with: of its two integrators five, of its output three."""
LEAST_MOVE = 1e-6
"""dB that a table spans at least, however little its band may move."""
STEP = 1.0 / 16.0
"""dB between the places of the table, in which its curves are straight to a hundred thousandth."""
TILE = 256
"""Frames that are worked on at a time, so that what is reckoned for each stays near."""


class MoveTimes(NamedTuple):
    """The coefficients with which a band moves and comes back, see `compression.pole`."""

    attack: float
    release: float


STILL = record(MoveTimes(0.0, 0.0))
"""For a band whose movement is found elsewhere."""


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


def listener(section: Floats) -> Floats:
    """What `move` reads a level with, (5), of a section ``(1, 6)``: see `selector`."""
    b0, b1, b2, _, a1, a2 = section[0]
    return np.array([b0, b1 - a1 * b0, b2 - a2 * b0, -a1, -a2])


@kernel
def move(
    x: Audio,
    heard: Audio,
    columns: Floats,
    select: Floats,
    memory: Floats,
    curve: Records,
    times: Records,
    rises: float,
    state: Floats,
    table: Floats,
    span: float,
    place: float,
    filters: Floats,
    work: Audio,
    moved: Floats,
) -> None:
    """Move a band of `x` (frames, 2), in place, and tell by how many dB in `moved` (frames).

    `heard` (frames, 2), which may be `x`, is what its level is read from. `columns`: which of the two columns it
    works on; the louder of them decides for both. `select` is the filter of its range, see `_listen`, and `memory` (6) its
    past. `state` holds the two stages of the ballistics
    (Giannoulis, Massberg, Reiss, 2012). `rises` is 1 to raise and −1 to lower. `table` (sections, knots,
    2 × `FACTORS`) holds what the band's sections are over `span` dB, see `knots`; `place` is where its static gain of 0 dB
    lies, in dB of movement, or −1. `filters` (sections, 4) is their past. `work` is written over.
    """
    for start in range(-TILE, x.shape[0], TILE):  # the next tile is listened to and followed while this one is filtered
        now, later = slice(max(0, start), max(0, start + TILE)), slice(start + TILE, start + 2 * TILE)
        want = moved[later]
        if want.shape[0]:
            _listen(heard[later], columns, select, memory, work)
            wanted_reductions(work[1, : want.shape[0]], curve, want)
        _filter(x[now], columns, moved[now], table, span, place, filters, want, times, state, work)
        for i in range(now.start, min(now.stop, x.shape[0])):
            moved[i] *= rises
    _settle(memory)
    _settle(filters.reshape(-1))
    for k in range(2):
        state[k] = state[k] if state[k] > 1e-12 else 0.0


@kernel
def shift(
    x: Audio,
    columns: Floats,
    moved: Floats,
    table: Floats,
    span: float,
    place: float,
    filters: Floats,
    work: Audio,
    still: Records,
) -> None:
    """As `move`, by what others have found: `moved` (frames), dB. `still`: see `STILL`."""
    nothing = work[4 + FACTORS, :2]
    for start in range(0, x.shape[0], TILE):
        now = slice(start, start + TILE)
        _filter(x[now], columns, moved[now], table, span, place, filters, nothing[:0], still, nothing, work)
    _settle(filters.reshape(-1))


@kernel
def _settle(past: Floats) -> None:
    """Clear what has decayed to nothing, since denormal numbers are slow."""
    for k in range(past.shape[0]):
        if abs(past[k]) < 1e-30:
            past[k] = 0.0


@kernel
def _listen(x: Audio, columns: Floats, select: Floats, memory: Floats, work: Audio) -> None:
    """The level of the range alone in dBFS into ``work[1]``.

    `select`: see `listener`. Its recursion is that of `filters.run_sections` with the second state written out, so that
    each sample waits for one multiplication of the last; `memory` holds the last two first states and the last input.
    """
    n, flat, heard = x.shape[0], x.reshape(-1), work[2:4].reshape(-1)[: 2 * x.shape[0]]
    b0, c1, c2, a1, a2 = splat2(select[0]), splat2(select[1]), splat2(select[2]), splat2(select[3]), splat2(select[4])
    p, before, last = load2(memory, 0), load2(memory, 2), load2(memory, 4)
    for i in range(0, 2 * n, 2):
        u = load2(flat, i)
        store2(heard, i, fma2(b0, u, p))
        later = fma2(a1, p, fma2(a2, before, fma2(c1, u, mul2(c2, last))))
        before, p, last = p, later, u
    store2(memory, 0, p)
    store2(memory, 2, before)
    store2(memory, 4, last)
    left, right = columns[0], columns[1]
    top, level = work[0, :n], work[1, :n]
    for i in range(n):
        top[i] = max(max(abs(heard[2 * i]) * left, abs(heard[2 * i + 1]) * right), QUIETEST)
    to_db(top, level)


@kernel
def _filter(
    x: Audio,
    columns: Floats,
    moved: Floats,
    table: Floats,
    span: float,
    place: float,
    filters: Floats,
    want: Floats,
    times: Records,
    state: Floats,
    work: Audio,
) -> None:
    """The sections at work; where nothing has moved from a gain of 0 dB, or a column is not meant, nothing is changed.

    Meanwhile `want` is followed, see `_step`.
    """
    flat, n = x.reshape(-1), x.shape[0]
    index, share = work[0, :n].view(np.int64), work[1, :n]
    kept, factors = work[2:4].reshape(-1)[: 2 * n], work[4 : 4 + FACTORS].reshape(-1)
    last = table.shape[1] - 1
    scale, still = last / span, 0
    for i in range(n):
        at = moved[i] * scale
        k = min(np.int64(at), last - 1)
        index[i] = 2 * FACTORS * k
        share[i] = at - k
        still |= moved[i] == place
    some = still or columns[0] == 0.0 or columns[1] == 0.0
    if some:
        kept[:] = flat
    for s in range(table.shape[0]):
        row = table[s].reshape(-1)
        for i in range(n):
            values, slopes = load8(row, index[i]), load8(row, index[i] + FACTORS)
            store8(factors, FACTORS * i, fma8(splat8(share[i]), slopes, values))
        _step(flat, factors, filters[s], want if s == 0 else want[:0], times, state)
        if some and s + 1 < table.shape[0]:  # every section hears what would have come to it
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
def _step(x: Floats, factors: Floats, past: Floats, want: Floats, times: Records, state: Floats) -> None:
    """Filter `x` (flat) by a section's `factors`, and follow what a band should move by, in place, in `want`.

    Both wait for their own last sample; side by side they wait at the same time.
    """
    n, m = x.shape[0] // 2, want.shape[0]
    attack, release = times[0].attack, times[0].release
    rest, share = 1.0 - attack, 1.0 - release
    first, y = state[0], state[1]
    p, q = load2(past, 0), load2(past, 2)
    for i in range(max(n, m)):
        if i < m:
            first = max(want[i], release * first + share * want[i])
            y = min(first, attack * y + rest * first)  # the latter is the larger one where it falls
            want[i] = y
        if i < n:
            u, at = load2(x, 2 * i), FACTORS * i
            by_u = mul2(splat2(factors[at + 6]), u)
            out = fma2(splat2(factors[at + 5]), p, fma2(splat2(factors[at + 7]), q, by_u))
            by_q = fma2(splat2(factors[at + 1]), q, mul2(splat2(factors[at + 2]), u))
            by_p = fma2(splat2(factors[at + 2]), p, mul2(splat2(factors[at + 4]), u))
            p = fma2(splat2(factors[at]), p, by_q)
            q = fma2(splat2(factors[at + 3]), q, by_p)
            store2(x, 2 * i, out)
    state[0], state[1] = first, y
    store2(past, 0, p)
    store2(past, 2, q)


@kernel
def follow(levels: Floats, curve: Records, times: Records, out: Floats) -> None:
    """By how many dB a band of a curve and times moves for these levels, from rest; see `move`."""
    wanted_reductions(levels, curve, out)
    nothing = np.zeros(4)
    _step(nothing[:0], nothing, nothing, out, times, np.zeros(2))


def knots(sections: Sequence[Floats], span: float) -> Floats:
    """The table of `move`, ``(sections, knots, 2 × FACTORS)``, of a band's sections, ``(n, 6)`` each, at even distances.

    Every section is told as a state-variable filter, whose integrators are safe to move (Zavalishin, 'The art of VA
    filter design', 2012). The logarithms of its frequency, its damping and the shares of its high-, band- and low-pass
    are nearly straight lines between the given places, and parabolas through three neighbours all but are them; of those,
    what the filter reckons with is tabled every `STEP` dB of `span`, with the slopes up to the next behind it: by how
    much the first integrator follows itself, the second and the input, the second itself and the input (the first as
    the first the input), and the output the first, the input and the second.
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
    high, band, low = n2, n1 - damping * n2, n0 - n2
    by_first, by_second, by_input = band * f + low * g * f, band * g * f + low * g * g * f, high
    own, cross, into = 2.0 * f - 1.0, 2.0 * g * f, 2.0 * g * g * f
    values = np.stack(
        [own, -cross, cross, 1.0 - into, into, by_first, by_input + by_second, low - by_second], axis=-1
    )  # (sections, knots, factors)
    slopes = np.diff(values, axis=1, append=values[:, -1:])
    return np.ascontiguousarray(np.concatenate([values, slopes], axis=-1))


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
        curve: Curve,
        times: MoveTimes,
        table: Floats,
        *,
        rises: bool,
        neutral_at: float,
    ) -> None:
        """`select`: see `selector`. `table`: see `knots`, over the range of the curve. `neutral_at`: dB of movement at
        which the band does nothing; −1 where there is no such place."""
        self.columns = np.array(columns, dtype=np.float64)
        self.select, self.table = listener(select), table
        self.curve, self.times, self._span = record(curve), record(times), max(curve.most, LEAST_MOVE)
        self.rises, self.neutral_at = 1.0 if rises else -1.0, neutral_at
        self.memory, self.state = np.zeros(6), np.zeros(2)
        self.filters = np.zeros((len(table), 4))
        self._work = np.zeros((5 + FACTORS, TILE))

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
            self._span,
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
        self._filters = np.zeros((len(table), 4))
        self._work = np.zeros((5 + FACTORS, TILE))

    def run(self, x: Audio, moved: Floats, columns: Floats) -> None:
        """Move `x` (n, 2) in place by `moved` (n) dB; `columns`: which of the two are meant, 0 or 1 each."""
        shift(x, columns, moved, self._table, self._span, self._neutral_at, self._filters, self._work, STILL)

    def adopt(self, other: ShiftedBand) -> bool:
        """Go on where `other` is, if it has as many sections; whether it has."""
        if self._filters.shape == other._filters.shape:
            np.copyto(self._filters, other._filters)
        return self._filters.shape == other._filters.shape
