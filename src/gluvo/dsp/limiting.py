"""A gain that lets nothing pass a ceiling.

The reduction each sample needs is held over the look-ahead by a running maximum, released, then smoothed by
two moving averages that together are no longer than the hold: so the smoothed reduction is nowhere less than
what is needed (look-ahead limiting after P. Hämäläinen, 'Smoothing of the control signal without clipped output
in digital peak limiters', DAFx-02).
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.compression import larger, largest
from gluvo.dsp.delay import Delay
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.logarithms import to_db, to_factors

# Averages run on whole numbers of 2^-30 dB, rounded up: integer sums never drift, so that a gain which should be
# 1 is exactly 1, and any split into blocks gives the same result.
UNIT = float(2**30)
STRETCH = 64
"""Frames that are looked over at a time for what passes the ceiling."""


@kernel
def reduce_block(peaks, frames, suffix, wanted, rings, places, state, env, lengths, curve, times, work, reduction):  # type: ignore[no-untyped-def]
    """The reduction in dB that `peaks` (2, frames or more) need, into as many rows of `reduction` as are linked apart.

    `lengths`: hold, first and second average, in frames. `curve`: ceiling in dB, knee in dB, link 0–1. `times`:
    coefficients of release, slow charge, slow discharge, and the auto-release amount. `places`: write index of both
    averages, and whether anything is held. `work` (frames or more) is written over; see `_smooth` for the others. Where
    nothing is needed and nothing is left to let go, there is nothing to do; the result says whether there was.
    """
    first, second = lengths[1], lengths[2]
    columns = 1 if curve[2] >= 1.0 else 2
    needed = _need(peaks, frames, curve, columns, work, reduction)
    if not needed and not places[2]:
        for c in range(columns):
            reduction[c, :frames] = 0.0
            state[c, 0] = (state[c, 0] + frames) % lengths[0]
        places[0], places[1] = (places[0] + frames) % first, (places[1] + frames) % second
        return False
    w1, w2, held = places[0], places[1], 0
    for c in range(columns):
        places[0], places[1] = w1, w2
        held |= _smooth(reduction[c, :frames], lengths, suffix[c], wanted[c], rings[c], places, state[c], env[c], times)
    places[2] = held
    return True


@kernel
def _smooth(want, lengths, suffix, wanted, rings, places, state, env, times):  # type: ignore[no-untyped-def]
    """Hold, release and average a column's wanted reduction, in place; whether any is left to let go.

    The running maximum goes by stretches of the hold's length (van Herk, Pattern Recognition Letters 13, 1992): `wanted`
    has what was wanted in the present one, `env[2]` the largest of it so far, `suffix` the largest from each place of the
    stretch before to its end. `state`: where in the stretch, and the sums of both averages, whose `rings` (2, longest)
    hold what will leave them. `env`: the quick and the slow release. All these go on side by side in one loop, since
    each waits for its own last result.
    """
    hold, first, second = lengths[0], lengths[1], lengths[2]
    release, charge, discharge, auto = times[0], times[1], times[2], times[3]
    leaving, later = rings[0], rings[1]
    w1, w2, at, s1, s2 = places[0], places[1], state[0], state[1], state[2]
    quick, slow, top = env[0], env[1], env[2]
    scale = 1.0 / (UNIT * first * second)
    for i in range(want.shape[0]):
        v = want[i]
        wanted[at] = v
        top = max(top, v)
        most = max(top, suffix[at + 1])
        at += 1
        if at == hold:
            largest = 0.0
            for k in range(hold - 1, -1, -1):
                largest = max(largest, wanted[k])
                suffix[k] = largest
            at, top = 0, 0.0
        quick = max(most, most + (quick - most) * release)
        quick = quick if quick > 1e-8 else 0.0
        slow = most + (slow - most) * (charge if most > slow else discharge)
        slow = slow if slow > 1e-8 else 0.0
        units = np.int64(math.ceil(max(quick, auto * slow) * UNIT))
        s1 += units - leaving[w1]
        leaving[w1] = units
        s2 += s1 - later[w2]
        later[w2] = s1
        want[i] = s2 * scale
        w1 = w1 + 1 if w1 + 1 < first else 0
        w2 = w2 + 1 if w2 + 1 < second else 0
    places[0], places[1], state[0], state[1], state[2] = w1, w2, at, s1, s2
    env[0], env[1], env[2] = quick, slow, top
    if quick > 0.0 or slow > 0.0 or s1 > 0 or s2 > 0 or top > 0.0 or suffix[0] > 0.0:
        return 1
    wanted[:] = 0.0  # what was wanted in the stretch before lies there still
    return 0


@kernel
def _need(peaks, frames, curve, columns, levels, out):  # type: ignore[no-untyped-def]
    """Reduction in dB for the peaks: a quadratic knee that lies nowhere under the hard line. Whether there is any."""
    ceiling, knee, link = curve[0], curve[1], curve[2]
    start = 10.0 ** ((ceiling - 0.5 * knee) / 20.0)
    half, inverse = 0.5 * knee, 0.5 / max(knee, 1e-30)
    if columns == 1:
        for i in range(frames):
            out[0, i] = max(peaks[0, i], peaks[1, i])
    else:
        for c in range(2):
            for i in range(frames):
                out[c, i] = peaks[c, i]
    some = False
    for c in range(columns):
        for at in range(0, frames, STRETCH):
            row = out[c, at : min(frames, at + STRETCH)]
            if largest(row, row.shape[0]) <= start:
                row[:] = 0.0
                continue
            some = True
            for i in range(row.shape[0]):
                row[i] = max(row[i], start)
            level = levels[: row.shape[0]]
            to_db(row, level)
            for i in range(row.shape[0]):
                over = level[i] - ceiling
                inside = over + half
                soft = inside * inside * inverse if 2.0 * over < knee else over
                row[i] = soft if row[i] > start else 0.0
    if columns == 2 and some:
        for i in range(frames):
            left, right = out[0, i], out[1, i]
            top = max(left, right)
            out[0, i] = left + link * (top - left)
            out[1, i] = right + link * (top - right)
    return some


@kernel
def reduce(x, reduction, columns, factors, out):  # type: ignore[no-untyped-def]
    """Scale left and right of `x` by their rows of `reduction` in dB, or both by the first one, into `out` (may be `x`).

    `factors` (2, frames or more) is written over.
    """
    n, last = x.shape[0], columns - 1
    for c in range(columns):
        to_factors(reduction[c, :n], factors[c, :n])
    left, right = factors[0, :n], factors[last, :n]
    for i in range(n):
        out[i, 0] = x[i, 0] * left[i]
        out[i, 1] = x[i, 1] * right[i]


@kernel
def magnitudes(x, out):  # type: ignore[no-untyped-def]
    """``|x|`` of both columns of `x` (frames, 2) into the rows of `out`."""
    for i in range(x.shape[0]):
        out[0, i] = abs(x[i, 0])
        out[1, i] = abs(x[i, 1])


class CeilingHolder:
    """Keeps peaks under a ceiling; late by the look-ahead."""

    def __init__(
        self,
        *,
        lookahead: int,
        smoothing: int,
        ceiling: float,
        knee: float,
        link: float,
        times: tuple[float, float, float, float],
        extra_hold: int = 0,
        longest: int,
        longest_block: int,
    ) -> None:
        """Lengths in frames, levels in dB, `link` 0–1, `times` as in `reduce_block`.

        `extra_hold` keeps the reduction up that much longer, for what an interpolation filter spreads.
        `longest` look-ahead sizes the rings, so that holders with other look-aheads can take over.
        """
        second = max(1, smoothing // 2)
        first = max(1, smoothing + 1 - second)
        self.latency = lookahead
        self.lengths = np.array([lookahead + 2 + extra_hold, first, second], dtype=np.int64)
        self.curve = np.array([ceiling, knee, link])
        self.times = np.array(times)
        self.columns = 1 if link >= 1.0 else 2
        room = longest + extra_hold + 4
        hold = int(self.lengths[0])
        self.suffix, self.wanted = np.zeros((2, hold + 1)), np.zeros((2, hold))
        self.rings = np.zeros((2, 2, max(first, second)), dtype=np.int64)
        self.places = np.zeros(3, dtype=np.int64)
        self.state = np.zeros((2, 3), dtype=np.int64)
        self.env = np.zeros((2, 3))
        self._late = Delay(lookahead, room)
        self._taken, self._factors = np.zeros((2, longest_block)), np.zeros((2, longest_block))
        self._work = np.zeros(longest_block)

    def run(self, x: Audio, peaks: Floats, out: Audio, reduction: Floats) -> None:
        """Limit `x` (n, 2) into `out`, which may be `x`, given `peaks` (2, n or more), both of the same moment.

        Writes the reduction of the more reduced channel in dB into the first n of `reduction`.
        """
        n = len(x)
        self._late.run(x, out)
        if reduce_block(
            peaks,
            n,
            self.suffix,
            self.wanted,
            self.rings,
            self.places,
            self.state,
            self.env,
            self.lengths,
            self.curve,
            self.times,
            self._work,
            self._taken,
        ):
            reduce(out, self._taken, self.columns, self._factors, out)
            larger(self._taken[: self.columns], n, reduction)
        else:
            reduction[:n] = 0.0

    def adopt(self, other: CeilingHolder) -> None:
        """Go on where `other` is. A hold of another length holds all that `other` holds for as long as it may; averages of
        another length start full of its present reduction."""
        self._late.adopt(other._late)
        np.copyto(self.env, other.env)
        np.copyto(self.places, other.places)
        self.places[2] = 1  # whether anything is held is looked at again
        if self.wanted.shape == other.wanted.shape:
            np.copyto(self.suffix, other.suffix)
            np.copyto(self.wanted, other.wanted)
            np.copyto(self.state, other.state)
        else:
            self.suffix[:, :-1] = np.maximum(other.suffix.max(axis=1), other.env[:, 2])[:, None]
            self.env[:, 2] = 0.0
            self.state[:] = other.state
            self.state[:, 0] = 0
        if np.array_equal(self.lengths[1:], other.lengths[1:]):
            np.copyto(self.rings, other.rings)
            return
        first, second = int(self.lengths[1]), int(self.lengths[2])
        self.places[:2] = 0
        for c in range(2):
            units = int(other.state[c, 2]) // int(other.lengths[1] * other.lengths[2])
            self.rings[c, 0], self.rings[c, 1] = units, units * first
            self.state[c, 1:] = units * first, units * first * second
