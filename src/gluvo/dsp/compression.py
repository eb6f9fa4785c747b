"""The compressor's parts: level, curve, ballistics, gain.

Follows Giannoulis, Massberg and Reiss, 'Digital dynamic range compressor design', JAES 60(6), 2012: a
feed-forward compressor whose gain is smoothed in the log domain by decoupled ballistics.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import kernel

DB = 20.0 / math.log(10.0)
"""dB in one neper."""
QUIETEST = 1e-10
"""Amplitude under which the detector reads −200 dB."""
QUICKEST = 4.0
"""How many times quicker than set a release that feeds back may become."""


@kernel
def levels(x, link, smoothing, squares, out):  # type: ignore[no-untyped-def]
    """Levels in dBFS of the detector's signal `x` (frames, 2) into `out` (frames, 1 or 2).

    `smoothing` is the one-pole coefficient of the mean square; 0 reads peaks. `link` 0–1 draws each channel
    to the louder one; with one column in `out` the link is taken as full. A sine reads its peak in either
    mode (the mean square is doubled), so that the threshold need not be found again.
    """
    columns = out.shape[1]
    for i in range(x.shape[0]):
        a, b = abs(x[i, 0]), abs(x[i, 1])
        if smoothing > 0.0:
            squares[0] = a * a + (squares[0] - a * a) * smoothing
            squares[1] = b * b + (squares[1] - b * b) * smoothing
            a, b = math.sqrt(2.0 * squares[0]), math.sqrt(2.0 * squares[1])
        if columns == 1:
            out[i, 0] = DB * math.log(max(max(a, b), QUIETEST))
        else:
            la = DB * math.log(max(a, QUIETEST))
            lb = DB * math.log(max(b, QUIETEST))
            top = max(la, lb)
            out[i, 0] = la + link * (top - la)
            out[i, 1] = lb + link * (top - lb)


@kernel
def wanted_reduction(level, threshold, slope, knee, most):  # type: ignore[no-untyped-def]
    """The static curve: reduction in dB (≥ 0) for a level in dBFS, with a quadratic knee."""
    over = level - threshold
    if 2.0 * over <= -knee:
        return 0.0
    if 2.0 * over < knee:
        over = (over + 0.5 * knee) ** 2 / (2.0 * knee)
    return min(slope * over, most)


@kernel
def ballistics(level, curve, times, state, out):  # type: ignore[no-untyped-def]
    """Reduction in dB, smoothed, for each column of `level`.

    `curve`: threshold, slope ``1 − 1/ratio``, knee, range. `times`: coefficients of attack, release, the slow
    state's charge and discharge, and the auto-release amount 0–1. `state`: (columns, 3): release stage, slow
    stage, output.

    The first stage takes rises at once and falls with the release time; the second follows rises with the
    attack time. Where the first has fallen below the second, the second follows it, so that a long attack
    does not lengthen the release: both time constants are what they say. Auto release adds a slow stage that
    only sustained reduction charges; the larger of the two holds.
    """
    threshold, slope, knee, most = curve[0], curve[1], curve[2], curve[3]
    attack, release, charge, discharge, auto = times[0], times[1], times[2], times[3], times[4]
    for c in range(level.shape[1]):
        first, slow, y = state[c, 0], state[c, 1], state[c, 2]
        for i in range(level.shape[0]):
            want = wanted_reduction(level[i, c], threshold, slope, knee, most)
            first = max(want, want + (first - want) * release)
            slow = want + (slow - want) * (charge if want > slow else discharge)
            target = max(first, auto * slow)
            y = target + (y - target) * attack if target > y else target
            out[i, c] = y
        state[c, 0] = first if first > 1e-12 else 0.0
        state[c, 1] = slow if slow > 1e-12 else 0.0
        state[c, 2] = y if y > 1e-12 else 0.0


@kernel
def curve_slope(level, threshold, slope, knee, most):  # type: ignore[no-untyped-def]
    """How fast the static curve's reduction rises at a level, dB for each dB."""
    over = level - threshold
    if 2.0 * over <= -knee or wanted_reduction(level, threshold, slope, knee, most) >= most:
        return 0.0
    return slope * (over + 0.5 * knee) / knee if 2.0 * over < knee else slope


