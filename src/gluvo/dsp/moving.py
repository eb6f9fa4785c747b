"""Bells and shelves whose gain moves with the level in their own range."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.compression import DB, QUIETEST, wanted_reduction
from gluvo.dsp.kernel import Floats, kernel

SMALLEST_MOVE = 1e-4
"""dB by which a band must have moved before its filter follows."""


def selector(shape: str, freq: float, q: float, rate: int) -> Floats:
    """``b0 b1 b2 a1 a2`` of the filter that takes out a band's own range, with unit gain and no phase at its middle.

    A band-pass for a bell, a first-order low- or high-pass for a shelf, by bilinear transform. Its level is what the
    band follows.
    """
    k = math.tan(math.pi * min(freq, 0.49 * rate) / rate)
    if shape == "bell":
        norm = 1.0 / (1.0 + k / q + k * k)
        return np.array([k / q * norm, 0.0, -k / q * norm, 2.0 * (k * k - 1.0) * norm, (1.0 - k / q + k * k) * norm])
    pole = (k - 1.0) / (k + 1.0)
    if shape == "low_shelf":
        return np.array([k / (k + 1.0), k / (k + 1.0), 0.0, pole, 0.0])
    return np.array([1.0 / (k + 1.0), -1.0 / (k + 1.0), 0.0, pole, 0.0])


@kernel
def move(x, columns, select, memory, curve, times, rises, state, table, span, place, now, filters, moved):  # type: ignore[no-untyped-def]
    """Move a band of `x` (frames, 2), in place, and tell by how many dB in `moved` (frames).

    `columns`: which of the two columns it works on; the louder of them decides for both. `select` is the filter of its
    range and `memory` (2 states, 2 columns) its past. `curve` and `times` are those of `Band`; `state` holds the two
    stages of the ballistics (Giannoulis, Massberg, Reiss, 2012). `rises` is 1 to raise and −1 to lower. `table` (knots,
    sections, 5) holds the logarithms of what the band's sections are at even distances over `span` dB, see `knots`;
    `place` is where its static gain of 0 dB lies, in dB of movement, or −1. `now` (1 + 6 sections) is what they are at
    present, `filters` (sections, 2 columns, 2 states) their past.
    """
    b0, b1, b2, a1, a2 = select[0], select[1], select[2], select[3], select[4]
    threshold, slope, knee, most = curve[0], curve[1], curve[2], curve[3]
    attack, release = times[0], times[1]
    first, y = state[0], state[1]
    l1, l2, r1, r2 = memory[0, 0], memory[1, 0], memory[0, 1], memory[1, 1]
    on_left, on_right = columns[0], columns[1]
    count, sections = table.shape[0], table.shape[1]
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        a, b = b0 * left + l1, b0 * right + r1
        l1, r1 = b1 * left - a1 * a + l2, b1 * right - a1 * b + r2
        l2, r2 = b2 * left - a2 * a, b2 * right - a2 * b
        level = DB * math.log(max(max(abs(a) * on_left, abs(b) * on_right), QUIETEST))
        want = wanted_reduction(level, threshold, slope, knee, most)
        first = max(want, want + (first - want) * release)
        y = first + (y - first) * attack if first > y else first
        moved[i] = rises * y
        if abs(y - now[0]) > SMALLEST_MOVE or (y == 0.0 and now[0] != 0.0) or now[0] < 0.0:
            now[0] = y
            at = y / span * (count - 1)
            k = min(max(1, int(at + 0.5)), count - 2)
            t = at - k
            for s in range(sections):
                for v in range(5):  # a parabola through three neighbours
                    low, middle, high = table[k - 1, s, v], table[k, s, v], table[k + 1, s, v]
                    now[1 + 6 * s + v] = math.exp(middle + t * (0.5 * (high - low) + t * (0.5 * (high + low) - middle)))
                g, damping = now[1 + 6 * s], now[2 + 6 * s]
                now[6 + 6 * s] = 1.0 / (1.0 + g * (g + damping))
        neutral = y == place
        for c in range(2):
            if columns[c] == 0.0:
                continue
            u = x[i, c]
            for s in range(sections):
                g, damping = now[1 + 6 * s], now[2 + 6 * s]
                n2, n1, n0, f = now[3 + 6 * s], now[4 + 6 * s], now[5 + 6 * s], now[6 + 6 * s]
                v3 = u - filters[s, c, 1]
                v1 = f * filters[s, c, 0] + g * f * v3
                v2 = filters[s, c, 1] + g * f * filters[s, c, 0] + g * g * f * v3
                filters[s, c, 0] = 2.0 * v1 - filters[s, c, 0]
                filters[s, c, 1] = 2.0 * v2 - filters[s, c, 1]
                if not neutral:
                    u = n2 * u + (n1 - damping * n2) * v1 + (n0 - n2) * v2
            x[i, c] = u
    state[0] = first if first > 1e-12 else 0.0
    state[1] = y if y > 1e-12 else 0.0
    memory[0, 0] = l1 if abs(l1) > 1e-30 else 0.0
    memory[1, 0] = l2 if abs(l2) > 1e-30 else 0.0
    memory[0, 1] = r1 if abs(r1) > 1e-30 else 0.0
    memory[1, 1] = r2 if abs(r2) > 1e-30 else 0.0
    for s in range(sections):
        for c in range(2):
            for n in range(2):
                if abs(filters[s, c, n]) < 1e-30:
                    filters[s, c, n] = 0.0


@kernel
def follow(levels, curve, times, out):  # type: ignore[no-untyped-def]
    """By how many dB a band of a curve and times moves for these levels, from rest; see `move`."""
    first, y = 0.0, 0.0
    for i in range(levels.shape[0]):
        want = wanted_reduction(levels[i], curve[0], curve[1], curve[2], curve[3])
        first = max(want, want + (first - want) * times[1])
        y = first + (y - first) * times[0] if first > y else first
        out[i] = y


def knots(sections: Sequence[Floats]) -> Floats:
    """The table of `move`, ``(knots, sections, 5)``: what a band's sections, ``(n, 6)`` each, are at even distances.

    Every section is told as a state-variable filter, whose integrators are safe to move (Zavalishin, 'The art of VA
    filter design', 2012): the logarithms of its frequency and damping and of the shares of its high-, band- and
    low-pass. Between the knots these are nearly straight lines.
    """
    return np.log(np.maximum(np.array([[_state_variable(row) for row in sos] for sos in sections]), 1e-12))


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
        self, columns: tuple[bool, bool], select: Floats, curve: Floats, times: Floats, table: Floats, *,
        rises: bool, neutral_at: float,
    ) -> None:  # fmt: skip
        """`table`: see `knots`, over the range of the curve. `neutral_at`: dB of movement at which the band does
        nothing; −1 where there is no such place."""
        self.columns = np.array(columns, dtype=np.float64)
        self.select, self.curve, self.times, self.table = select, curve, times, table
        self.rises, self.neutral_at = 1.0 if rises else -1.0, neutral_at
        self.memory, self.state = np.zeros((2, 2)), np.zeros(2)
        self.now = np.zeros(1 + 6 * table.shape[1])
        self.now[0] = -1.0
        self.filters = np.zeros((table.shape[1], 2, 2))

    def run(self, x: Floats, moved: Floats) -> None:
        move(
            x, self.columns, self.select, self.memory, self.curve, self.times, self.rises, self.state, self.table,
            self.curve[3], self.neutral_at, self.now, self.filters, moved,
        )  # fmt: skip

    def adopt(self, other: MovingBand) -> None:
        np.copyto(self.memory, other.memory)
        np.copyto(self.state, other.state)
        if self.filters.shape == other.filters.shape:
            np.copyto(self.filters, other.filters)
