"""Values that move along the song: levels and shares that go straight from point to point.

A value depends on the frame alone, so that blocks of any size, begun anywhere, give the same samples.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from gluvo.dsp.kernel import Audio, Floats, Ints, kernel

Points = tuple[tuple[float, float], ...]
"""Places in seconds, none before the one ahead of it, and the values there; straight in between, and level outside. Two points at
one place are a step."""


@dataclass(frozen=True, eq=False)
class Envelope:
    """Points at a rate."""

    places: Ints
    """Frames of the song."""
    values: Floats

    @classmethod
    def at(cls, points: Points, rate: int) -> Envelope:
        """Points in frames of some rate."""
        return cls(np.array([round(t * rate) for t, _ in points], np.int64), np.array([v for _, v in points]))

    def read(self, frames: npt.ArrayLike) -> Floats:
        """The values at some frames.

        >>> Envelope.at(((1.0, 0.0), (2.0, 6.0)), 10).read(np.array([0, 10, 15, 20, 99])).tolist()
        [0.0, 0.0, 3.0, 6.0, 6.0]
        """
        frames = np.asarray(frames)
        after = np.searchsorted(self.places, frames, side="right")
        a, b = np.maximum(after - 1, 0), np.minimum(after, len(self.places) - 1)
        apart = np.maximum(self.places[b] - self.places[a], 1)
        share = np.clip((frames - self.places[a]) / apart, 0.0, 1.0)
        return np.asarray(self.values[a] + (self.values[b] - self.values[a]) * share)


def smoothed(steps: Sequence[tuple[float, float]], first: float, ramp: float) -> Points:
    """The points of a value that steps, with a ramp about each step: the mean of the `ramp` seconds around each moment, which
    is straight between its corners also where ramps meet.

    `first`: the value before all steps. `steps`: places in seconds, in order, and the value from there on.

    >>> smoothed([(10.0, 2.0)], 0.0, 1.0)
    ((9.5, 0.0), (10.5, 2.0))
    """
    jumps: list[tuple[float, float, float]] = []
    for at, value in steps:
        before = jumps[-1][2] if jumps else first
        if value != before:
            jumps.append((at, before, value))
    if not jumps:
        return ((0.0, first),)
    if ramp <= 0.0:
        return tuple(point for at, before, after in jumps for point in ((at, before), (at, after)))

    def value_at(t: float) -> float:
        begun = [jump for jump in jumps if jump[0] - ramp / 2.0 < t]
        under_way = [jump for jump in begun if t < jump[0] + ramp / 2.0]
        level = begun[-len(under_way) - 1][2] if len(begun) > len(under_way) else first  # to the bit, between ramps
        return level + sum((after - before) * ((t - at) / ramp + 0.5) for at, before, after in under_way)

    corners = sorted({jump[0] + side * ramp / 2.0 for jump in jumps for side in (-1, 1)})
    return tuple((t, value_at(t)) for t in corners)


@kernel
def value_at(places: Ints, values: Floats, place: int) -> float:
    """The value at a frame of the song."""
    k = 0
    while k < places.shape[0] and places[k] <= place:
        k += 1
    a, b = max(0, k - 1), min(k, places.shape[0] - 1)
    if values[a] == values[b]:
        return float(values[a])
    return float(values[a] + (values[b] - values[a]) * (place - places[a]) / (places[b] - places[a]))


@kernel
def ride(x: Audio, place: int, places: Ints, decibels: Floats, out: Audio) -> None:
    """`x` (frames, 2), whose first frame is frame `place` of the song, at a level that moves in dB; where that is 0, the same
    bits."""
    n, count, i, k = x.shape[0], places.shape[0], 0, 0
    while i < n:
        here = place + i
        while k < count and places[k] <= here:
            k += 1
        stop = n if k == count else min(n, places[k] - place)
        a, b = decibels[max(0, k - 1)], decibels[min(k, count - 1)]
        if a == b:
            gain = 1.0 if a == 0.0 else math.exp(a * 0.11512925464970229)
            for j in range(i, stop):
                out[j, 0], out[j, 1] = gain * x[j, 0], gain * x[j, 1]
        else:
            slope = (b - a) / (places[k] - places[k - 1])
            for j in range(i, stop):
                gain = math.exp((a + slope * (place + j - places[k - 1])) * 0.11512925464970229)
                out[j, 0], out[j, 1] = gain * x[j, 0], gain * x[j, 1]
        i = stop


@kernel
def cross(dry: Audio, wet: Audio, place: int, places: Ints, shares: Floats, out: Audio) -> None:
    """From one sound to another and back: `shares` tells how much of `wet` there is, from 0 to 1. Where all of one is, its
    bits."""
    n, count, i, k = dry.shape[0], places.shape[0], 0, 0
    while i < n:
        here = place + i
        while k < count and places[k] <= here:
            k += 1
        stop = n if k == count else min(n, places[k] - place)
        a, b = shares[max(0, k - 1)], shares[min(k, count - 1)]
        if a == b and (a == 0.0 or a == 1.0):
            heard = dry if a == 0.0 else wet
            for j in range(i, stop):
                out[j, 0], out[j, 1] = heard[j, 0], heard[j, 1]
        else:
            slope = 0.0 if a == b else (b - a) / (places[k] - places[k - 1])
            for j in range(i, stop):
                share = a if slope == 0.0 else a + slope * (place + j - places[k - 1])
                rest = 1.0 - share  # so that at 0 and 1 the bits are those of one
                out[j, 0] = rest * dry[j, 0] + share * wet[j, 0]
                out[j, 1] = rest * dry[j, 1] + share * wet[j, 1]
        i = stop
