"""A gain that lets nothing pass a ceiling.

The reduction each sample needs is held over the look-ahead by a running maximum, released, then smoothed by
two moving averages that together are no longer than the hold: so the smoothed reduction is nowhere less than
what is needed (look-ahead limiting after P. Hämäläinen, 'Smoothing of the control signal without clipped output
in digital peak limiters', DAFx-02).

Beside the release there is a second, slow one for what is sustained: what is needed again within a window that is
longer than a wave of the lowest notes. The most of the newest window and the most of the one before it are both there
while a note sounds, and the smaller of the two stands still however the wave moves; after a single peak one of them is
nothing. So the gain does not follow the waves of a bass, and a single peak is let go as fast as the release says.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from gluvo.dsp.compression import larger, pole
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.interpolation import HALF, PeakReader
from gluvo.dsp.kernel import Audio, Bools, Floats, Ints, Records, kernel, record
from gluvo.dsp.logarithms import to_db, to_factors
from gluvo.dsp.simd_max import largest

# Averages run on whole numbers of 2^-30 dB, rounded up: integer sums never drift, so that a gain which should be
# 1 is exactly 1, and any split into blocks gives the same result.
UNIT = float(2**30)
LEAST = 1e-8
"""dB of reduction; less is none."""
STRETCH = 64
"""Frames that are looked over at a time for what passes the ceiling."""
HOPS_A_SECOND = 4000
"""How often is looked at what is sustained."""
APART = 0.008
"""Seconds that both windows are apart, beside the hold: a peak that is no wider is not sustained."""


class Lengths(NamedTuple):
    """Frames."""

    hold: int
    first: int
    """Of the first moving average."""
    second: int
    hop: int


class Ceiling(NamedTuple):
    """What must not be passed."""

    level: float
    """dBFS"""
    knee: float
    """dB"""
    link: float
    """0–1; at 1 both channels are reduced alike."""


class ReleaseTimes(NamedTuple):
    """Coefficients, see `compression.pole`."""

    release: float
    charge: float
    """Of the slow release."""
    discharge: float


COLUMN = np.dtype(
    [
        ("at", np.int64),  # in the stretch that is held
        ("top", np.float64),  # the largest of that stretch so far
        ("first_at", np.int64),  # in what will leave the first average, and the second
        ("second_at", np.int64),
        ("first_sum", np.int64),
        ("second_sum", np.int64),
        ("quick", np.float64),  # the quick and the slow release
        ("slow", np.float64),
        ("inside", np.int64),  # where in the hop
        ("hop_peak", np.float64),
        ("hops_at", np.int64),  # in `hops`, and the largest of its stretch so far
        ("hops_top", np.float64),
        ("heights_at", np.int64),
        ("sustained", np.float64),
        ("quiet", np.int64),  # for how many hops nothing has been wanted
    ]
)
"""Where a column's hold, averages and releases stand; levels in dB of reduction."""


@kernel
def reduce_block(
    peaks: Floats,
    frames: int,
    suffix: Floats,
    wanted: Floats,
    rings: Ints,
    state: Records,
    holds: Bools,
    hops: Floats,
    heights: Floats,
    lengths: Records,
    ceiling: Records,
    times: Records,
    work: Floats,
    reduction: Floats,
) -> bool:
    """The reduction in dB that `peaks` (2, frames or more) need, into as many rows of `reduction` as are linked apart.

    `lengths`, `ceiling` and `times` are `Lengths`, `Ceiling` and `ReleaseTimes` as records. `state` (2): see `COLUMN`.
    `holds` (1): whether anything is held. `work` (frames or more) is written over; see where they are used for the others.
    Where nothing is needed and nothing is left to let go, there is nothing to do; the result says whether there was.
    """
    columns = 1 if ceiling[0].link >= 1.0 else 2
    needed = _need(peaks, frames, ceiling, columns, work, reduction)
    if not needed and not holds[0]:
        for c in range(columns):
            reduction[c, :frames] = 0.0
            state[c].at = (state[c].at + frames) % lengths[0].hold
            state[c].inside = (state[c].inside + frames) % lengths[0].hop
            state[c].first_at = (state[c].first_at + frames) % lengths[0].first
            state[c].second_at = (state[c].second_at + frames) % lengths[0].second
        return False
    held = False
    for c in range(columns):
        taken = reduction[c, :frames]
        held |= _smooth(taken, lengths, suffix[c], wanted[c], rings[c], state[c : c + 1], hops[c], heights[c], times)
    holds[0] = held
    return True


