"""The compressor's parts: level, curve, ballistics, gain.

Follows Giannoulis, Massberg and Reiss, 'Digital dynamic range compressor design', JAES 60(6), 2012: a
feed-forward compressor whose gain is smoothed in the log domain by decoupled ballistics.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, Records, Singles, kernel
from gluvo.dsp.logarithms import DB_OF_NEPER, to_db, to_factors

DB = DB_OF_NEPER
"""dB in one neper."""
QUIETEST = 1e-10
"""Amplitude under which the detector reads −200 dB."""
SMALLEST_SQUARE = 1e-40
"""Mean squares are held above it, since denormal numbers are slow."""
QUICKEST = 4.0
"""How many times quicker than set a release that feeds back may become."""


@kernel
def levels(x: Audio, link: float, smoothing: float, squares: Floats, work: Audio, out: Audio) -> None:
    """Levels in dBFS of the detector's signal `x` (frames, 2) into `out` (1 or 2 columns, frames or more).

    `smoothing` is the one-pole coefficient of the mean square, `squares` its state; 0 reads peaks. `link` 0–1 draws each
    channel to the louder one; with one column in `out` the link is taken as full. A sine reads its peak in either mode
    (the mean square is doubled), so that the threshold need not be found again. `work` (2, frames or more) is written over.
    """
    n, columns = x.shape[0], out.shape[0]
    left, right, flat = work[0, :n], work[1, :n], x.reshape(-1)
    quietest, scale = QUIETEST, 1.0
    if smoothing > 0.0:
        a, b, share = 2.0 * squares[0], 2.0 * squares[1], 2.0 * (1.0 - smoothing)
        for i in range(n):
            a = smoothing * a + share * (flat[2 * i] * flat[2 * i])
            b = smoothing * b + share * (flat[2 * i + 1] * flat[2 * i + 1])
            left[i], right[i] = a, b
        squares[0], squares[1] = max(0.5 * a, SMALLEST_SQUARE), max(0.5 * b, SMALLEST_SQUARE)
        quietest, scale = QUIETEST * QUIETEST, 0.5  # half the level of the square is that of its root
    elif columns == 1:  # so written that the compiler makes vectors of it
        for i in range(n):
            left[i] = right[i] = max(abs(flat[2 * i]), abs(flat[2 * i + 1]))
    else:
        for i in range(n):
            left[i], right[i] = abs(flat[2 * i]), abs(flat[2 * i + 1])
    if columns == 1:
        for i in range(n):
            left[i] = max(max(left[i], right[i]), quietest)
        to_db(left, out[0, :n])
        if scale != 1.0:
            for i in range(n):
                out[0, i] *= scale
        return
    for i in range(n):
        left[i], right[i] = max(left[i], quietest), max(right[i], quietest)
    to_db(left, out[0, :n])
    to_db(right, out[1, :n])
    first, second = out[0, :n], out[1, :n]
    for i in range(n):
        p, q = scale * first[i], scale * second[i]
        top = max(p, q)
        first[i] = p + link * (top - p)
        second[i] = q + link * (top - q)


class Curve(NamedTuple):
    """A static curve: levels in dB, all of them floats."""

    threshold: float
    slope: float
    """dB of reduction for each dB over the threshold: ``1 − 1/ratio``."""
    knee: float
    most: float


class Times(NamedTuple):
    """The coefficients of `ballistics`, see `pole`."""

    attack: float
    release: float
    charge: float
    """Of the slow stage."""
    discharge: float
    auto: float
    """How much of the slow stage holds, 0–1."""


class LiftTimes(NamedTuple):
    """The coefficients of `lifts`."""

    back: float
    """When the level rises."""
    up: float


STAGES = np.dtype([("first", np.float64), ("slow", np.float64), ("out", np.float64)])
"""The state of `ballistics` in a column: release stage, slow stage, output; dB."""


def stages(columns: int) -> Records:
    """States of `ballistics` at rest."""
    return np.zeros(columns, STAGES)


@kernel
def wanted_reduction(level: float, threshold: float, slope: float, knee: float, most: float) -> float:
    """The static curve: reduction in dB (≥ 0) for a level in dBFS, with a quadratic knee.

    >>> wanted_reduction(-10.0, -20.0, 0.5, 0.0, 60.0)
    5.0
    """
    over = level - threshold
    if 2.0 * over <= -knee:
        return 0.0
    if 2.0 * over < knee:
        over = (over + 0.5 * knee) ** 2 / (2.0 * knee)
    return min(slope * over, most)


@kernel
def wanted_reductions(level: Floats, curve: Records, out: Floats) -> None:
    """`wanted_reduction` for a row of levels, without a branch; `curve`: a `Curve`."""
    threshold, slope, knee, most = curve[0].threshold, curve[0].slope, curve[0].knee, curve[0].most
    half, inverse = 0.5 * knee, 0.5 / max(knee, 1e-30)
    for i in range(level.shape[0]):
        over = level[i] - threshold
        inside = max(over + half, 0.0)
        out[i] = min(slope * (over if over >= half else inside * inside * inverse), most)


@kernel
def ballistics(level: Floats, frames: int, curve: Records, times: Records, state: Records, out: Audio) -> None:
    """Reduction in dB, smoothed, for the first `frames` of each row of `level` (columns, frames or more).

    `curve`: a `Curve`. `times`: `Times`. `state` (columns): see `STAGES`.

    The first stage takes rises at once and falls with the release time; the second follows rises with the
    attack time. Where the first has fallen below the second, the second follows it, so that a long attack
    does not lengthen the release: both time constants are what they say. Auto release adds a slow stage that
    only sustained reduction charges; the larger of the two holds.
    """
    attack, release, charge, discharge = times[0].attack, times[0].release, times[0].charge, times[0].discharge
    auto = times[0].auto
    rises, falls, charges, discharges = 1.0 - attack, 1.0 - release, 1.0 - charge, 1.0 - discharge
    rises_first = charge <= discharge
    for c in range(level.shape[0]):
        read, made = level[c, :frames], out[c, :frames]
        wanted_reductions(read, curve, made)
        first, slow, y = state[c].first, state[c].slow, state[c].out
        for i in range(read.shape[0]):
            want = made[i]
            first = max(want, release * first + falls * want)
            up, down = charge * slow + charges * want, discharge * slow + discharges * want
            slow = max(up, down) if rises_first else min(up, down)  # the one that is nearer to where it goes
            target = max(first, auto * slow)
            y = min(target, attack * y + rises * target)  # the latter is the larger one where it falls
            made[i] = y
        state[c].first = first if first > 1e-12 else 0.0
        state[c].slow = slow if slow > 1e-12 else 0.0
        state[c].out = y if y > 1e-12 else 0.0


@kernel
def lifts(level: Floats, frames: int, curve: Records, times: Records, state: Floats, out: Audio) -> None:
    """Gain in dB (≥ 0) of upward compression, smoothed, for the first `frames` of each row of `level` (columns, frames or
    more).

    The static curve is that of `wanted_reduction` turned over: what lies under the threshold is lifted. `curve`: a
    `Curve`. `times`: `LiftTimes`. `state` (columns): the gain.
    """
    threshold, slope, knee, most = curve[0].threshold, curve[0].slope, curve[0].knee, curve[0].most
    back, up = times[0].back, times[0].up
    half, inverse = 0.5 * knee, 0.5 / max(knee, 1e-30)
    for c in range(level.shape[0]):
        read, made = level[c, :frames], out[c, :frames]
        for i in range(frames):
            under = threshold - read[i]
            inside = max(under + half, 0.0)
            made[i] = min(slope * (under if under >= half else inside * inside * inverse), most)
        y = state[c]
        for i in range(frames):
            want = made[i]
            y = want + (y - want) * (back if want < y else up)
            made[i] = y
        state[c] = y if y > 1e-12 else 0.0


@kernel
def curve_slope(level: float, threshold: float, slope: float, knee: float, most: float) -> float:
    """How fast the static curve's reduction rises at a level, dB for each dB."""
    over = level - threshold
    if 2.0 * over <= -knee or wanted_reduction(level, threshold, slope, knee, most) >= most:
        return 0.0
    return slope * (over + 0.5 * knee) / knee if 2.0 * over < knee else slope


