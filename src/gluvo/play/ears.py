"""What stands between what is heard and the ears: a road test, or one range alone. Made on the thread that asks for it, run on
the audio thread."""

from __future__ import annotations

from typing import Generic, NamedTuple, Protocol, TypeVar

import numpy as np

from gluvo.compare.road import noise_gain, road_of
from gluvo.dsp.filters import NOTHING, Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Audio
from gluvo.play.fades import crossfade
from gluvo.session.records import RoadTest
from gluvo.steps import MAX_BLOCK

HEADROOM = 0.5
"""Music and noise are played so much softer together, so that there is room for both."""
LOWEST, HIGHEST, STEEP = 20.0, 20_000.0, 48
"""Hz beyond which an end of a range is open; dB per octave at which the others fall."""
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


class RangePart:
    """Lets one range of what is heard through: cuts of 48 dB per octave at both of its ends."""

    def __init__(self, low: float, high: float, rate: int) -> None:
        """Hz; an end at the edge of hearing is open."""
        self.range = low, high
        self._sections = Sections(
            cascade(
                low_cut(low, STEEP, rate) if low > LOWEST else NOTHING,
                high_cut(high, STEEP, rate) if high < HIGHEST else NOTHING,
            )
        )

    def process(self, x: Audio) -> None:
        """The next block, in place."""
        self._sections.run(x, x)


class EarPart(Protocol):
    """Something that stands between what is heard and the ears."""

    def process(self, x: Audio) -> None: ...


P = TypeVar("P", bound=EarPart)


class PartFade(Generic[P]):
    """What stands there, and what stood there before while it fades into it; either may be nothing."""

    def __init__(self, frames: int) -> None:
        """`frames`: of the fade."""
        self._frames = frames
        self.now: P | None = None
        self._before: P | None = None
        self._next: P | None = None
        self._waits = False
        """Whether something else is wanted as soon as the fade is over."""
        self._driven = np.zeros((MAX_BLOCK, 2))
        self._at = frames

    def change(self, part: P | None) -> None:
        """Fade into another; for the audio thread, as all that follows. While it fades already, that comes next."""
        if self._at < self._frames:
            self._next, self._waits = part, True
            return
        self._waits = False
        if part is not self.now:
            self._before, self.now = self.now, part
            self._at = 0

    def process(self, out: Audio) -> None:
        """A block of what is heard, in place."""
        if self._waits and self._at >= self._frames:
            self.change(self._next)
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


class EarParts(NamedTuple):
    """What is to stand between what is heard and the ears."""

    range: RangePart | None = None
    road: RoadPart | None = None


class Ears:
    """All that stands between what is heard and the ears: first the range that is let through, then a road test."""

    def __init__(self, rate: int, frames: int) -> None:
        """`frames`: of fades."""
        self._rate = rate
        self._range: PartFade[RangePart] = PartFade(frames)
        self._road: PartFade[RoadPart] = PartFade(frames)
        self._asked = EarParts()
        """What was asked for last, for the requesting thread."""

    def made(self, road: RoadTest, loudness: float, heard: tuple[float, float] | None) -> EarParts:
        """What is asked for, made anew only where it was another before; for the requesting thread. `heard`: Hz from and to,
        where only a range is."""
        part, passing = self._asked.road, self._asked.range
        if road.kind == "off":
            part = None
        elif part is None or part.settings != road or abs(part.loudness - loudness) >= LIKE_LOUDNESS:
            part = RoadPart(road, loudness, self._rate)
        if heard is None:
            passing = None
        elif passing is None or passing.range != heard:
            passing = RangePart(*heard, self._rate)
        self._asked = EarParts(passing, part)
        return self._asked

    @property
    def open(self) -> bool:
        """Whether nothing stands there: what is heard is what a file would have."""
        return self._range.now is None and self._road.now is None

    def change(self, parts: EarParts) -> None:
        """Fade into others; for the audio thread, as what follows."""
        self._range.change(parts.range)
        self._road.change(parts.road)

    def process(self, out: Audio) -> None:
        """A block of what is heard, in place."""
        self._range.process(out)
        self._road.process(out)