@kernel
def _smooth(
    want: Floats,
    lengths: Records,
    suffix: Floats,
    wanted: Floats,
    rings: Ints,
    state: Records,
    hops: Floats,
    heights: Floats,
    times: Records,
) -> bool:
    """Hold, release and average a column's wanted reduction, in place; whether any is left to let go."""
    _hold(want, lengths[0].hold, suffix, wanted, state)
    _release(want, lengths[0].hop, state, hops, heights, times)
    _average(want, lengths[0].first, lengths[0].second, rings, state)
    s = state[0]
    if s.quick > 0.0 or s.slow > 0.0 or s.first_sum > 0 or s.second_sum > 0 or s.top > 0.0 or suffix[0] > 0.0:
        return True
    # the windows may still hold something
    if hops.shape[0] > 0 and (s.hop_peak > 0.0 or s.quiet <= hops.shape[0] + heights.shape[0]):
        return True
    wanted[:] = 0.0  # what was wanted in the stretch before lies there still
    return False


@kernel
def _hold(want: Floats, hold: int, suffix: Floats, wanted: Floats, state: Records) -> None:
    """The largest of the last `hold` frames, in place.

    It goes by stretches of that length (van Herk, Pattern Recognition Letters 13, 1992): `wanted` has what was wanted in the
    present one, `suffix` the largest from each place of the stretch before to its end.
    """
    at, top, i = state[0].at, state[0].top, 0
    while i < want.shape[0]:
        n = min(want.shape[0] - i, hold - at)
        part, kept, before = want[i : i + n], wanted[at : at + n], suffix[at + 1 : at + 1 + n]
        for k in range(n):
            v = part[k]
            kept[k] = v
            top = max(top, v)
            part[k] = max(top, before[k])
        i += n
        at += n
        if at == hold:
            _suffixes(wanted, suffix)
            at, top = 0, 0.0
    state[0].at = at
    state[0].top = top


@kernel
def _suffixes(values: Floats, out: Floats) -> None:
    """The largest from each place to the end."""
    largest = 0.0
    for k in range(values.shape[0] - 1, -1, -1):
        largest = max(largest, values[k])
        out[k] = largest


@kernel
def _release(most: Floats, hop: int, state: Records, hops: Floats, heights: Floats, times: Records) -> None:
    """The larger of the quick and the slow release of `most`, in place; see `_sustained` for `hops` and `heights`."""
    release, charge, discharge = times[0].release, times[0].charge, times[0].discharge
    lets_go = 1.0 - release
    quick, slow, peak, sustained = state[0].quick, state[0].slow, state[0].hop_peak, state[0].sustained
    inside, quiet, looked, i = state[0].inside, state[0].quiet, hops.shape[0] > 0, 0
    while i < most.shape[0]:
        # what is sustained stands still until a hop ends, so that the slow release only nears it meanwhile
        ends = looked and most.shape[0] - i >= hop - inside
        n = hop - inside if ends else most.shape[0] - i
        part = most[i : i + n]
        own = charge if sustained > slow else discharge
        share = (1.0 - own) * sustained
        for k in range(n):
            v = part[k]
            peak = max(peak, v)
            if ends and k == n - 1:
                sustained = _sustained(peak, hops, heights, state)
                slow = slow if slow > LEAST else 0.0
                quiet = 0 if peak > 0.0 else quiet + 1
                own = charge if sustained > slow else discharge
                share = (1.0 - own) * sustained
            quick = max(v, release * quick + lets_go * v)
            slow = own * slow + share
            part[k] = max(quick, slow)
        i += n
        inside += n
        if ends:
            inside, peak = 0, 0.0
    quick = quick if quick > LEAST else 0.0
    state[0].quick = quick
    state[0].slow = slow
    state[0].hop_peak = peak
    state[0].sustained = sustained
    state[0].inside = inside if looked else 0
    state[0].quiet = quiet


