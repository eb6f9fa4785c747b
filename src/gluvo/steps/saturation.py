"""Saturation: density and colour, within a range and for mid and side as wanted."""

from __future__ import annotations

import functools
import math
from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal, Self

import msgspec
import numpy as np

from gluvo.dsp import shaping
from gluvo.dsp.bending import Bender
from gluvo.dsp.compression import pole, to_mid_side
from gluvo.dsp.convolution import PARTITION, Convolver, chosen_half, symmetric
from gluvo.dsp.crossover import band_magnitude
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.filters import NOTHING, Sections, cascade, low_cut
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.limiting import LookAheadLimiter, ReleaseTimes, magnitudes
from gluvo.dsp.matched import cascaded, high_shelf_prototypes, low_shelf_prototypes, tilt
from gluvo.steps import solved
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step, Transfer
from gluvo.steps.ceiling import Oversampling, oversampling
from gluvo.steps.settings import choice, number

CURVE, WHERE, LEVEL, AFTER = "How it bends", "Where it works", "How much of it", "Tone after it"
DRIVE_OFF = -12.0
LOW_OUT, HIGH_OUT = 20.0, 20_000.0
"""Hz at which the limits of the range are out."""
RANGE_LENGTHS = (0.01, 0.02, 0.04, 0.08, 0.15, 0.3)
"""Seconds to either side of the filter that takes out the range; the shortest that is exact enough is taken."""
HOLD_AHEAD, HOLD_RELEASE = 0.001, 0.03
"""Seconds by which the ceiling of the dense shape is held early, and in which it lets go."""
MOST_BIAS = 0.9
SHELF_ORDER = 1
"""Of the shelves after the curve: 6 dB per octave."""
NO_DC = 2.0
"""Hz under which what is added is cut where the curve is not even-handed: it would only shift the wave."""


