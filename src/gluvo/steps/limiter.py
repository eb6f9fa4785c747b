"""Limiter: loudness against a ceiling that nothing passes."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np

from gluvo.dsp.compression import pole
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.interpolation import HALF, PeakReader
from gluvo.dsp.kernel import Audio
from gluvo.dsp.limiting import LookAheadLimiter, Mender, ReleaseTimes, magnitudes
from gluvo.measure.overview import ReducedBy
from gluvo.steps import ceiling as ceiling_step
from gluvo.steps import solved
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.ceiling import HOLDS, LOUDER, CeilingStep
from gluvo.steps.settings import number, switch

MOVES = "When it moves"
SETTLED = 5.0
"""Time constants after which less than a hundredth is left."""
LONGEST_LOOK_AHEAD = 10.0
"""ms"""
LONGEST_WINDOW = 0.05
"""Seconds, at full auto release: a wave of 20 Hz."""
CHARGE = 0.05
"""Seconds in which the slow release comes up to what is sustained."""
SLOWER, SLOWEST = 4.0, 4.0
"""By how much slower sustained reduction is let go at full auto release, and seconds that it does not pass by itself."""


class Limiter(CeilingStep, tag="limiter", frozen=True, kw_only=True):
    """Drives the signal against a ceiling. What stays under the ceiling passes bit for bit."""

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "Limiter"
    summary: ClassVar[str] = "Loudness up to a ceiling that nothing passes"
    leading: ClassVar[tuple[str, ...]] = ("drive", "ceiling", "release")
    reaches_target: ClassVar[bool] = True

    drive: Annotated[float, ceiling_step.drive("more is reduced")] = 0.0
    ceiling: Annotated[float, ceiling_step.ceiling(-12.0, "No peak comes out above this.")] = 0.0
    true_peak: Annotated[
        bool,
        switch(
            "True peak",
            "Also holds the peaks between samples, which converters and encoders would "
            "bring out. Off, only samples are held.",
            group=LOUDER,
        ),
    ] = True
    look_ahead: Annotated[
        float,
        number(
            "Look ahead",
            "ms",
            0.1,
            LONGEST_LOOK_AHEAD,
            "How early reduction begins before a peak. Longer is smoother, shorter keeps more edge.",
            group=MOVES,
            scale="log",
        ),
    ] = 1.5
    attack: Annotated[
        float,
        number(
            "Attack",
            "%",
            0.0,
            100.0,
            "The share of the look ahead that reduction takes to set in. Less is harder.",
            group=MOVES,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    release: Annotated[
        float,
        number(
            "Release",
            "ms",
            0.05,
            2000.0,
            "How long it takes to let go. Short is louder and may distort; long is cleaner and may duck.",
            group=MOVES,
            scale="log",
        ),
    ] = 60.0
    auto_release: Annotated[
        float,
        number(
            "Auto release",
            "%",
            0.0,
            100.0,
            "Adds a slow release for reduction that is sustained, so that the gain does not follow the waves of a bass; "
            "single peaks still recover fast. More reaches lower notes and lets go more slowly; 0 is the release alone. "
            "With a release under a hundredth of a second it steps back: fast stays fast.",
            group=MOVES,
            decimals=0,
            fine=1.0,
        ),
    ] = 50.0
    knee: Annotated[
        float,
        number(
            "Knee",
            "dB",
            0.0,
            6.0,
            "Begins to reduce a little under the ceiling, so that it is reached gently.",
            group=HOLDS,
        ),
    ] = 0.0
    link: Annotated[
        float,
        number(
            "Stereo link",
            "%",
            0.0,
            100.0,
            "At 100 both channels are reduced alike and the image stands still.",
            group=HOLDS,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0

    aim: Annotated[
        float, ceiling_step.aim("How much it takes off, as is said beside it; the drive is sought for that.")
    ] = 2.0
    aim_by: Annotated[ReducedBy, solved.aim_by("Aim")] = "most"
    hold_aim: Annotated[bool, ceiling_step.hold_aim()] = False

    output: Annotated[float, solved.output(LOUDER)] = 0.0
    hold_loudness: Annotated[
        bool,
        solved.hold(
            LOUDER, "what shaving the peaks of a bus takes is given back. The ceiling then lies by as much higher."
        ),
    ] = False

    def make(self, rate: int) -> LimiterProcessor:
        return LimiterProcessor(self, rate)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(), cls(drive=6.0), cls(drive=6.0, true_peak=False, link=0.0)

    @property
    def sustained(self) -> float:
        """Seconds within which reduction must be needed again to be sustained: a wave of 40 Hz at half auto release."""
        return min(LONGEST_WINDOW * self.auto_release / 100.0, self.release / 1000.0)

    @property
    def slow_release(self) -> float:
        """The time constant of sustained reduction, in seconds."""
        release = self.release / 1000.0
        return min(release * (1.0 + SLOWER * self.auto_release / 100.0), max(release, SLOWEST))

    @property
    def memory(self) -> float:
        return SETTLED * self.slow_release + 2.0 * self.sustained

    @property
    def holds_true_peak(self) -> bool:
        return self.true_peak

    def describe(self) -> str:
        unit = "dBTP" if self.true_peak else "dBFS"
        words = f"{self.drive:+.1f} dB · {self.ceiling:.1f} {unit}"
        if self.output:
            words += f" · {self.output:+.1f} dB after it"
        return words.replace("-", "−")


class LimiterProcessor(Processor):
    """One holder that does the work; with true peak, a second one that mends the little its gain lets through.

    Scaling a signal by a moving gain makes peaks between samples that were not there before. They are small and
    rare; a second, always smooth holder takes them.
    """

    def __init__(self, settings: Limiter, rate: int) -> None:
        super().__init__()
        self._drive, self._output = gain_of(settings.drive), gain_of(settings.output)
        self._true_peak = settings.true_peak
        self._floor = gain_of(settings.ceiling - settings.knee / 2.0)
        link = settings.link / 100.0
        ahead = max(1, round(settings.look_ahead / 1000.0 * rate))
        release = settings.release / 1000.0
        self._main = LookAheadLimiter(
            lookahead=ahead,
            smoothing=round(ahead * settings.attack / 100.0),
            ceiling=settings.ceiling,
            knee=settings.knee,
            link=link,
            times=ReleaseTimes(pole(release, rate), pole(CHARGE, rate), pole(settings.slow_release, rate)),
            sustained=settings.sustained,
            rate=rate,
            longest_block=MAX_BLOCK,
        )
        self._mender = Mender(settings.ceiling, link, rate, MAX_BLOCK)
        self._reader, self._late = PeakReader(rate, MAX_BLOCK), Delay(HALF)
        self._work = np.zeros((MAX_BLOCK, 2))
        self._peaks = np.zeros((2, MAX_BLOCK))
        self._taken = np.zeros((MAX_BLOCK, 2))
        self._mended = np.zeros(MAX_BLOCK)
        self._part: Audio | None = None
        """A part of the song on its way through, where that is what comes in."""
        self._part_late: tuple[Delay, ...] = ()
        self._taken_late = Delay(self._mender.latency)  # the first holder's reduction, brought to when it is heard
        self.latency = ahead + (HALF + self._mender.latency if settings.true_peak else 0)

    def begin(self, place: int) -> None:
        self._main.begin(place)

    def follow(self) -> None:
        super().follow()
        self._part = np.zeros((MAX_BLOCK, 2))
        first = self._main.latency + (HALF if self._true_peak else 0)
        self._part_late = Delay(first), Delay(self.latency - first)

    def process(self, x: Audio, out: Audio) -> None:
        if self._part is None or self.whole is None:
            self._limit(x, out)
            return
        part = self._part[: len(x)]
        np.multiply(x, self._drive, out=part)
        self._limit(self.whole, out)
        self._part_late[0].run(part, part)
        self._main.take(part)
        if self._true_peak:
            self._part_late[1].run(part, part)
            self._mender.take(part)
        np.multiply(part, self._output, out=out)

    def _limit(self, x: Audio, out: Audio) -> None:
        n = len(x)
        work, peaks = self._work[:n], self._peaks
        np.multiply(x, self._drive, out=work)
        if self._true_peak:
            self._reader.read(work, self._floor, peaks)
            self._late.run(work, work)
            taken, mended = self._taken[:n], self._mended[:n]
            self._main.run(work, peaks, work, self.reduction)
            taken[:, 0] = self.reduction[:n]
            self._taken_late.run(taken, taken)
            self._mender.run(work, out, mended)
            np.add(taken[:, 0], mended, out=self.reduction[:n])
        else:
            magnitudes(work, peaks)
            self._main.run(work, peaks, out, self.reduction)
        if self._output != 1.0:
            np.multiply(out, self._output, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, LimiterProcessor):
            return False
        self._main.adopt(other._main)
        self._mender.adopt(other._mender)
        np.copyto(self._reader.history, other._reader.history)
        self._late.adopt(other._late)
        self._taken_late.adopt(other._taken_late)
        return True
