"""Whole-sample delay, and the clean-up of what comes into a chain."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, Ints, kernel
from gluvo.dsp.vectors import fma8, load8, splat8, store8, total8

LOUDEST = 1e6
"""Samples are held within ±120 dBFS, so that squares and recursions stay finite whatever comes in."""


@kernel
def clean(x: Audio, out: Audio) -> None:
    """Copy `x` to `out`: NaN and infinities become 0, absurd values are held at ±`LOUDEST`."""
    for i in range(x.shape[0]):
        for c in range(2):
            v = x[i, c]
            if v != v or abs(v) == np.inf:
                v = 0.0
            out[i, c] = min(max(v, -LOUDEST), LOUDEST)


@kernel
def ordinary(x: Audio) -> bool:
    """Whether `x` (frames, 2) is numbers of sane size: the sum of their squares is a number, and within `LOUDEST`²."""
    flat, sums, i = x.reshape(-1), splat8(0.0), 0
    while i + 8 <= flat.shape[0]:
        v = load8(flat, i)
        sums = fma8(v, v, sums)
        i += 8
    total = total8(sums)
    for k in range(i, flat.shape[0]):
        total += flat[k] * flat[k]
    return total <= LOUDEST * LOUDEST  # never true of what is no number


@kernel
def delay_block(ring: Floats, place: Ints, delay: int, x: Audio, out: Audio) -> None:
    """Delay `x` by `delay` frames into `out` (may be `x`). `place` holds the write index.

    Frames go through the ring in runs, as long as neither end of it comes between and nothing is overwritten that has
    not been read.
    """
    size, w, n, at = ring.shape[0], place[0], x.shape[0], 0
    kept, given, made = ring.reshape(-1), x.reshape(-1), out.reshape(-1)
    while at < n:
        r = w - delay
        if r < 0:
            r += size
        count = min(min(n - at, size - delay), min(size - w, size - r))
        copy(given[2 * at : 2 * (at + count)], kept[2 * w : 2 * (w + count)])
        copy(kept[2 * r : 2 * (r + count)], made[2 * at : 2 * (at + count)])
        at += count
        w += count
        if w == size:
            w = 0
    place[0] = w


@kernel
def copy(x: Floats, out: Floats) -> None:
    """Copy one flat array into another, eight values at a time."""
    i = 0
    while i + 32 <= x.shape[0]:
        a, b, c, d = load8(x, i), load8(x, i + 8), load8(x, i + 16), load8(x, i + 24)
        store8(out, i, a)
        store8(out, i + 8, b)
        store8(out, i + 16, c)
        store8(out, i + 24, d)
        i += 32
    for k in range(i, x.shape[0]):
        out[k] = x[k]


RUN = 1024
"""Frames by which a ring is longer than the delay, so that blocks pass in few runs."""


class Delay:
    """Delays by a whole number of frames.

    >>> late = Delay(2)
    >>> x = np.ones((4, 2)); late.run(x, x)
    >>> x[:, 0].tolist()
    [0.0, 0.0, 1.0, 1.0]
    """

    def __init__(self, frames: int, room: int = 0) -> None:
        self.frames = frames
        self.ring = np.zeros((frames + room + RUN, 2))
        self.place = np.zeros(1, dtype=np.int64)

    def run(self, x: Audio, out: Audio) -> None:
        """Delay `x` (frames, 2) into `out`, which may be `x`."""
        delay_block(self.ring, self.place, self.frames, x, out)

    def lengthen(self, frames: int) -> None:
        """Delay by more from now on, within the `room` there is for that; before anything came."""
        self.frames += frames

    def adopt(self, other: Delay) -> None:
        """Go on where `other` is, whose delay may be another; what it no longer has is silence."""
        end, known = int(other.place[0]), min(self.frames, len(other.ring))  # no more than will be read, since this
        start = end - known  # happens between two blocks
        self.ring[: self.frames - known] = 0.0
        if start < 0:
            self.ring[self.frames - known : self.frames - end] = other.ring[start:]
        kept = max(0, start)
        self.ring[self.frames - (end - kept) : self.frames] = other.ring[kept:end]
        self.place[0] = self.frames