@kernel
def feed_back(
    x: Audio,
    sos: Floats,
    memory: Floats,
    heard: Floats,
    link: float,
    smoothing: float,
    squares: Floats,
    curve: Records,
    times: Records,
    state: Records,
    level: Floats,
    out: Audio,
) -> None:
    """Reduction in dB of a compressor whose detector listens to what comes out, for `x` (frames, 2).

    `sos` and `memory` are the detector's filters, `heard` tells which of the two columns it listens to; `level`
    gets what it reads. `level` and `out` are (columns, frames or more); the other arguments are those of `levels` and
    `ballistics`.

    In a loop of slope ``s`` (reduction over level in) every change of the output is ``1 / (1 − s)`` times as fast
    as the smoothing alone (Giannoulis et al., section 2.3). Since the loop is known, the level that comes in is
    reckoned back from the level out and the reduction, which gives the same static curve as feeding forward and
    a loop that cannot ring; the ballistics are then sped up as the loop would. Attack is as set above the knee
    and slower inside it; release is as set once the sound is under the threshold, and quicker while it is above, by
    `QUICKEST` at most, so that high ratios do not follow single waves of low notes.
    """
    threshold, slope, knee, most = curve[0].threshold, curve[0].slope, curve[0].knee, curve[0].most
    attack, release, charge, discharge = times[0].attack, times[0].release, times[0].charge, times[0].discharge
    auto = times[0].auto
    columns = out.shape[0]
    for i in range(x.shape[0]):
        v = (
            x[i, 0] * math.exp(-state[0].out / DB) * heard[0],
            x[i, 1] * math.exp(-state[columns - 1].out / DB) * heard[1],
        )
        a, b = v
        for s in range(sos.shape[0]):
            ya, yb = sos[s, 0] * a + memory[s, 0, 0], sos[s, 0] * b + memory[s, 0, 1]
            memory[s, 0, 0] = sos[s, 1] * a - sos[s, 4] * ya + memory[s, 1, 0]
            memory[s, 0, 1] = sos[s, 1] * b - sos[s, 4] * yb + memory[s, 1, 1]
            memory[s, 1, 0] = sos[s, 2] * a - sos[s, 5] * ya
            memory[s, 1, 1] = sos[s, 2] * b - sos[s, 5] * yb
            a, b = ya, yb
        a, b = abs(a), abs(b)
        if smoothing > 0.0:
            squares[0] = a * a + (squares[0] - a * a) * smoothing
            squares[1] = b * b + (squares[1] - b * b) * smoothing
            a, b = math.sqrt(2.0 * squares[0]), math.sqrt(2.0 * squares[1])
        la, lb = DB * math.log(max(a, QUIETEST)), DB * math.log(max(b, QUIETEST))
        top = max(la, lb)
        for c in range(columns):
            read = top if columns == 1 else la + link * (top - la) if c == 0 else lb + link * (top - lb)
            level[c, i] = read
            first, slow, y = state[c].first, state[c].slow, state[c].out
            came = read + y
            want = wanted_reduction(came, threshold, slope, knee, most)
            quicker = 1.0 / (1.0 - curve_slope(came, threshold, slope, knee, most))
            first = max(want, want + (first - want) * max(0.0, 1.0 - (1.0 - release) * min(quicker, QUICKEST)))
            slow = want + (slow - want) * (charge if want > slow else discharge)
            target = max(first, auto * slow)
            y = target + (y - target) * (1.0 - (1.0 - attack) * (1.0 - slope) * quicker) if target > y else target
            out[c, i] = y
            state[c].first = first if first > 1e-12 else 0.0
            state[c].slow = slow if slow > 1e-12 else 0.0
            state[c].out = y if y > 1e-12 else 0.0
    for s in range(sos.shape[0]):
        for k in range(2):
            for c in range(2):
                if abs(memory[s, k, c]) < 1e-30:
                    memory[s, k, c] = 0.0


