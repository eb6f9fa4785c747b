"""How far what is sharp of a voice stands over it."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.filters import Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Floats
from gluvo.dsp.sibilance import relative_levels

HOP = 0.005
"""Seconds between points."""
LOW, HIGH = 5000.0, 10_000.0
"""Hz"""
BODY = 3500.0
"""Hz under which the voice lies that they are compared with."""
SMOOTHING, RELEASE = 0.005, 0.25
"""Seconds over which levels are taken, and in which that of the voice falls."""
BLOCK = 1 << 14


def sharpness(x: np.ndarray, rate: int) -> Floats:
    """Level in dB from 5 to 10 kHz over that of the voice under 3.5 kHz, the highest of every `HOP` of `x`
    (frames, 2); −200 where there is no voice. See `dsp.sibilance.relative_levels`.

    >>> t = np.arange(48000) / 48000
    >>> hiss = np.random.default_rng(0).standard_normal(48000) * (t > 0.5) * 0.3
    >>> both = np.repeat((0.1 * np.sin(2 * np.pi * 220 * t) + hiss)[:, None], 2, axis=1)
    >>> over = sharpness(both, 48000); bool(over[60] < -30.0), bool(over[150] > -10.0)
    (True, True)
    """
    top = min(HIGH, 0.45 * rate)
    band = Sections(cascade(low_cut(LOW, 24, rate), high_cut(top, 24, rate)))
    body = Sections(cascade(low_cut(120.0, 12, rate), high_cut(BODY, 24, rate)))
    smoothing, release = (float(np.exp(-1.0 / (seconds * rate))) for seconds in (SMOOTHING, RELEASE))
    state, levels = np.zeros(3), []
    work, out = np.zeros(BLOCK), np.zeros(BLOCK)
    for at in range(0, len(x), BLOCK):
        voice = np.ascontiguousarray(x[at : at + BLOCK], dtype=np.float64)
        sharp = np.zeros_like(voice)
        band.run(voice, sharp)
        body.run(voice, voice)
        relative_levels(voice, sharp, smoothing, release, state, work, out)
        levels.append(np.array(out[: len(voice)]))
    every = np.concatenate(levels) if levels else np.zeros(0)
    hop = max(1, round(HOP * rate))
    whole = len(every) // hop * hop
    return np.asarray(every[:whole].reshape(-1, hop).max(axis=1)) if whole else np.zeros(0)
