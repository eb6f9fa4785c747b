"""A road test in the sound: made on the thread that asks for it, run on the audio thread."""

from __future__ import annotations

import numpy as np

from gluvo.compare.road import noise_gain, road_of
from gluvo.dsp.kernel import Audio
from gluvo.play.fades import crossfade
from gluvo.session.records import RoadTest
from gluvo.steps import MAX_BLOCK

HEADROOM = 0.5
"""Music and noise are played so much softer together, so that there is room for both."""
LIKE_LOUDNESS = 0.5
"""LU by which a road test's music may have changed before its noise is set anew."""


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


class RoadFade:
    """The road test that is on, and the one before while it fades into it; either may be none."""

    def __init__(self, rate: int, frames: int) -> None:
        """`frames`: of the fade."""
        self._rate, self._frames = rate, frames
        self.now: RoadPart | None = None
        self._before: RoadPart | None = None
        self._asked: RoadPart | None = None
        """The one that was asked for last, for the requesting thread."""
        self._driven = np.zeros((MAX_BLOCK, 2))
        self._at = frames

    def made(self, settings: RoadTest, loudness: float) -> RoadPart | None:
        """A road test by its settings, made anew only where the last one was another; for the requesting thread."""
        before = self._asked
        if settings.kind == "off":
            self._asked = None
        elif before is None or before.settings != settings or abs(before.loudness - loudness) >= LIKE_LOUDNESS:
            self._asked = RoadPart(settings, loudness, self._rate)
        return self._asked

    def change(self, road: RoadPart | None) -> None:
        """Fade into another; for the audio thread, as all that follows."""
        if road is not self.now:
            self._before, self.now = self.now, road
            self._at = 0

    def process(self, out: Audio) -> None:
        """A block of what is heard, in place."""
        if self._at < self._frames:
            n = len(out)
            faded = self._driven[:n]
            np.copyto(faded, out)
            if self._before is not None:
                self._before.process(faded)
            if self.now is not None:
                self.now.process(out)
            crossfade(faded, out, self._at, self._frames)
            self._at += n
        elif self.now is not None:
            self.now.process(out)