def arriving(reduction: Floats, mix: float) -> Floats:
    """What is left of reductions in dB where a share `mix` of the sound is reduced and the rest is not, both in step:
    however much is taken from a fifth of it, no more than 1.9 dB are gone. Over 1, more is gone than was taken.

    >>> np.round(arriving(np.array([0.0, 10.0, 200.0]), 0.2), 2).tolist()
    [0.0, 1.28, 1.94]
    """
    if mix == 1.0:
        return reduction
    return arriving_by(reduction, np.full(len(reduction), mix))


def arriving_by(reduction: Floats | Singles, shares: Floats) -> Floats:
    """As `arriving`, with a share for each."""
    return np.asarray(20.0 * np.log10(1.0 / np.maximum(1.0 - shares + shares * 10.0 ** (reduction / -20.0), 1e-10)))


@kernel
def blended(reduction: Floats, n: int, mix: float, share: Floats, out: Floats) -> None:
    """As `arriving`, for the first `n` of a block, without allocating; `share` is written over."""
    to_factors(reduction[:n], share[:n])
    for i in range(n):
        share[i] = max(1.0 - mix + mix * share[i], 1e-10)
    to_db(share[:n], out[:n])
    for i in range(n):
        out[i] = max(0.0, -out[i]) if reduction[i] > 0.0 else 0.0


