"""Limiter: loudness against a ceiling that nothing passes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Self

import msgspec
import numpy as np

from gluvo.dsp.compression import pole
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.interpolation import HALF, PeakReader
from gluvo.dsp.kernel import Audio
from gluvo.dsp.limiting import CeilingHolder, magnitudes
from gluvo.steps import held
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.settings import number, switch

LOUDER, MOVES, HOLDS = "How loud", "When it moves", "How it holds"
SETTLED = 5.0
"""Time constants after which less than a hundredth is left."""
LONGEST_LOOK_AHEAD = 10.0
"""ms"""


class Limiter(Step, tag="limiter", frozen=True, kw_only=True):
    """Drives the signal against a ceiling. What stays under the ceiling passes bit for bit."""

    title: ClassVar[str] = "Limiter"
    summary: ClassVar[str] = "Loudness up to a ceiling that nothing passes"
    reduces: ClassVar[bool] = True
    holders: ClassVar[Mapping[str, str]] = held.OUTPUT
    silent: ClassVar[frozenset[str]] = Step.silent | {"hold_loudness"}

    drive: Annotated[
        float,
        number(
            "Drive",
            "dB",
            0.0,
            24.0,
            "Gain before the ceiling: louder, and more is reduced.",
            group=LOUDER,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    ceiling: Annotated[
        float,
        number("Ceiling", "dBTP", -12.0, 0.0, "No peak comes out above this.", group=LOUDER, decimals=2, fine=0.1),
    ] = 0.0
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
            "Adds a slow release for sustained reduction, while single peaks still recover fast.",
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

    output: Annotated[float, held.output(LOUDER)] = 0.0
    hold_loudness: Annotated[
        bool,
        held.hold(
            LOUDER, "what shaving the peaks of a bus takes is given back. The ceiling then lies by as much higher."
        ),
    ] = False

    def make(self, rate: int) -> LimiterProcessor:
        return LimiterProcessor(self, rate)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(), cls(drive=6.0), cls(drive=6.0, true_peak=False, link=0.0)

    @property
    def memory(self) -> float:
        slow = max(0.6, 5.0 * self.release / 1000.0) if self.auto_release > 0.0 else 0.0
        return SETTLED * max(self.release / 1000.0, slow)

    def apart(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.output)

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
        self._main = CeilingHolder(
            lookahead=ahead,
            smoothing=round(ahead * settings.attack / 100.0),
            ceiling=settings.ceiling,
            knee=settings.knee,
            link=link,
            times=(
                pole(release, rate),
                pole(0.15, rate),
                pole(max(0.6, 5.0 * release), rate),
                settings.auto_release / 100.0,
            ),
            longest=round(LONGEST_LOOK_AHEAD / 1000.0 * rate),
            longest_block=MAX_BLOCK,
        )
        mending = round(0.0012 * rate)
        self._mend = CeilingHolder(
            lookahead=mending,
            smoothing=mending,
            ceiling=settings.ceiling,
            knee=0.0,
            link=link,
            times=(pole(0.02, rate), 0.0, 0.0, 0.0),
            extra_hold=HALF,
            longest=mending,
            longest_block=MAX_BLOCK,
        )
        self._readers = [PeakReader(rate, MAX_BLOCK) for _ in range(2)]
        self._late = [Delay(HALF), Delay(HALF)]
        self._work = np.zeros((MAX_BLOCK, 2))
        self._peaks = np.zeros((2, MAX_BLOCK))
        self._taken = np.zeros((MAX_BLOCK, 2))
        self._mended = np.zeros(MAX_BLOCK)
        self._taken_late = Delay(mending + HALF)  # the first holder's reduction, brought to when it is heard
        self.latency = ahead + (mending + 2 * HALF if settings.true_peak else 0)

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        work, peaks = self._work[:n], self._peaks
        np.multiply(x, self._drive, out=work)
        if self._true_peak:
            self._readers[0].read(work, self._floor, peaks)
            self._late[0].run(work, work)
            taken, mended = self._taken[:n], self._mended[:n]
            self._main.run(work, peaks, work, self.reduction)
            taken[:, 0] = self.reduction[:n]
            self._taken_late.run(taken, taken)
            self._readers[1].read(work, self._floor, peaks)
            self._late[1].run(work, work)
            self._mend.run(work, peaks, out, mended)
            np.add(taken[:, 0], mended, out=self.reduction[:n])
        else:
            magnitudes(work, peaks)
            self._main.run(work, peaks, out, self.reduction)
        if self._output != 1.0:
            np.multiply(out, self._output, out=out)

    def adopt(self, other: Processor) -> None:
        if not isinstance(other, LimiterProcessor):
            return
        self._main.adopt(other._main)
        self._mend.adopt(other._mend)
        for mine, theirs in zip(self._readers, other._readers, strict=True):
            np.copyto(mine.history, theirs.history)
        self._taken_late.adopt(other._taken_late)
        for late, earlier in zip(self._late, other._late, strict=True):
            late.adopt(earlier)


def last_limiter(chain: Sequence[Step]) -> Limiter | None:
    """The last limiter of a chain that is on."""
    return next((s for s in reversed(chain) if isinstance(s, Limiter) and s.on), None)