@kernel
def feed_back(x, sos, memory, heard, link, smoothing, squares, curve, times, state, level, out):  # type: ignore[no-untyped-def]
    """Reduction in dB of a compressor whose detector listens to what comes out, for `x` (frames, 2).

    `sos` and `memory` are the detector's filters, `heard` tells which of the two columns it listens to; `level`
    gets what it reads. The other arguments are those of `levels` and `ballistics`.

    In a loop of slope ``s`` (reduction over level in) every change of the output is ``1 / (1 − s)`` times as fast
    as the smoothing alone (Giannoulis et al., section 2.3). Since the loop is known, the level that comes in is
    reckoned back from the level out and the reduction, which gives the same static curve as feeding forward and
    a loop that cannot ring; the ballistics are then sped up as the loop would. Attack is as set above the knee
    and slower inside it; release is as set once the sound is under the threshold, and quicker while it is above, by
    `QUICKEST` at most, so that high ratios do not follow single waves of low notes.
    """
    threshold, slope, knee, most = curve[0], curve[1], curve[2], curve[3]
    attack, release, charge, discharge, auto = times[0], times[1], times[2], times[3], times[4]
    columns = out.shape[1]
    for i in range(x.shape[0]):
        v = (
            x[i, 0] * math.exp(-state[0, 2] / DB) * heard[0],
            x[i, 1] * math.exp(-state[columns - 1, 2] / DB) * heard[1],
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
            level[i, c] = read
            first, slow, y = state[c, 0], state[c, 1], state[c, 2]
            came = read + y
            want = wanted_reduction(came, threshold, slope, knee, most)
            quicker = 1.0 / (1.0 - curve_slope(came, threshold, slope, knee, most))
            first = max(want, want + (first - want) * max(0.0, 1.0 - (1.0 - release) * min(quicker, QUICKEST)))
            slow = want + (slow - want) * (charge if want > slow else discharge)
            target = max(first, auto * slow)
            y = target + (y - target) * (1.0 - (1.0 - attack) * (1.0 - slope) * quicker) if target > y else target
            out[i, c] = y
            state[c, 0] = first if first > 1e-12 else 0.0
            state[c, 1] = slow if slow > 1e-12 else 0.0
            state[c, 2] = y if y > 1e-12 else 0.0
    for s in range(sos.shape[0]):
        for k in range(2):
            for c in range(2):
                if abs(memory[s, k, c]) < 1e-30:
                    memory[s, k, c] = 0.0


@kernel
def apply_gain(x, reduction, makeup, mix, out):  # type: ignore[no-untyped-def]
    """Scale left and right by their reduction, make-up and mix. A gain of exactly 1 leaves the bits alone."""
    last = reduction.shape[1] - 1
    for i in range(x.shape[0]):
        g = _gain(reduction[i, 0], makeup, mix)
        out[i, 0] = x[i, 0] * g
        if last:
            g = _gain(reduction[i, 1], makeup, mix)
        out[i, 1] = x[i, 1] * g


@kernel
def apply_gain_mid_side(x, reduction, makeup, mix, mid_on, side_on, out):  # type: ignore[no-untyped-def]
    """Scale mid and side, written as a difference so that a gain of exactly 1 leaves the bits alone."""
    last = reduction.shape[1] - 1
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        m = 0.5 * (left + right) * (_gain(reduction[i, 0], makeup, mix) - 1.0) * mid_on
        s = 0.5 * (left - right) * (_gain(reduction[i, last], makeup, mix) - 1.0) * side_on
        out[i, 0] = left + m + s
        out[i, 1] = right + m - s


@kernel
def _gain(reduction, makeup, mix):  # type: ignore[no-untyped-def]
    g = makeup
    if reduction > 0.0:
        g = makeup * math.exp(-reduction / DB)
    return 1.0 + mix * (g - 1.0)


@kernel
def to_mid_side(x, out):  # type: ignore[no-untyped-def]
    for i in range(x.shape[0]):
        m, s = 0.5 * (x[i, 0] + x[i, 1]), 0.5 * (x[i, 0] - x[i, 1])
        out[i, 0] = m
        out[i, 1] = s


@kernel
def from_mid_side(x, out):  # type: ignore[no-untyped-def]
    for i in range(x.shape[0]):
        m, s = x[i, 0], x[i, 1]
        out[i, 0] = m + s
        out[i, 1] = m - s


def pole(seconds: float, rate: int) -> float:
    """The one-pole coefficient that covers 63 % of a step in `seconds`; 0 for no time at all."""
    return math.exp(-1.0 / (seconds * rate)) if seconds > 0.0 else 0.0


def static_curve(level: np.ndarray, threshold: float, slope: float, knee: float, most: float) -> np.ndarray:
    """The static curve for an array of levels in dBFS: output levels in dBFS."""
    return np.array([v - wanted_reduction(v, threshold, slope, knee, most) for v in level])
