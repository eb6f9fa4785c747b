"""Transient shaper: attack and sustain, each louder or softer, at any level."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.db import gain_of
from gluvo.dsp.kernel import Audio, Floats
from gluvo.dsp.logarithms import to_db
from gluvo.dsp.transients import FLOOR, held_peaks, shaping_gains
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.common import StereoComponent, columns_of, mix, works_on
from gluvo.steps.settings import number

SHAPE, MOVES = "What becomes of a hit", "How it tells them apart"
HOLD, FALL, SMOOTH = 0.026, 0.020, 0.0005
"""Seconds: for which a peak is held (half a wave of 20 Hz), in which it falls to 1/e, and in which the gain moves."""


class TransientShaper(Step, tag="transient_shaper", frozen=True, kw_only=True):
    """With attack and sustain at 0 it passes bit for bit."""

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "Transient shaper"
    summary: ClassVar[str] = "Makes the attack or the sustain of hits louder or softer, at any level"
    leading: ClassVar[tuple[str, ...]] = ("attack", "sustain", "mix")
    shapes_hits: ClassVar[bool] = True

    attack: Annotated[
        float,
        number(
            "Attack",
            "dB",
            -12.0,
            12.0,
            "How much louder or softer the beginning of each hit gets: more is punch, less sets it back.",
            group=SHAPE,
        ),
    ] = 0.0
    sustain: Annotated[
        float,
        number(
            "Sustain",
            "dB",
            -12.0,
            12.0,
            "How much louder or softer what follows gets: more brings body and room up, less dries it.",
            group=SHAPE,
        ),
    ] = 0.0
    mix: Annotated[float, mix("How much of the shaped sound is in the result.", SHAPE)] = 100.0
    output: Annotated[
        float, number("Output", "dB", -12.0, 12.0, "Gain after all of it.", group=SHAPE, decimals=2, fine=0.1)
    ] = 0.0

    length: Annotated[
        float,
        number("Attack length", "ms", 3.0, 120.0, "How long a beginning lasts.", group=MOVES, scale="log"),
    ] = 20.0
    tail: Annotated[
        float,
        number("Sustain length", "ms", 30.0, 1500.0, "How long what follows lasts.", group=MOVES, scale="log"),
    ] = 250.0
    mode: Annotated[StereoComponent, works_on("Which part of the stereo signal is followed and shaped.", MOVES)] = (
        "stereo"
    )

    def make(self, rate: int) -> ShaperProcessor:
        return ShaperProcessor(self, rate)

    @property
    def is_transparent(self) -> bool:
        return self.output == 0.0 and ((self.attack == 0.0 and self.sustain == 0.0) or self.mix == 0.0)

    @property
    def memory(self) -> float:
        return 0.0 if self.is_transparent else 5.0 * max(self.length, self.tail) / 1000.0

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(attack=6.0, sustain=-3.0), cls(attack=-6.0, mode="mid")

    def describe(self) -> str:
        words = [
            f"{name} {value:+.1f} dB".replace("-", "−")
            for name, value in (("attack", self.attack), ("sustain", self.sustain))
            if value
        ]
        return " · ".join(words) or "neutral"

    def times(self, rate: int) -> Floats:
        """The coefficients that `shaping_gains` takes."""
        return np.array([comp.pole(seconds, rate) for seconds in (self.length / 1000.0, self.tail / 1000.0, SMOOTH)])


class ShaperProcessor(Processor):
    def __init__(self, settings: TransientShaper, rate: int) -> None:
        super().__init__()
        self._passes = settings.is_transparent
        self._attack, self._sustain, self._times = settings.attack, settings.sustain, settings.times(rate)
        self._mix, self._output = settings.mix / 100.0, gain_of(settings.output)
        self._mode = settings.mode
        self._heard = columns_of(settings.mode)
        self._hold, self._fall = round(HOLD * rate), comp.pole(FALL, rate)
        self._peak, self._state = np.array([1e-15, 0.0]), np.array([FLOOR, FLOOR, 0.0])
        self._sides = np.zeros((MAX_BLOCK, 2))
        self._levels, self._gains, self._factors = (
            np.zeros(MAX_BLOCK),
            np.zeros((1, MAX_BLOCK)),
            np.zeros((2, MAX_BLOCK)),
        )

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        if self._passes:
            np.copyto(out, x)
            return
        heard = x if self.whole is None else self.whole
        if self._mode != "stereo":
            comp.to_mid_side(heard, self._sides[:n])
            heard = self._sides[:n]
        peaks, gains = self._levels[:n], self._gains
        held_peaks(heard, self._heard, self._hold, self._fall, self._peak, peaks)
        to_db(peaks, gains[0, :n])
        np.copyto(peaks, gains[0, :n])
        shaping_gains(peaks, self._attack, self._sustain, self._times, self._state, gains[0, :n])
        np.negative(gains[0, :n], out=gains[0, :n])
        if self._mode == "stereo":
            comp.apply_gain(x, gains, 1.0, self._mix, self._factors, out)
        else:
            mid, side = self._heard
            comp.apply_gain_mid_side(x, gains, 1.0, self._mix, mid, side, self._factors, out)
        if self._output != 1.0:
            np.multiply(out, self._output, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, ShaperProcessor) or other._passes or self._mode != other._mode:
            return self._passes
        np.copyto(self._peak, other._peak)
        np.copyto(self._state, other._state)
        return True
