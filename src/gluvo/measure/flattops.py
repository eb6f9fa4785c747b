"""Flat tops: where a waveform was clipped before it came here."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, Ints, kernel


@dataclass(frozen=True)
class FlatTop:
    """A run of samples at the same height."""

    start: int
    length: int
    channel: int


BESIDE = 3
"""Frames to either side of a run in which is looked how steeply the wave falls off."""
LEAST_FALL, LEAST_FALL_OF_LONG = 0.01, 5e-4
"""By how much it must fall there for anything to be said; beside long runs, and equal samples, by more than rounding to 16
bits explains."""
LONG = 12
"""Samples that hiss does not bring near each other by chance."""
NEARLY, FAR_LESS = 0.1, 0.25
"""Shares of the bend that a short and a long run would have, under which it is none."""
LIVELY = 0.02
"""The bend beside a run, from sample to sample, at which what stands still is none of what moves there."""


KEPT = 2048
"""Frames of a block that are looked at once more with the next one; runs that are longer may be counted twice."""


def flat_tops(x: np.ndarray, least: int = 3, above_db: float = -1.0, within_db: float = 0.01) -> tuple[FlatTop, ...]:
    """Runs of at least `least` samples within `within_db` of a local maximum above `above_db` dBFS that bend far less than
    what lies beside them.

    The top of a slow wave is as flat as that, and not clipped. Near its top a wave is a parabola, so that what it falls
    beside a run tells by how much it has to bend within it; and where there is much that moves quickly, as what a lossy
    codec makes of a cut top does, samples stand still by chance only.

    `x` is (frames, 2). Both polarities count; a run never crosses zero.

    >>> x = np.zeros((100, 2)); x[40:50] = 1.0
    >>> [(top.start, top.length, top.channel) for top in flat_tops(x)]
    [(40, 10, 0), (40, 10, 1)]
    """
    x = np.ascontiguousarray(x, dtype=np.float64)
    found = np.zeros((max(1, len(x) // least), 2), dtype=np.int64)
    result: list[FlatTop] = []
    for channel in range(2):
        count = _runs(x, channel, least, 10.0 ** (above_db / 20.0), 10.0 ** (-within_db / 20.0), found)
        result += [FlatTop(int(s), int(n), channel) for s, n in found[:count]]
    return tuple(sorted(result, key=lambda top: (top.start, top.channel)))


class FlatTopCounter:
    """Counts the flat tops of audio that comes block by block."""

    def __init__(self) -> None:
        self.count = 0
        self._past = np.zeros((0, 2))

    def push(self, x: np.ndarray, last: bool = False) -> None:
        """The next block, (frames, 2); the `last` one may be empty."""
        there = np.concatenate([self._past, x])
        known, until = len(self._past) // 2, len(there) - (0 if last else KEPT // 2)
        self.count += sum(known <= top.start < until for top in flat_tops(there))
        self._past = there[-KEPT:]


@kernel
def _is_cut(x: Floats, start: int, end: int, sign: float, low: float, high: float) -> bool:
    """Whether a run of samples from `low` to `high` is flatter than what lies beside it allows."""
    n, bend, left, right = end - start, 0.0, 0.0, 0.0
    for k in range(BESIDE):
        if start - 1 - k >= 0:
            left = max(left, high - x[start - 1 - k] * sign)
        if end + k < x.shape[0]:
            right = max(right, high - x[end + k] * sign)
    at_an_end = start == 0 or end == x.shape[0]
    fall = max(left, right) if at_an_end else min(left, right)
    half = 0.5 * (n - 1)
    if high == low:
        return fall >= (LEAST_FALL_OF_LONG if n > 3 else LEAST_FALL)
    for i in range(max(1, start - 2 * BESIDE), min(x.shape[0] - 1, end + 2 * BESIDE)):
        bend = max(bend, abs(x[i - 1] - 2.0 * x[i] + x[i + 1]))
    if bend >= LIVELY and 2.0 * (high - low) <= NEARLY * bend * half * half:
        return True
    share = half / (half + BESIDE)
    if n < LONG:  # with a little hiss three are near each other by chance
        return n > 3 and fall >= LEAST_FALL and high - low <= NEARLY * fall * share * share
    return fall >= LEAST_FALL_OF_LONG and high - low <= FAR_LESS * fall * share * share


@kernel
def _runs(x: Audio, channel: int, least: int, above: float, ratio: float, found: Ints) -> int:
    count, i, frames = 0, 0, x.shape[0]
    while i < frames:
        first = abs(x[i, channel])
        if first <= above:
            i += 1
            continue
        sign = 1.0 if x[i, channel] > 0.0 else -1.0
        low = high = first
        end = i + 1
        while end < frames:
            v = x[end, channel] * sign
            if v <= above or min(low, v) < max(high, v) * ratio:
                break
            low, high = min(low, v), max(high, v)
            end += 1
        before = x[i - 1, channel] * sign if i > 0 else 0.0
        after = x[end, channel] * sign if end < frames else 0.0
        if end - i >= least and before < high and after < high and _is_cut(x[:, channel], i, end, sign, low, high):
            found[count, 0], found[count, 1] = i, end - i
            count += 1
            i = end
        else:
            i += 1
    return count
