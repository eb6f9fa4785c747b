"""Resonance tamer: cuts what stands out of its surroundings, for as long as it does."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Annotated, ClassVar, Self

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.db import gain_of
from gluvo.dsp.kernel import Audio, Floats
from gluvo.dsp.logarithms import to_factors
from gluvo.dsp.taming import OVERLAP, Frames, frame_length, scale_bins, standing_out, surroundings, weights_at
from gluvo.steps import solved
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step
from gluvo.steps.common import StereoComponent, columns_of, mix, works_on
from gluvo.steps.settings import number

TAKES, LEVEL, WHERE = "What it takes", "How loud", "How much where"
PLACES = (150.0, 400.0, 1200.0, 4000.0, 10_000.0)
"""Hz at which its weight is set."""


def _weight(place: float, name: str) -> msgspec.Meta:
    where = f"{place:.0f} Hz" if place < 1000.0 else f"{place / 1000.0:g} kHz"
    return number(
        name,
        "%",
        0.0,
        200.0,
        f"How much of it is done around {where}: 0 leaves the range alone, 200 takes twice as much.",
        group=WHERE,
        decimals=0,
        fine=1.0,
    )


class ResonanceTamer(Step, tag="resonance_tamer", frozen=True, kw_only=True):
    """Works on frames of 85 ms, and is late by one. At most 0 dB it passes bit for bit, and at once.

    Notes are let be: partials that stand in a series, and tones that are most of what sounds.
    """

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "Resonance tamer"
    summary: ClassVar[str] = "Cuts what rings out of its surroundings, as long as it does"
    analyses: ClassVar[tuple[Analysis, ...]] = ("cuts",)
    leading: ClassVar[tuple[str, ...]] = ("at_most", "stands_out", "at_least")
    solved_settings: ClassVar[Mapping[str, solved.Solved]] = solved.OUTPUT
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"hold_loudness"}
    reduces: ClassVar[bool] = True

    stands_out: Annotated[
        float,
        number(
            "Stands out by",
            "dB",
            3.0,
            24.0,
            "How far something must stand over what lies an octave about it before it is cut. Low values take from "
            "everything, high ones from what rings alone.",
            group=TAKES,
        ),
    ] = 8.0
    at_least: Annotated[
        float,
        number(
            "For at least",
            "ms",
            20.0,
            2000.0,
            "How long something must stand out. Short catches single hits, long only what is always there.",
            group=TAKES,
            scale="log",
        ),
    ] = 250.0
    at_most: Annotated[
        float,
        number(
            "At most", "dB", 0.0, 24.0, "It never cuts anything by more than this. At 0 nothing is done.", group=TAKES
        ),
    ] = 0.0
    mode: Annotated[StereoComponent, works_on("Which part of the stereo signal is looked at and cut.", TAKES)] = (
        "stereo"
    )
    mix: Annotated[float, mix("How much of the cut is in the result.", TAKES)] = 100.0

    output: Annotated[float, solved.output(LEVEL)] = 0.0
    hold_loudness: Annotated[bool, solved.hold(LEVEL, "what is cut is not judged by being softer.")] = False

    weight_1: Annotated[float, _weight(PLACES[0], "Lows")] = 100.0
    weight_2: Annotated[float, _weight(PLACES[1], "Low mids")] = 100.0
    weight_3: Annotated[float, _weight(PLACES[2], "Mids")] = 100.0
    weight_4: Annotated[float, _weight(PLACES[3], "High mids")] = 100.0
    weight_5: Annotated[float, _weight(PLACES[4], "Highs")] = 100.0

    def make(self, rate: int) -> TamerProcessor:
        return TamerProcessor(self, rate)

    @property
    def idle(self) -> bool:
        """Whether nothing is ever cut."""
        return self.at_most == 0.0

    @property
    def is_transparent(self) -> bool:
        return self.idle and self.output == 0.0

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.output)

    @property
    def memory(self) -> float:
        return 0.0 if self.idle else 5.0 * self.at_least / 1000.0

    @property
    def weights(self) -> tuple[float, ...]:
        """At each of `PLACES`, 0–2."""
        values = (self.weight_1, self.weight_2, self.weight_3, self.weight_4, self.weight_5)
        return tuple(value / 100.0 for value in values)

    def weights_at(self, freqs: Floats) -> Floats:
        """How much of it is done at frequencies, 0–2."""
        return weights_at(freqs, np.array(PLACES), np.array(self.weights))

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return (cls(at_most=6.0, stands_out=3.0), cls(at_most=6.0, mode="mid", output=1.0))

    def describe(self) -> str:
        return f"up to {self.at_most:.1f} dB, over {self.stands_out:.1f} dB" if self.at_most else "neutral"


class TamerProcessor(Processor):
    def __init__(self, settings: ResonanceTamer, rate: int) -> None:
        super().__init__()
        self._idle, self._gain = settings.idle, gain_of(settings.output)
        size = frame_length(rate)
        self.latency = 0 if self._idle else size
        self.freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate))
        self.cut: Floats = np.zeros(len(self.freqs))
        """By how many dB each bin was cut in the last frame."""
        self.count = 0
        """Frames so far."""
        self._frames = Frames(size)
        self._keep = math.exp(-size / OVERLAP / (settings.at_least / 1000.0 * rate))
        self._power = np.zeros(len(self.freqs))
        self._low, self._high = surroundings(size)
        self._weights = settings.weights_at(self.freqs)
        self._stands_out, self._at_most, self._mix = settings.stands_out, settings.at_most, settings.mix / 100.0
        self._mode = settings.mode
        self._meant = columns_of(settings.mode)
        self._work, self._factors = np.zeros((3, len(self.freqs) + 1)), np.zeros(len(self.freqs))
        self._sides = np.zeros((MAX_BLOCK, 2))
        self._part: Frames | None = None
        """The frames of a part of the song, where that is what comes in; then the others are of the whole."""
        self._thrown = self._whole = np.zeros((0, 2))
        self._lost = 0.0

    def begin(self, place: int) -> None:
        self._frames.begin(place)
        if self._part is not None:
            self._part.begin(place)

    def follow(self) -> None:
        super().follow()
        self._part, self._thrown = Frames(self._frames.size), np.zeros((MAX_BLOCK, 2))
        self._whole = np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        if self._idle:
            np.multiply(x, self._gain, out=out)
            return
        taken = x
        if self._mode != "stereo" or out is x:
            taken = self._sides[: len(x)]
            if self._mode != "stereo":
                comp.to_mid_side(x, taken)
            else:
                np.copyto(taken, x)
        whole = taken
        if self._part is not None and self.whole is not None:
            whole = self._whole[: len(x)]
            if self._mode != "stereo":
                comp.to_mid_side(self.whole, whole)
            else:
                np.copyto(whole, self.whole)
        at = 0
        while at < len(x):
            if self._part is not None:
                self._frames.push(whole, self._thrown, at)
                n, full = self._part.push(taken, out, at)
            else:
                n, full = self._frames.push(taken, out, at)
            self.reduction[at : at + n] = self._lost
            at += n
            if full:
                self._turn()
        if self._mode != "stereo":
            comp.from_mid_side(out, out)
        if self._gain != 1.0:
            np.multiply(out, self._gain, out=out)

    def _turn(self) -> None:
        """Look at the frame that is full, and cut it."""
        frames = self._frames
        frames.analyse()
        standing_out(
            frames.spectrum,
            self._meant,
            self._keep,
            self._power,
            self._low,
            self._high,
            self._stands_out,
            self._weights,
            self._at_most,
            self._work,
            self.cut,
        )
        to_factors(self.cut, self._factors)
        before, after = scale_bins(frames.spectrum, self._meant, self._factors, self._mix)
        self._lost = 10.0 * math.log10(before / after) if after > 0.0 else 0.0
        self.count += 1
        frames.add()
        if self._part is not None:
            self._part.analyse()
            scale_bins(self._part.spectrum, self._meant, self._factors, self._mix)
            self._part.add()

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, TamerProcessor) or self._idle or other._idle:
            return self._idle
        np.copyto(self._power, other._power)
        in_step = self._frames.phase == other._frames.phase and self._mode == other._mode
        if in_step:
            self._frames.adopt(other._frames)
        return in_step
