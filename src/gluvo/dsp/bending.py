"""The wave bent at a multiple of its rate."""

from __future__ import annotations

import numpy as np

from gluvo.dsp import shaping
from gluvo.dsp.kernel import Audio, Floats
from gluvo.dsp.oversampling import Oversampler

STRETCH = 8192
"""Frames of the higher rate that are worked on at a time: what is made of them stays near the processor."""


class Bender:
    """What a shaper adds to the sound times `straight`, by itself, anti-aliased; late by `latency` frames.

    >>> bender = Bender(shaping.edge(2.0, 0.0), 4, 48_000)
    >>> added = np.ones((256, 2)); bender.run(np.full((256, 2), 0.25), added)
    >>> float(abs(added).max())
    0.0
    """

    def __init__(self, shaper: shaping.Shaper, factor: int, rate: int, straight: float = 1.0) -> None:
        self._straight = straight
        self._curve = shaper.kind, shaper.drive, shaper.bias, shaper.scale, shaper.offset, shaper.top
        self._stretch = STRETCH // factor
        self._over = Oversampler(factor, rate, self._stretch)
        self.latency = self._over.latency
        self._last = np.zeros(2)
        self._bent, self._driven, self._root = (np.zeros(2 * STRETCH + 2) for _ in range(3))

    def run(self, x: Audio, out: Audio, taken: Floats | None = None) -> None:
        """What is added to `x` (n, 2) and taken from it into `out`, which may be `x`; if asked, into `taken` (n) by how
        many dB less each frame's highest peak comes out, see `shaping.shaved`: `latency` // 2 frames late."""
        for start in range(0, len(x), self._stretch):
            part = slice(start, start + self._stretch)
            raised = self._over.up(x[part])
            bent = self._bent[: len(raised)]
            shaping.change(raised, self._last, *self._curve, self._driven, self._root, bent, self._straight)
            if taken is not None:
                _, drive, _, _, _, top = self._curve
                knee = top if self._curve[0] == shaping.KNEE else 0.0
                shaping.shaved(raised, self._over.factor, drive, knee, taken[part])
            self._over.down(bent, out[part])

    def adopt(self, other: Bender) -> bool:
        """Go on where `other` is, if it bends at the same rate; whether it does."""
        np.copyto(self._last, other._last)
        return self._over.adopt(other._over)