@kernel
def _average(want: Floats, first: int, second: int, rings: Ints, state: Records) -> None:
    """Two moving averages, in place. `rings` (2, longest) hold what will leave them."""
    units = want.view(np.int64)
    for i in range(want.shape[0]):
        units[i] = np.int64(math.ceil(want[i] * UNIT)) if want[i] > LEAST else 0
    leaving, later = rings[0], rings[1]
    w1, w2, s1, s2 = state[0].first_at, state[0].second_at, state[0].first_sum, state[0].second_sum
    scale = 1.0 / (UNIT * first * second)
    for i in range(want.shape[0]):
        unit = units[i]
        s1 += unit - leaving[w1]
        leaving[w1] = unit
        s2 += s1 - later[w2]
        later[w2] = s1
        want[i] = s2 * scale
        w1 = w1 + 1 if w1 + 1 < first else 0
        w2 = w2 + 1 if w2 + 1 < second else 0
    state[0].first_at = w1
    state[0].second_at = w2
    state[0].first_sum = s1
    state[0].second_sum = s2


@kernel
def _sustained(peak: float, hops: Floats, heights: Floats, state: Records) -> float:
    """What was wanted both in the window that ends with this hop's `peak` and in the one before it.

    A window's most goes by stretches as in `_hold`: the first half of `hops` has the peaks of the present stretch, the second
    the largest from each place of the stretch before to its end. `heights` holds the windows' maxima for as long as both
    windows are apart.
    """
    window, at, late = hops.shape[0] // 2, state[0].hops_at, state[0].heights_at
    hops[at] = peak
    top = max(state[0].hops_top, peak)
    at += 1
    height = top
    if at < window:
        height = max(top, hops[window + at])
    else:
        _suffixes(hops[:window], hops[window:])
        at, top = 0, 0.0
    state[0].hops_top = top
    before = heights[late]
    heights[late] = height
    state[0].hops_at = at
    state[0].heights_at = late + 1 if late + 1 < heights.shape[0] else 0
    return min(height, before)


@kernel
def _need(peaks: Floats, frames: int, held: Records, columns: int, levels: Floats, out: Audio) -> bool:
    """Reduction in dB for the peaks: a quadratic knee that lies nowhere under the hard line. Whether there is any."""
    ceiling, knee, link = held[0].level, held[0].knee, held[0].link
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
            if largest(row) <= start:
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
def reduce(x: Audio, reduction: Floats, columns: int, factors: Floats, out: Audio) -> None:
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
def magnitudes(x: Audio, out: Audio) -> None:
    """``|x|`` of both columns of `x` (frames, 2) into the rows of `out`."""
    for i in range(x.shape[0]):
        out[0, i] = abs(x[i, 0])
        out[1, i] = abs(x[i, 1])


