"""Bells and shelves whose gain moves with the level in their own range."""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.compression import DB, QUIETEST, wanted_reduction
from gluvo.dsp.kernel import Floats, kernel


def selector(shape: str, freq: float, q: float, rate: int) -> Floats:
    """``b0 b1 b2 a1 a2`` of the filter that takes out a band's own range, with unit gain and no phase at its middle.

    A band-pass for a bell, a first-order low- or high-pass for a shelf, by bilinear transform: half the difference of
    the signal and an all-pass (Regalia and Mitra, 'Tunable digital frequency response equalization filters', IEEE
    Trans. ASSP 35, 1987). The signal plus ``k`` times that has gain ``1 + k`` there, whatever ``k`` does.
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
def move(x, columns, select, memory, curve, times, rises, state, moved):  # type: ignore[no-untyped-def]
    """Move a band of `x` (frames, 2), in place, and tell by how many dB in `moved` (frames).

    `columns`: which of the two columns it works on; the louder of them decides for both. `select` is the filter of its
    range and `memory` (2 states, 2 columns) its past. `curve` and `times` are those of `Band`; `state` holds the two
    stages of the ballistics (Giannoulis, Massberg, Reiss, 2012). `rises` is 1 to raise and −1 to lower.
    """
    b0, b1, b2, a1, a2 = select[0], select[1], select[2], select[3], select[4]
    threshold, slope, knee, most = curve[0], curve[1], curve[2], curve[3]
    attack, release = times[0], times[1]
    first, y = state[0], state[1]
    l1, l2, r1, r2 = memory[0, 0], memory[1, 0], memory[0, 1], memory[1, 1]
    on_left, on_right = columns[0], columns[1]
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
        if y > 0.0:
            k = math.exp(rises * y / DB) - 1.0
            x[i, 0] = left + on_left * k * a
            x[i, 1] = right + on_right * k * b
    state[0] = first if first > 1e-12 else 0.0
    state[1] = y if y > 1e-12 else 0.0
    memory[0, 0] = l1 if abs(l1) > 1e-30 else 0.0
    memory[1, 0] = l2 if abs(l2) > 1e-30 else 0.0
    memory[0, 1] = r1 if abs(r1) > 1e-30 else 0.0
    memory[1, 1] = r2 if abs(r2) > 1e-30 else 0.0


class MovingBand:
    """A band that moves, with its past."""

    def __init__(
        self, columns: tuple[bool, bool], select: Floats, curve: Floats, times: Floats, *, rises: bool
    ) -> None:
        self.columns = np.array(columns, dtype=np.float64)
        self.select, self.curve, self.times = select, curve, times
        self.rises = 1.0 if rises else -1.0
        self.memory, self.state = np.zeros((2, 2)), np.zeros(2)

    def run(self, x: Floats, moved: Floats) -> None:
        move(x, self.columns, self.select, self.memory, self.curve, self.times, self.rises, self.state, moved)

    def adopt(self, other: MovingBand) -> None:
        np.copyto(self.memory, other.memory)
        np.copyto(self.state, other.state)