class Saturation(Step, tag="saturation", frozen=True, kw_only=True):
    """Bends the wave. With the drive at its lowest it passes bit for bit.

    Only the difference that bending makes is filtered, weighted and added to the signal, so that what lies outside the
    range, and whatever is not bent, stays as it came.
    """

    title: ClassVar[str] = "Saturation"
    summary: ClassVar[str] = "Density and colour: harmonics, within a range, for mid and side"
    analyses: ClassVar[tuple[Analysis, ...]] = ("new sound", "bend")
    has_ear: ClassVar[bool] = True
    ear_name: ClassVar[str] = "Bend"
    bent_by: ClassVar[frozenset[str]] = frozenset({"shape", "drive", "bias", "mix"})
    leading: ClassVar[tuple[str, ...]] = ("drive", "mix")
    solved_settings: ClassVar[Mapping[str, solved.Solved]] = solved.OUTPUT
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"hold_loudness"}

    shape: Annotated[
        Literal["soft", "warm", "dense", "edge"],
        choice(
            "Shape",
            (("soft", "Soft"), ("warm", "Warm"), ("dense", "Dense"), ("edge", "Edge")),
            "Soft rounds evenly: odd harmonics. Warm leans to one side: even ones, too. Dense raises all that is "
            "under full scale and never passes it (before the output's gain). Edge cuts off at a corner.",
            group=CURVE,
        ),
    ] = "soft"
    drive: Annotated[
        float,
        number(
            "Drive",
            "dB",
            DRIVE_OFF,
            36.0,
            "How far into the curve the sound goes: more is denser and brighter. At its lowest nothing is bent.",
            group=CURVE,
            decimals=2,
            fine=0.1,
            off_at_low=True,
        ),
    ] = DRIVE_OFF
    bias: Annotated[
        float,
        number(
            "Bias",
            "%",
            -100.0,
            100.0,
            "Leans the curve to one side of the wave, which adds even harmonics.",
            group=CURVE,
            decimals=0,
            fine=1.0,
        ),
    ] = 0.0
    tilt: Annotated[
        float,
        number(
            "Tilt before",
            "dB/oct",
            -6.0,
            6.0,
            "Leans the sound towards highs (+) or lows (−) before the curve, and "
            "exactly back after it: chooses what is bent, not the tone.",
            group=CURVE,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    oversampling: Annotated[Oversampling, oversampling("How finely the wave is bent", CURVE)] = 4

    low: Annotated[
        float,
        number(
            "From",
            "Hz",
            LOW_OUT,
            2000.0,
            "What lies below passes untouched. At 20 Hz there is no such limit.",
            group=WHERE,
            scale="log",
        ),
    ] = LOW_OUT
    high: Annotated[
        float,
        number(
            "Up to",
            "Hz",
            500.0,
            HIGH_OUT,
            "What lies above passes untouched; harmonics may still reach there. At 20 kHz there is no such limit.",
            group=WHERE,
            scale="log",
        ),
    ] = HIGH_OUT
    mid: Annotated[
        float,
        number(
            "Mid",
            "%",
            0.0,
            100.0,
            "How much the mid is bent. Where it differs from the side's, both are bent apart.",
            group=WHERE,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    side: Annotated[
        float,
        number(
            "Side",
            "%",
            0.0,
            100.0,
            "How much the side is bent. Where it differs from the mid's, both are bent apart.",
            group=WHERE,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0

    mix: Annotated[
        float,
        number(
            "Mix", "%", 0.0, 100.0, "How much of the bent sound is in the result.", group=LEVEL, decimals=0, fine=1.0
        ),
    ] = 100.0
    output: Annotated[float, solved.output(LEVEL, -36.0)] = 0.0
    hold_loudness: Annotated[bool, solved.hold(LEVEL, "colour is not judged by its loudness.")] = True

    after_tilt: Annotated[
        float,
        number(
            "Tilt after",
            "dB/oct",
            -3.0,
            3.0,
            "Leans what comes out of the curve towards highs (+) or lows (−) about 1 kHz; what passes beside it (Mix) stays.",
            group=AFTER,
            decimals=2,
            fine=0.05,
        ),
    ] = 0.0
    after_low_freq: Annotated[
        float,
        number("Lows under", "Hz", 30.0, 1000.0, "Where the low shelf after the curve lies.", group=AFTER, scale="log"),
    ] = 120.0
    after_low: Annotated[
        float,
        number("Lows", "dB", -12.0, 12.0, "Raises or lowers the lows of what comes out of the curve.", group=AFTER),
    ] = 0.0
    after_high_freq: Annotated[
        float,
        number(
            "Highs over", "Hz", 1000.0, 16_000.0, "Where the high shelf after the curve lies.", group=AFTER, scale="log"
        ),
    ] = 6000.0
    after_high: Annotated[
        float,
        number(
            "Highs",
            "dB",
            -12.0,
            12.0,
            "Raises or lowers the highs of what comes out of the curve: less takes the edge off its harmonics.",
            group=AFTER,
        ),
    ] = 0.0

    def make(self, rate: int) -> SaturationProcessor:
        return SaturationProcessor(self, rate)

    def ear(self, rate: int) -> WhatBends:
        return WhatBends(self, rate)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        shapes = ("soft", "warm", "dense", "edge")
        bent = (cls(drive=6.0, shape=shape, low=90.0, tilt=1.0) for shape in shapes)  # type: ignore[arg-type]
        return cls(), *bent, cls(drive=6.0, side=50.0, after_high=-2.0), cls(drive=6.0, oversampling=1)

    def tone_after(self, rate: int) -> Floats:
        """The sections of the tone after the curve; none where it is level."""
        low, high = (
            (low_shelf_prototypes(self.after_low, SHELF_ORDER), self.after_low_freq),
            (high_shelf_prototypes(self.after_high, SHELF_ORDER), self.after_high_freq),
        )
        return cascade(
            tilt(self.after_tilt, rate),
            cascaded(*low, rate) if self.after_low else NOTHING,
            cascaded(*high, rate) if self.after_high else NOTHING,
        )

    @property
    def idle(self) -> bool:
        """Whether nothing is bent."""
        return self.drive <= DRIVE_OFF or self.mix == 0.0 or (self.mid == 0.0 and self.side == 0.0)

    @property
    def level(self) -> float:
        """The gain after it, dB; a mix of nothing is nothing at all."""
        return self.output if self.mix > 0.0 else 0.0

    @property
    def shaper(self) -> shaping.Shaper:
        """The curve, as drawn and as applied."""
        drive, bias = gain_of(self.drive), MOST_BIAS * self.bias / 100.0
        if self.shape == "dense":
            return shaping.dense(drive, bias)
        if self.shape == "edge":
            return shaping.edge(drive, bias)
        return shaping.soft(drive, bias + (shaping.WARM_BIAS if self.shape == "warm" else 0.0))

    def transfer(self) -> Transfer:
        came = np.linspace(-1.0, 1.0, 201)
        return Transfer(came, curve_of(self, came), "")

    @property
    def is_lopsided(self) -> bool:
        """Whether the curve treats both sides of the wave differently."""
        return self.shaper.bias != 0.0

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.level)

    def describe(self) -> str:
        if self.drive <= DRIVE_OFF:
            return "neutral"
        return f"{self.shape} · {self.drive:+.1f} dB · {self.oversampling} ×".replace("-", "−")


@functools.lru_cache(maxsize=64)
def _range_taps(low: float, high: float, rate: int) -> Floats | None:
    """The linear-phase filter of a range; None where it has no limits."""
    if low <= LOW_OUT and high >= HIGH_OUT:
        return None
    lowest, highest = (low if low > LOW_OUT else 0.0), (high if high < HIGH_OUT else math.inf)

    def magnitude(freqs: Floats) -> Floats:
        return band_magnitude(lowest, highest, freqs)

    half, _ = chosen_half([magnitude], rate, RANGE_LENGTHS)
    return symmetric(magnitude, half, rate)


@kernel
def add_weighted(x: Audio, more: Floats, mid: float, side: float, apart: bool, out: Audio) -> None:
    """`x` plus what was made (frames, 2), weighted: left and right alike, or mid and side `split_output_gain`."""
    if apart:
        for i in range(x.shape[0]):
            m, s = mid * more[i, 0], side * more[i, 1]
            out[i, 0] = x[i, 0] + m + s
            out[i, 1] = x[i, 1] + m - s
        return
    for i in range(x.shape[0]):
        out[i, 0] = x[i, 0] + mid * more[i, 0]
        out[i, 1] = x[i, 1] + mid * more[i, 1]


class SaturationProcessor(Processor):
    """The range is taken out with a linear-phase filter, in phase with the sound, and only what bending adds to it and
    takes from it is added. With different amounts mid and side are bent apart, so that neither drives the other."""

    def __init__(self, settings: Saturation, rate: int, straight: float = 1.0) -> None:
        """Only what is more than `straight` times the sound is what bending adds."""
        super().__init__()
        self._idle, self._gain = settings.idle, gain_of(settings.level)
        self._mix = settings.mix / 100.0
        tone = settings.tone_after(rate)
        self._tone = Sections(tone) if len(tone) and not self._idle else None
        """What the bent sound passes before it is mixed in."""
        share = self._mix if self._tone is None else 1.0
        self._mid, self._side = (amount / 100.0 * share for amount in (settings.mid, settings.side))
        self._apart = settings.mid != settings.side
        self._bender = Bender(settings.shaper, int(settings.oversampling), rate, straight)
        taps = _range_taps(settings.low, settings.high, rate)
        self._range = Convolver([[taps, None], [None, taps]]) if taps is not None else None
        self.latency = self._bender.latency + (len(taps) // 2 + PARTITION if taps is not None else 0)
        self._late = Delay(self.latency)
        leaning = tilt(settings.tilt, rate)
        back = leaning[:, [3, 4, 5, 0, 1, 2]] / leaning[:, :1] if len(leaning) else NOTHING
        self._before = Sections(leaning)
        self._after = Sections(cascade(back, low_cut(NO_DC, 12, rate) if settings.is_lopsided else NOTHING))
        self._added, self._wet = np.zeros((MAX_BLOCK, 2)), np.zeros((MAX_BLOCK, 2))
        self.driven = np.zeros((MAX_BLOCK, 2))
        """What came to the curve in the last block: of the range, leaned, in mid and side where they are bent apart."""
        self._peaks, self._taken = np.zeros((2, MAX_BLOCK)), np.zeros(MAX_BLOCK)
        self._limiter: LookAheadLimiter | None = None
        if settings.shape == "dense":
            ahead = round(HOLD_AHEAD * rate)
            self._limiter = LookAheadLimiter(
                lookahead=ahead,
                smoothing=ahead,
                ceiling=0.0,
                knee=0.0,
                link=1.0,
                times=ReleaseTimes(pole(HOLD_RELEASE, rate), 0.0, 0.0),
                longest_block=MAX_BLOCK,
            )
            self.latency += ahead

    def bend(self, x: Audio) -> Audio:
        """What bending adds to `x`, late; used again by the next block."""
        band, added = self.driven[: len(x)], self._added[: len(x)]
        if self._range is not None:
            self._range.run(x, band)
        else:
            np.copyto(band, x)
        if self._apart:
            to_mid_side(band, band)
        self._before.run(band, band)
        self._bender.run(band, added)
        self._after.run(added, added)
        return added

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        added = self._added[:n] if self._idle else self.bend(x)
        self._late.run(x, out)
        if self._tone is not None:
            wet = self._wet[:n]
            add_weighted(out, added, self._mid, self._side, self._apart, wet)
            self._tone.run(wet, wet)
            np.subtract(wet, out, out=wet)
            np.multiply(wet, self._mix, out=wet)
            np.add(out, wet, out=out)
        elif not self._idle:
            add_weighted(out, added, self._mid, self._side, self._apart, out)
        if self._limiter is not None:
            magnitudes(out, self._peaks)
            if self._idle:
                self._peaks[:] = 0.0  # nothing is held where nothing is bent
            self._limiter.run(out, self._peaks, out, self._taken)
        if self._gain != 1.0:
            np.multiply(out, self._gain, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, SaturationProcessor):
            return False
        self._late.adopt(other._late)
        same = (self._idle or not other._idle) and self._apart == other._apart
        same &= self._before.adopt(other._before) and self._after.adopt(other._after)
        same &= self._bender.adopt(other._bender)
        if self._range is not None and other._range is not None:
            self._range.adopt(other._range)
        if self._limiter is not None and other._limiter is not None:
            self._limiter.adopt(other._limiter)
        if self._tone is not None and other._tone is not None:
            same &= self._tone.adopt(other._tone)
        has = [(p._range is None, p._limiter is None, p._tone is None) for p in (self, other)]
        return same and has[0] == has[1]


class WhatBends(SaturationProcessor):
    """Only what the curve makes that is no gain: what it would do to the smallest signals is taken out."""

    def __init__(self, settings: Saturation, rate: int) -> None:
        super().__init__(settings, rate, settings.shaper.slope)
        if self._limiter is not None:
            self.latency -= round(HOLD_AHEAD * rate)
        self._share = self._gain * (self._mix if self._tone is not None else 1.0)
        self._nothing = np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        nothing = self._nothing[: len(x)]
        if self._idle:
            np.copyto(out, nothing)
            return
        add_weighted(nothing, self.bend(x), self._mid, self._side, self._apart, out)
        if self._tone is not None:
            self._tone.run(out, out)
        np.multiply(out, self._share, out=out)


def curve_of(step: Saturation, x: Floats) -> Floats:
    """The transfer curve with its mix and output: what comes out for a steady input `x`."""
    x = np.asarray(x, dtype=np.float64)
    bent = x if step.drive <= DRIVE_OFF else step.shaper(x)
    return np.asarray((x + step.mix / 100.0 * (bent - x)) * gain_of(step.level))
