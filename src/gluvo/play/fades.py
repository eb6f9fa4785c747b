"""What fades in what is heard: monitor gains, one graph into another, and the guard before the loudspeakers."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from gluvo.dsp.compression import pole
from gluvo.dsp.db import db_of
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Audio, Floats, Ints, kernel
from gluvo.dsp.limiting import LookAheadLimiter, ReleaseTimes, magnitudes
from gluvo.measure.trace import k_weighting
from gluvo.steps import MAX_BLOCK

FADE_SECONDS = 0.020
"""How long a change of what is heard, or of its level, takes, however loud or soft it is."""
RAMPS = 16
"""Changes that may be under way at a time."""
SILENT_POWER, MOST_LEVELLED = 1e-9, 16.0
"""Mean square under which nothing can be said of loudness, and the most that an edit is levelled by, as a factor."""
GUARD_AHEAD, GUARD_HOLD, GUARD_RELEASE = 0.003, 0.025, 0.1
"""Seconds: how early the guard sets in, how long it keeps still (half a wave of 20 Hz), and how it lets go."""


@kernel
def faded_mix(x: Audio, base: Floats, changes: Floats, ages: Ints, length: int, out: Audio) -> None:
    """Add `x` to `out` through a 2 × 2 matrix: `base`, and `changes` (ramps, 2, 2) that come in over `length` frames.

    `ages` tell for how many frames each has been under way; what is done becomes part of the base. Each comes in by
    3 s² − 2 s³, so that their sum has no corner however they overlap: corners would be heard as clicks on a soft tone.
    """
    n = x.shape[0]
    a, b, c, d = base[0, 0], base[0, 1], base[1, 0], base[1, 1]
    first = -1
    for k in range(ages.shape[0]):
        if ages[k] < length:
            first = k if first < 0 else first
    if first < 0:
        for i in range(n):
            out[i, 0] += a * x[i, 0] + b * x[i, 1]
            out[i, 1] += c * x[i, 0] + d * x[i, 1]
        return
    for i in range(n):
        p, q, r, s = a, b, c, d
        for k in range(first, ages.shape[0]):
            if ages[k] < length:
                share = min(1.0, (ages[k] + i + 1) / length)
                share *= share * (3.0 - 2.0 * share)
                p += share * changes[k, 0, 0]
                q += share * changes[k, 0, 1]
                r += share * changes[k, 1, 0]
                s += share * changes[k, 1, 1]
        out[i, 0] += p * x[i, 0] + q * x[i, 1]
        out[i, 1] += r * x[i, 0] + s * x[i, 1]
    for k in range(ages.shape[0]):
        if ages[k] < length:
            ages[k] += n
            if ages[k] >= length:
                base += changes[k]


class Fader:
    """The matrix through which a path is heard, on its way to where it is wanted."""

    def __init__(self, rate: int) -> None:
        self.frames = round(FADE_SECONDS * rate)
        self._goal = np.zeros((2, 2))
        self._base, self._changes = np.zeros((2, 2)), np.zeros((RAMPS, 2, 2))
        self._ages = np.full(RAMPS, self.frames)

    @property
    def silent(self) -> bool:
        """Whether nothing of the path is heard, nor will be."""
        return not (self._goal.any() or self._base.any() or (self._ages < self.frames).any())

    def aim(self, goal: np.ndarray) -> None:
        """Be at another matrix in `frames` frames."""
        change = goal - self._goal
        if not change.any():
            return
        self._goal[:] = goal
        oldest = int(np.argmax(self._ages))
        if self._ages.min() == 0:  # asked for at the same moment
            self._changes[int(np.argmin(self._ages))] += change
            return
        if self._ages[oldest] < self.frames:  # more at a time than there is room for: the oldest is nearly done
            self._base += self._changes[oldest]
        self._ages[oldest], self._changes[oldest] = 0, change

    def mix(self, x: Audio, out: Audio) -> None:
        """Add a path's block to what is heard."""
        if not (self._ages < self.frames).any():
            self._base[:] = self._goal
        faded_mix(x, self._base, self._changes, self._ages, self.frames, out)

    def scale(self, factor: float) -> None:
        """Be louder by a factor at once, where what comes in has become softer by as much."""
        self._goal *= factor
        self._base *= factor
        self._changes *= factor

    def clear(self) -> None:
        """Be silent at once."""
        self._goal[:], self._base[:], self._ages[:] = 0.0, 0.0, self.frames


@kernel
def best_lag(x: Audio, first: int, count: int, step: int) -> int:
    """The lag from `first` on, among so many, at which `x` (frames, 2) is most like itself, in steps of `step` frames; by
    the normalised autocorrelation of the sum of both channels. The first one, where no other is better by a tenth."""
    n = x.shape[0]
    found, best = first, -2.0
    for k in range(0, count, step):
        lag = abs(first + k)
        both, here, there = 0.0, 1e-30, 1e-30
        for i in range(lag, n, step):
            a, b = x[i, 0] + x[i, 1], x[i - lag, 0] + x[i - lag, 1]
            both += a * b
            here += a * a
            there += b * b
        like = both / math.sqrt(here * there)
        if like > best + (0.1 if k and found == first else 0.0):
            found, best = first + k, like
    return found


