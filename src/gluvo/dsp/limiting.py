"""A gain that lets nothing pass a ceiling.

The reduction each sample needs is held over the look-ahead by a running maximum, released, then smoothed by
two moving averages that together are no longer than the hold: so the smoothed reduction is nowhere less than
what is needed (look-ahead limiting after P. Hämäläinen, 'Smoothing of the control signal without clipped output
in digital peak limiters', DAFx-02).
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.compression import DB
from gluvo.dsp.kernel import Audio, Floats, kernel

# Averages run on whole numbers of 2^-30 dB, rounded up: integer sums never drift, so that a gain which should be
# 1 is exactly 1, and any split into blocks gives the same result.
UNIT = float(2**30)


@kernel
def limit_block(  # type: ignore[no-untyped-def]
    x,
    peaks,
    ring,
    held,
    order,
    first_ring,
    second_ring,
    places,
    sums,
    env,
    lengths,
    curve,
    times,
    out,
    reduction,
):
    """Limit `x` (n, 2) into `out`, given `peaks` (n, 2), both of the same moment; writes `reduction` (n,) in dB.

    `lengths`: delay of the audio, hold, first and second average, in frames. `curve`: ceiling in dB, knee in dB,
    link 0–1. `times`: coefficients of release, slow charge, slow discharge, and the auto-release amount.
    `places`: write index of the audio ring and of both averages, then each column's head and tail in `order`,
    then the frame count.
    """
    delay, hold, first, second = lengths[0], lengths[1], lengths[2], lengths[3]
    ceiling, knee, link = curve[0], curve[1], curve[2]
    release, charge, discharge, auto = times[0], times[1], times[2], times[3]
    columns = 1 if link >= 1.0 else 2
    start = 10.0 ** ((ceiling - 0.5 * knee) / 20.0)
    size, wrap = ring.shape[0], held.shape[1] - 1  # the latter is a power of two less one
    scale = 1.0 / (UNIT * first * second)
    w, w1, w2, clock = places[0], places[1], places[2], places[7]
    for i in range(x.shape[0]):
        left = _needed(peaks[i, 0], start, ceiling, knee)
        right = _needed(peaks[i, 1], start, ceiling, knee)
        top = max(left, right)
        ring[w, 0] = x[i, 0]
        ring[w, 1] = x[i, 1]
        r = w - delay
        if r < 0:
            r += size
        worst = 0.0
        for c in range(columns):
            own = right if c else left
            want = top if columns == 1 else own + link * (top - own)
            # running maximum: `order` keeps, oldest first, the frames that may still become the largest
            head, tail = places[3 + 2 * c], places[4 + 2 * c]
            while tail > head and held[c, (tail - 1) & wrap] <= want:
                tail -= 1
            held[c, tail & wrap] = want
            order[c, tail & wrap] = clock
            tail += 1
            if order[c, head & wrap] <= clock - hold:
                head += 1
            places[3 + 2 * c], places[4 + 2 * c] = head, tail
            most = held[c, head & wrap]

            quick = max(most, most + (env[c, 0] - most) * release)
            slow = most + (env[c, 1] - most) * (charge if most > env[c, 1] else discharge)
            env[c, 0] = quick if quick > 1e-8 else 0.0
            env[c, 1] = slow if slow > 1e-8 else 0.0
            units = np.int64(math.ceil(max(env[c, 0], auto * env[c, 1]) * UNIT))

            sums[c, 0] += units - first_ring[c, w1]
            first_ring[c, w1] = units
            sums[c, 1] += sums[c, 0] - second_ring[c, w2]
            second_ring[c, w2] = sums[c, 0]
            smooth = sums[c, 1] * scale
            g = math.exp(-smooth / DB) if smooth > 0.0 else 1.0
            worst = max(worst, smooth)
            if columns == 1:
                out[i, 0] = ring[r, 0] * g
                out[i, 1] = ring[r, 1] * g
            else:
                out[i, c] = ring[r, c] * g
        reduction[i] = worst
        clock += 1
        w = w + 1 if w + 1 < size else 0
        w1 = w1 + 1 if w1 + 1 < first else 0
        w2 = w2 + 1 if w2 + 1 < second else 0
    places[0], places[1], places[2], places[7] = w, w1, w2, clock


@kernel
def _needed(peak, start, ceiling, knee):  # type: ignore[no-untyped-def]
    """Reduction in dB for a peak: a quadratic knee that lies nowhere under the hard line."""
    if peak <= start:
        return 0.0
    over = DB * math.log(peak) - ceiling
    if 2.0 * over < knee:
        over = (over + 0.5 * knee) ** 2 / (2.0 * knee)
    return over


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
    ) -> None:
        """Lengths in frames, levels in dB, `link` 0–1, `times` as in `limit_block`.

        `extra_hold` keeps the reduction up that much longer, for what an interpolation filter spreads.
        `longest` look-ahead sizes the rings, so that holders with other look-aheads can take over.
        """
        second = max(1, smoothing // 2)
        first = max(1, smoothing + 1 - second)
        self.latency = lookahead
        self.lengths = np.array([lookahead, lookahead + 2 + extra_hold, first, second], dtype=np.int64)
        self.curve = np.array([ceiling, knee, link])
        self.times = np.array(times)
        room = longest + extra_hold + 4
        self.ring = np.zeros((room, 2))
        power = 1 << room.bit_length()
        self.held = np.zeros((2, power))
        self.order = np.zeros((2, power), dtype=np.int64)
        self.first_ring = np.zeros((2, first), dtype=np.int64)
        self.second_ring = np.zeros((2, second), dtype=np.int64)
        self.places = np.zeros(8, dtype=np.int64)
        self.sums = np.zeros((2, 2), dtype=np.int64)
        self.env = np.zeros((2, 2))

    def run(self, x: Audio, peaks: Floats, out: Audio, reduction: Floats) -> None:
        limit_block(
            x, peaks, self.ring, self.held, self.order, self.first_ring, self.second_ring, self.places,
            self.sums, self.env, self.lengths, self.curve, self.times, out, reduction,
        )  # fmt: skip

    def adopt(self, other: CeilingHolder) -> None:
        """Go on where `other` is. Averages of another length start full of its present reduction."""
        for name in ("ring", "held", "order", "places", "env"):
            np.copyto(getattr(self, name), getattr(other, name))
        if np.array_equal(self.lengths[2:], other.lengths[2:]):
            for name in ("first_ring", "second_ring", "sums"):
                np.copyto(getattr(self, name), getattr(other, name))
            return
        first, second = int(self.lengths[2]), int(self.lengths[3])
        self.places[1:3] = 0
        for c in range(2):
            units = int(other.sums[c, 1]) // int(other.lengths[2] * other.lengths[3])
            self.first_ring[c] = units
            self.second_ring[c] = units * first
            self.sums[c] = units * first, units * first * second