@kernel
def larger(rows: Floats, frames: int, out: Floats) -> None:
    """The larger of one or two rows, frame by frame."""
    last = rows.shape[0] - 1
    for i in range(frames):
        out[i] = max(rows[0, i], rows[last, i])


@kernel
def gains(reduction: Floats, makeup: float, mix: float, out: Floats) -> None:
    """The factors of reductions in dB, with make-up and mix: exactly 1 where nothing is reduced, raised or mixed."""
    to_factors(reduction, out)
    for i in range(out.shape[0]):
        out[i] = 1.0 + mix * (makeup * out[i] - 1.0)


@kernel
def apply_gain(x: Audio, reduction: Floats, makeup: float, mix: float, factors: Floats, out: Audio) -> None:
    """Scale left and right by their reduction (1 or 2 columns, frames or more), make-up and mix.

    A gain of exactly 1 leaves the bits alone. `factors` (2, frames or more) is written over.
    """
    n, last = x.shape[0], reduction.shape[0] - 1
    left, right = factors[0, :n], factors[last, :n]
    for c in range(last + 1):
        gains(reduction[c, :n], makeup, mix, factors[c, :n])
    for i in range(n):
        out[i, 0] = x[i, 0] * left[i]
        out[i, 1] = x[i, 1] * right[i]


@kernel
def apply_gain_mid_side(
    x: Audio, reduction: Floats, makeup: float, mix: float, mid_on: float, side_on: float, factors: Floats, out: Audio
) -> None:
    """Scale mid and side, written as a difference so that a gain of exactly 1 leaves the bits alone."""
    n, last = x.shape[0], reduction.shape[0] - 1
    of_mid, of_side = factors[0, :n], factors[last, :n]
    for c in range(last + 1):
        gains(reduction[c, :n], makeup, mix, factors[c, :n])
    for i in range(n):
        left, right = x[i, 0], x[i, 1]
        m = 0.5 * (left + right) * (of_mid[i] - 1.0) * mid_on
        s = 0.5 * (left - right) * (of_side[i] - 1.0) * side_on
        out[i, 0] = left + m + s
        out[i, 1] = right + m - s


@kernel
def to_mid_side(x: Audio, out: Audio) -> None:
    """Left and right of `x` (frames, 2) as mid ``(L + R) / 2`` and side ``(L − R) / 2`` into `out`, which may be `x`."""
    for i in range(x.shape[0]):
        m, s = 0.5 * (x[i, 0] + x[i, 1]), 0.5 * (x[i, 0] - x[i, 1])
        out[i, 0] = m
        out[i, 1] = s


@kernel
def from_mid_side(x: Audio, out: Audio) -> None:
    """Mid and side of `x` (frames, 2) as left and right into `out`, which may be `x`."""
    for i in range(x.shape[0]):
        m, s = x[i, 0], x[i, 1]
        out[i, 0] = m + s
        out[i, 1] = m - s


def pole(seconds: float, rate: int) -> float:
    """The one-pole coefficient that covers 63 % of a step in `seconds`; 0 for no time at all.

    >>> round(pole(0.01, 48000) ** 480, 4)
    0.3679
    """
    return math.exp(-1.0 / (seconds * rate)) if seconds > 0.0 else 0.0


def lifted_curve(level: np.ndarray, threshold: float, slope: float, knee: float, most: float) -> np.ndarray:
    """How far the static curve of `lifts` raises an array of levels in dBFS, dB.

    >>> lifted_curve(np.array([-50.0, -10.0]), -30.0, 0.5, 0.0, 24.0).tolist()
    [10.0, 0.0]
    """
    return np.array([wanted_reduction(-v, -threshold, slope, knee, most) for v in level])


def static_curve(level: np.ndarray, threshold: float, slope: float, knee: float, most: float) -> np.ndarray:
    """The static curve for an array of levels in dBFS: output levels in dBFS.

    >>> static_curve(np.array([-30.0, -10.0]), -20.0, 0.5, 0.0, 60.0).tolist()
    [-30.0, -15.0]
    """
    return np.array([v - wanted_reduction(v, threshold, slope, knee, most) for v in level])
