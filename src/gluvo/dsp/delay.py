"""Whole-sample delay, and the clean-up of what comes into a chain."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio, kernel

LOUDEST = 1e6
"""Samples are held within ±120 dBFS, so that squares and recursions stay finite whatever comes in."""


@kernel
def clean(x, out):  # type: ignore[no-untyped-def]
    """Copy `x` to `out`: NaN and infinities become 0, absurd values are held at ±`LOUDEST`."""
    for i in range(x.shape[0]):
        for c in range(2):
            v = x[i, c]
            if v != v or abs(v) == np.inf:
                v = 0.0
            out[i, c] = min(max(v, -LOUDEST), LOUDEST)


@kernel
def finite(x):  # type: ignore[no-untyped-def]
    """Whether all of `x` (frames, 2) is numbers within ±`LOUDEST`."""
    for i in range(x.shape[0]):  # noqa: SIM110, a kernel knows no `all`
        if not (abs(x[i, 0]) <= LOUDEST and abs(x[i, 1]) <= LOUDEST):  # never true of what is no number
            return False
    return True


@kernel
def delay_block(ring, place, delay, x, out):  # type: ignore[no-untyped-def]
    """Delay `x` by `delay` frames into `out` (may be `x`). `place` holds the write index."""
    size = ring.shape[0]
    w = place[0]
    for i in range(x.shape[0]):
        ring[w, 0] = x[i, 0]
        ring[w, 1] = x[i, 1]
        r = w - delay
        if r < 0:
            r += size
        out[i, 0] = ring[r, 0]
        out[i, 1] = ring[r, 1]
        w += 1
        if w == size:
            w = 0
    place[0] = w


class Delay:
    """Delays by a whole number of frames; the ring is as long as the longest delay it may be asked for."""

    def __init__(self, frames: int, longest: int | None = None) -> None:
        self.frames = frames
        self.ring = np.zeros((max(frames, longest or 0) + 1, 2))
        self.place = np.zeros(1, dtype=np.int64)

    def run(self, x: Audio, out: Audio) -> None:
        delay_block(self.ring, self.place, self.frames, x, out)

    def adopt(self, other: Delay) -> None:
        """Go on where `other` is, its delay may differ; rings of another size start empty."""
        if self.ring.shape != other.ring.shape:
            return
        place, start = int(other.place[0]), int(other.place[0]) - self.frames
        # no more than will be read, since this happens between two blocks
        for part in (slice(max(0, start), place), slice(len(self.ring) + start, None) if start < 0 else slice(0, 0)):
            self.ring[part] = other.ring[part]
        np.copyto(self.place, other.place)
