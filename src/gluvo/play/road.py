"""A road test in the sound: made on the thread that asks for it, run on the audio thread."""

from __future__ import annotations

import numpy as np

from gluvo.compare.road import noise_gain, road_of
from gluvo.dsp.kernel import Audio
from gluvo.session.records import RoadTest
from gluvo.steps import MAX_BLOCK

HEADROOM = 0.5
"""Music and noise are played so much softer together, so that there is room for both."""


class RoadPart:
    """What stands between what is heard and the ears."""

    def __init__(self, settings: RoadTest, loudness: float, rate: int) -> None:
        """`loudness`: of what is heard, LUFS; noise is set against it."""
        road = road_of(settings)
        self.settings, self.loudness = settings, loudness
        self._rows = np.array(road.rows)
        self._plain = bool(np.array_equal(self._rows, np.eye(2)))
        self._steps = [step.make(rate) for step in road.steps(settings, rate)]
        gain = noise_gain(settings, loudness, rate)
        self._noise = np.asarray(road.noise(rate) * gain * HEADROOM) if road.noise is not None and gain > 0.0 else None
        self._at = 0
        self._in, self._out = np.zeros((MAX_BLOCK, 2)), np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio) -> None:
        """The next block, in place."""
        n = len(x)
        a, b = self._in[:n], self._out[:n]
        np.copyto(a, x)
        if not self._plain:
            np.dot(x, self._rows.T, out=a)
        for step in self._steps:
            step.run(a, b)
            a, b = b, a
        np.copyto(x, a)
        if self._noise is not None:
            x *= HEADROOM
            done = 0
            while done < n:
                count = min(n - done, len(self._noise) - self._at)
                x[done : done + count] += self._noise[self._at : self._at + count, None]
                done += count
                self._at = (self._at + count) % len(self._noise)