class LookAheadLimiter:
    """Keeps peaks under a ceiling; late by the look-ahead."""

    def __init__(
        self,
        *,
        lookahead: int,
        smoothing: int,
        ceiling: float,
        knee: float,
        link: float,
        times: ReleaseTimes,
        sustained: float = 0.0,
        rate: int = 48_000,
        extra_hold: int = 0,
        longest_block: int,
    ) -> None:
        """Lengths in frames, levels in dB, `link` 0–1.

        `sustained` is the window in seconds for the slow release; shorter than a hop, there is none.
        `extra_hold` keeps the reduction up that much longer, for what an interpolation filter spreads.
        """
        second = max(1, smoothing // 2)
        first = max(1, smoothing + 1 - second)
        self.latency = lookahead
        hop = max(1, round(rate / HOPS_A_SECOND))
        self.lengths = Lengths(lookahead + 2 + extra_hold, first, second, hop)
        self.ceiling = record(Ceiling(ceiling, knee, link))
        self._lengths, self._times = record(self.lengths), record(times)
        self.columns = 1 if link >= 1.0 else 2
        hold = self.lengths.hold
        self.suffix, self.wanted = np.zeros((2, hold + 1)), np.zeros((2, hold))
        self.rings = np.zeros((2, 2, max(first, second)), dtype=np.int64)
        self.state, self.holds = np.zeros(2, COLUMN), np.zeros(1, dtype=np.bool_)
        window = int(sustained * rate / hop)
        self.hops = np.zeros((2, 2 * window))
        self.heights = np.zeros((2, window + math.ceil((hold + APART * rate) / hop) if window else 0))
        self._late = Delay(lookahead)
        self._taken, self._factors = np.zeros((2, longest_block)), np.zeros((2, longest_block))
        self._work = np.zeros(longest_block)
        self._takes = False
        """Whether anything was taken from the last block."""

    def begin(self, place: int) -> None:
        """Hops begin where the song's time is a multiple of them; what comes next is at `place` in it."""
        self.state["inside"] = place % self.lengths.hop

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
            self.state,
            self.holds,
            self.hops,
            self.heights,
            self._lengths,
            self.ceiling,
            self._times,
            self._work,
            self._taken,
        ):
            reduce(out, self._taken, self.columns, self._factors, out)
            larger(self._taken[: self.columns], n, reduction)
            self._takes = True
        else:
            reduction[:n] = 0.0
            self._takes = False

    def take(self, x: Audio) -> None:
        """Take from `x` (n, 2), in place, what was taken from the last block; it must be as late as that was."""
        if self._takes:
            reduce(x, self._taken, self.columns, self._factors, x)

    def adopt(self, other: LookAheadLimiter) -> None:
        """Go on where `other` is, but for the place in the hop. A hold of another length holds all that `other` holds for as
        long as it may; averages of another length start full of its present reduction."""
        self._late.adopt(other._late)
        own, their = self.state, other.state
        for name in (
            "first_at",
            "second_at",
            "first_sum",
            "second_sum",
            "quick",
            "slow",
            "hop_peak",
            "hops_top",
            "sustained",
        ):
            own[name] = their[name]
        self.holds[0] = True  # whether anything is held is looked at again
        if self.wanted.shape == other.wanted.shape:
            np.copyto(self.suffix, other.suffix)
            np.copyto(self.wanted, other.wanted)
            own["at"], own["top"] = their["at"], their["top"]
        else:
            self.suffix[:, :-1] = np.maximum(other.suffix.max(axis=1), their["top"])[:, None]
            own["top"] = 0.0
        if self.hops.shape == other.hops.shape and self.heights.shape == other.heights.shape:
            np.copyto(self.hops, other.hops)
            np.copyto(self.heights, other.heights)
            for name in ("hops_at", "heights_at", "quiet"):
                own[name] = their[name]
        elif self.hops.size:  # as though it had been sustained for as long as is looked at
            self.hops[:] = self.heights[:] = their["sustained"][:, None]
        if self.lengths[1:] == other.lengths[1:]:
            np.copyto(self.rings, other.rings)
            return
        _, first, second, _ = self.lengths
        own["first_at"] = own["second_at"] = 0
        for c in range(2):
            units = int(their[c]["second_sum"]) // (other.lengths.first * other.lengths.second)
            self.rings[c, 0], self.rings[c, 1] = units, units * first
            own[c]["first_sum"], own[c]["second_sum"] = units * first, units * first * second


class Mender:
    """Keeps what a gain or a filter has made between the samples under a ceiling; late by `latency` frames.

    What there is to mend is small and rare, so this is always smooth.
    """

    def __init__(self, ceiling: float, link: float, rate: int, longest_block: int) -> None:
        """`ceiling` in dBTP, `link` 0–1."""
        frames = round(0.0012 * rate)
        self._reader, self._late, self._floor = PeakReader(rate, longest_block), Delay(HALF), gain_of(ceiling)
        self._peaks = np.zeros((2, longest_block))
        self._limiter = LookAheadLimiter(
            lookahead=frames,
            smoothing=frames,
            ceiling=ceiling,
            knee=0.0,
            link=link,
            times=ReleaseTimes(pole(0.02, rate), 0.0, 0.0),
            extra_hold=HALF,
            longest_block=longest_block,
        )
        self.latency = frames + HALF

    def run(self, x: Audio, out: Audio, reduction: Floats) -> None:
        """Mend `x` (n, 2), which is written over, into `out`; what was taken, in dB, into the first n of `reduction`."""
        self._reader.read(x, self._floor, self._peaks)
        self._late.run(x, x)
        self._limiter.run(x, self._peaks, out, reduction)

    def take(self, x: Audio) -> None:
        """Take from `x` (n, 2), in place, what was taken from the last block; it must be as late as that was."""
        self._limiter.take(x)

    def adopt(self, other: Mender) -> None:
        """Go on where `other` is."""
        np.copyto(self._reader.history, other._reader.history)
        self._late.adopt(other._late)
        self._limiter.adopt(other._limiter)
