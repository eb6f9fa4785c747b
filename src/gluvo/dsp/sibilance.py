"""How far a range stands over the voice that it belongs to."""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Floats, kernel
from gluvo.dsp.logarithms import to_db

QUIETEST_VOICE = 10.0 ** (-70.0 / 10.0)
"""Mean square under which there is no voice."""
NONE = 1e-10
"""Amplitude ratio of nothing: −200 dB."""
SMALLEST = 1e-40


@kernel
def relative_levels(
    voice: Floats, band: Floats, smoothing: float, release: float, state: Floats, work: Floats, out: Floats
) -> None:
    """Levels in dB of `band` relative to the voice, both (frames, 2), into `out` (frames or more).

    Both are mean squares over a few milliseconds, by the one-pole coefficient `smoothing`; the voice's own level rises
    with that and falls with `release`, so that a breath after a word is measured by the word. −200 where there is no
    voice. `state`: the two mean squares and the voice's level. `work` (frames or more) is written over.
    """
    n = voice.shape[0]
    p, b, v = state[0], state[1], state[2]
    ratio = work[:n]
    for i in range(n):
        x = voice[i, 0] * voice[i, 0] + voice[i, 1] * voice[i, 1]
        y = band[i, 0] * band[i, 0] + band[i, 1] * band[i, 1]
        p = x + (p - x) * smoothing
        b = y + (b - y) * smoothing
        v = max(p, v * release)
        ratio[i] = b / v if v > QUIETEST_VOICE else 0.0
    state[0], state[1], state[2] = max(p, SMALLEST), max(b, SMALLEST), max(v, SMALLEST)
    for i in range(n):
        ratio[i] = max(math.sqrt(ratio[i]), NONE)
    to_db(ratio, out[:n])


def sibilants(reduction: np.ndarray, hop_seconds: float, least: float, bridge: float = 0.03) -> list[tuple[int, int]]:
    """Runs of hops from which more than `least` dB is taken, from and to; gaps of up to `bridge` seconds are bridged.

    >>> sibilants(np.array([0.0, 1.0, 0.0, 2.0, 0.0, 0.0, 0.0, 0.0, 1.0]), 0.01, 0.1)
    [(1, 4), (8, 9)]
    """
    at_work = np.flatnonzero(reduction > least)
    if not len(at_work):
        return []
    breaks = np.flatnonzero(np.diff(at_work) > 1 + round(bridge / hop_seconds))
    firsts = at_work[np.concatenate([[0], breaks + 1])]
    lasts = at_work[np.concatenate([breaks, [len(at_work) - 1]])]
    return [(int(a), int(b) + 1) for a, b in zip(firsts, lasts, strict=True)]
