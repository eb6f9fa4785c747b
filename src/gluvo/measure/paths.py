"""The two paths of a compressor over the same time: what passes, and what its detector reads."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.compression import Curve, wanted_reduction
from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats
from gluvo.measure.hits import ENVELOPE_HOP, peak_envelope

HOP = 4 * ENVELOPE_HOP
"""Seconds between points."""
NOTHING_READ = -200.0
"""dBFS"""
NOTICED_WITHIN = 0.06
"""Seconds from an onset within which a detector that hears a hit has read it."""
NOTICED = 0.1
"""dB of reduction from which on a hit is noticed."""


@dataclass(frozen=True, eq=False)
class Paths:
    """Levels in dBFS, the largest of every `HOP`, from the start of a stretch of audio."""

    signal: Floats
    """Of what passes: the higher of left and right."""
    detector: Floats
    """Of what the detector reads: cut, leaned, bent, averaged, and of its key, where it has one."""

    def read_at(self, onsets: Floats) -> Floats:
        """The highest level in dBFS that the detector reads within `NOTICED_WITHIN` of each onset, given in seconds."""
        width = round(NOTICED_WITHIN / HOP)
        places = np.clip(np.round(onsets / HOP).astype(np.int64), 0, max(0, len(self.detector) - 1))
        return np.array([self.detector[at : at + width].max(initial=NOTHING_READ) for at in places])

    def noticed(self, onsets: Floats, curve: Curve) -> np.ndarray:
        """Which hits make a compressor with that static curve reduce by `NOTICED` dB or more, if its attack lets it.

        >>> paths = Paths(np.zeros(100), np.repeat([-30.0, -10.0], 50))
        >>> paths.noticed(np.array([0.0, 0.12]), Curve(-20.0, 0.5, 0.0, 60.0)).tolist()
        [False, True]
        """
        return np.array([wanted_reduction(level, *curve) >= NOTICED for level in self.read_at(onsets)], dtype=bool)


class PathsMeter:
    """Gathers both paths of a stretch of audio, whose detector's levels come in pieces."""

    def __init__(self, passing: np.ndarray, rate: int) -> None:
        """`passing`: what comes into the step, (frames, 2)."""
        envelope = peak_envelope(passing, rate)
        whole = len(envelope) // 4 * 4
        self._signal = power_db(envelope[:whole].reshape(-1, 4).max(axis=1) ** 2)
        self._hops_per_frame = 1.0 / (rate * HOP)
        self._read = np.full(len(self._signal), NOTHING_READ)

    def push(self, place: int, levels: Floats) -> None:
        """Take in levels in dBFS, one for each frame from frame `place` of the stretch on."""
        hops = ((place + np.arange(len(levels))) * self._hops_per_frame).astype(np.int64)
        starts = np.concatenate([[0], np.flatnonzero(np.diff(hops)) + 1])
        inside = hops[starts] < len(self._read)
        tops, at = np.maximum.reduceat(levels, starts)[inside], hops[starts][inside]
        self._read[at] = np.maximum(self._read[at], tops)

    def finish(self) -> Paths:
        return Paths(self._signal, self._read)