@kernel
def crossfade(old: Audio, new: Audio, at: int, length: int) -> None:
    """Fade `new` in over `old`, in place of `new`, from place `at` (before the fade if negative) of `length` frames.

    With level ends (3 s² − 2 s³): the corners of a straight fade would be heard as zipper noise on a steady tone.
    """
    for i in range(new.shape[0]):
        share = min(1.0, max(0.0, (at + i + 1) / length))
        for c in range(2):
            new[i, c] = old[i, c] + share * share * (3.0 - 2.0 * share) * (new[i, c] - old[i, c])


@kernel
def scaled(x: Audio, before: float, after: float) -> None:
    """Scale `x` (frames, 2) in place by a factor that goes straight from one to another."""
    n = x.shape[0]
    for i in range(n):
        factor = before + (after - before) * (i + 1) / n
        x[i, 0] *= factor
        x[i, 1] *= factor


class Levelling:
    """Keeps an edit as loud as what it takes the place of, until it is known how loud it is in the song.

    Both are there for a moment, over the same music: their powers, K-weighted as in ITU-R BS.1770, tell by how much they
    differ. The factors are for what played before and for what plays now.
    """

    def __init__(self, rate: int) -> None:
        self._filters = Sections(k_weighting(rate)), Sections(k_weighting(rate))
        self._work = np.zeros((MAX_BLOCK, 2))
        self._powers = np.zeros(2)
        self.before, self.now = 1.0, 1.0
        self._last, self._open = 1.0, False

    def begin(self) -> None:
        """Something else begins to play."""
        self.before, self._last, self._open = self.now, self.now, True
        self._powers[:] = 0.0
        for filter_ in self._filters:
            filter_.memory[:] = 0.0

    def compare(self, before: Audio, now: Audio, counts: bool) -> None:
        """Take in a block of both; it `counts` once what was given to both has come out of both."""
        if not self._open:
            return
        first = not self._powers.any()
        for n, block in enumerate((before, now)):
            weighted = self._work[: len(block)]
            self._filters[n].run(block, weighted)
            if counts:
                self._powers[n] += float(np.vdot(weighted, weighted))
        self._last = self.now
        if counts and self._powers.min() > SILENT_POWER * len(before):
            wanted = self.before * float(np.sqrt(self._powers[0] / self._powers[1]))
            self.now = min(max(wanted, 1.0 / MOST_LEVELLED), MOST_LEVELLED)
            self._last = self.now if first else self._last  # nothing of it is heard yet

    def apply(self, block: Audio) -> None:
        """What plays now, at its level."""
        if self._last != 1.0 or self.now != 1.0:
            scaled(block, self._last, self.now)
        self._last = self.now

    def leave(self) -> None:
        """Something else begins to play, at its own level."""
        self.before, self.now, self._last, self._open = self.now, 1.0, 1.0, False

    def settle(self) -> float:
        """Stop; the factor that was at work last, from which the next fade goes on."""
        factor, self._open = self.now, False
        self.before = self.now = self._last = 1.0
        return factor


TOLD = 0.01
"""dB from which on it is told that the guard held something back; its release never ends quite."""


class Guard:
    """Holds what is heard within a ceiling, late by `latency` frames; what stays within passes bit for bit.

    For what is heard only: a level match that is a moment behind an edit, or a boosted band, must not clip the
    loudspeakers. It sees peaks come and keeps still for longer than a wave, so that it is heard as a level that sinks and
    comes back, and no wave is bent.
    """

    def __init__(self, rate: int) -> None:
        ahead = round(GUARD_AHEAD * rate)
        self._make: Callable[[], LookAheadLimiter] = lambda: LookAheadLimiter(
            lookahead=ahead,
            smoothing=ahead,
            ceiling=0.0,
            knee=0.0,
            link=1.0,
            times=ReleaseTimes(pole(GUARD_RELEASE, rate), 0.0, 0.0),
            extra_hold=round(GUARD_HOLD * rate),
            longest_block=MAX_BLOCK,
        )
        self._limiter, self._fresh = self._make(), self._make()
        self._peaks, self._taken = np.zeros((2, MAX_BLOCK)), np.zeros(MAX_BLOCK)
        self.latency = ahead

    def clear(self) -> None:
        """Forget what came."""
        self._limiter.adopt(self._fresh)

    def run(self, x: Audio, ceiling: float) -> bool:
        """The next block, in place; `ceiling` as a factor of full scale. Whether anything was held back."""
        n = len(x)
        self._limiter.ceiling["level"] = db_of(ceiling)
        magnitudes(x, self._peaks)
        self._limiter.run(x, self._peaks, x, self._taken)
        return bool(self._taken[:n].max(initial=0.0) > TOLD)
