"""Clipper: single tops shaved off, before a limiter has to move for them."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np

from gluvo.dsp import shaping
from gluvo.dsp.bending import Bender
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.kernel import Audio
from gluvo.dsp.limiting import Mender
from gluvo.measure.overview import ReducedBy
from gluvo.steps import ceiling as ceiling_step
from gluvo.steps import solved
from gluvo.steps.base import MAX_BLOCK, Processor, Step, Transfer
from gluvo.steps.ceiling import HOLDS, LOUDER, CeilingStep, Oversampling
from gluvo.steps.settings import number


class Clipper(CeilingStep, tag="clipper", frozen=True, kw_only=True):
    """Cuts off what stands over a ceiling. What stays under its knee passes bit for bit."""

    title: ClassVar[str] = "Clipper"
    summary: ClassVar[str] = "Shaves single tops off, before a limiter has to move for them"
    leading: ClassVar[tuple[str, ...]] = ("drive", "ceiling")
    cuts_tops: ClassVar[bool] = True
    bent_by: ClassVar[frozenset[str]] = frozenset({"drive", "ceiling", "knee"})

    drive: Annotated[float, ceiling_step.drive("more is cut off")] = 0.0
    ceiling: Annotated[
        float,
        ceiling_step.ceiling(
            -24.0, "What stands above is cut off; no peak comes out above this, between samples neither."
        ),
    ] = 0.0
    knee: Annotated[
        float,
        number(
            "Knee",
            "%",
            0.0,
            100.0,
            "How far under the ceiling the bend begins. At 0 tops are cut off square: bright and short; "
            "more is rounder and touches more.",
            group=HOLDS,
            decimals=0,
            fine=1.0,
        ),
    ] = 0.0
    oversampling: Annotated[Oversampling, ceiling_step.oversampling("How finely tops are cut off", HOLDS)] = 4

    aim: Annotated[
        float, ceiling_step.aim("How much is cut off, as is said beside it; the drive is sought for that.")
    ] = 1.0
    aim_by: Annotated[ReducedBy, solved.aim_by("Aim")] = "most"
    hold_aim: Annotated[bool, ceiling_step.hold_aim()] = False

    output: Annotated[float, solved.output(LOUDER)] = 0.0
    hold_loudness: Annotated[
        bool,
        solved.hold(
            LOUDER, "what shaving the tops of a bus takes is given back. The ceiling then lies by as much higher."
        ),
    ] = False

    def make(self, rate: int) -> ClipperProcessor:
        return ClipperProcessor(self, rate)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(), cls(drive=6.0), cls(drive=6.0, knee=50.0), cls(drive=6.0, oversampling=1)

    @property
    def shaper(self) -> shaping.Shaper:
        """The curve after the drive, as drawn and as applied."""
        return shaping.clip(gain_of(self.ceiling), self.knee / 100.0)

    def transfer(self) -> Transfer:
        came = np.linspace(-1.0, 1.0, 201)
        return Transfer(came, self.shaper(came * gain_of(self.drive)) * gain_of(self.output), "")

    @property
    def memory(self) -> float:
        return 0.1

    def describe(self) -> str:
        words = f"{self.drive:+.1f} dB · {self.ceiling:.1f} dBTP"
        if self.knee:
            words += f" · knee {self.knee:.0f} %"
        if self.output:
            words += f" · {self.output:+.1f} dB after it"
        return words.replace("-", "−")


class ClipperProcessor(Processor):
    """Only what is cut off is filtered and added to the sound, so that what is not cut stays as it came. What the filter
    then swings over the ceiling is mended."""

    def __init__(self, settings: Clipper, rate: int) -> None:
        super().__init__()
        self._drive, self._output = gain_of(settings.drive), gain_of(settings.output)
        self._bender = Bender(settings.shaper, int(settings.oversampling), rate)
        self._late = Delay(self._bender.latency)
        self._mender = Mender(settings.ceiling, 1.0, rate, MAX_BLOCK)
        self._driven, self._added = np.zeros((MAX_BLOCK, 2)), np.zeros((MAX_BLOCK, 2))
        self._mended, self._taken = np.zeros(MAX_BLOCK), np.zeros((MAX_BLOCK, 2))
        # what is taken is known half way through the oversampling, and told when it is heard
        self._taken_late = Delay(self._bender.latency // 2 + self._mender.latency)
        self.latency = self._bender.latency + self._mender.latency
        self._place = 0
        """Of the next frame that comes out of the bending, in the song."""

    def begin(self, place: int) -> None:
        self._place = place - self._bender.latency

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        driven, added, taken = self._driven[:n], self._added[:n], self._taken[:n]
        np.multiply(x, self._drive, out=driven)
        self._bender.run(driven, added, self.reduction[:n])
        self._late.run(driven, driven)
        np.add(driven, added, out=driven)
        if self._place < 0:  # what the filters swing before the song begins is not in it, and must not hide what is
            driven[: -self._place] = 0.0
        self._place += n
        taken[:, 0] = self.reduction[:n]
        self._taken_late.run(taken, taken)
        self._mender.run(driven, out, self._mended)
        np.copyto(self.reduction[:n], taken[:, 0])  # what is mended is not cut off
        if self._output != 1.0:
            np.multiply(out, self._output, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, ClipperProcessor):
            return False
        self._late.adopt(other._late)
        self._mender.adopt(other._mender)
        self._taken_late.adopt(other._taken_late)
        return self._bender.adopt(other._bender)
