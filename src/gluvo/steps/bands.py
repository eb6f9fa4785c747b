"""Bands of an equaliser: what each is set to, and the sections that it comes down to."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import msgspec
import numpy as np

from gluvo.dsp import matched
from gluvo.dsp.compression import Curve, pole
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import NOTHING, response
from gluvo.dsp.kernel import Floats
from gluvo.dsp.moving import LEAST_MOVE, MoveTimes, knots
from gluvo.measure.overview import ReducedBy
from gluvo.steps.settings import choice, number, switch
from gluvo.steps.solved import aim_by

BAND, MOVING = "Band", "When it moves"
Shape = Literal["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch", "tilt", "band_pass"]
Target = Literal["stereo", "mid", "side", "left", "right"]
Slope = Literal[6, 12, 18, 24, 36, 48, 72, 96]

WITH_GAIN = ("bell", "low_shelf", "high_shelf", "tilt")
SLOPED = ("low_shelf", "high_shelf", "low_cut", "high_cut")
MOVABLE = ("bell", "low_shelf", "high_shelf")
"""Shapes whose gain can move with the level."""
PLAIN_Q = 0.71
"""The Q at which cuts and shelves are Butterworth: as steep as they get without a bump."""
MOST_GAIN = 48.0
"""dB that Strength may bring a band to."""

SHAPES: tuple[tuple[str, str], ...] = (
    ("bell", "bell"),
    ("low_shelf", "low shelf"),
    ("high_shelf", "high shelf"),
    ("low_cut", "low cut"),
    ("high_cut", "high cut"),
    ("notch", "notch"),
    ("tilt", "tilt"),
    ("band_pass", "band-pass"),
)
TARGETS: tuple[tuple[str, str], ...] = (
    ("stereo", "stereo"),
    ("mid", "mid"),
    ("side", "side"),
    ("left", "left"),
    ("right", "right"),
)
SLOPES = tuple((str(s), f"{s} dB/oct") for s in (6, 12, 18, 24, 36, 48, 72, 96))


class Band(msgspec.Struct, frozen=True, kw_only=True):
    """One band. A new one is a bell of 0 dB, which does nothing."""

    id: int = 0
    """Tells bands of a step apart, however they are ordered."""
    twin: int = 0
    """The id of the band of the other target that follows this one's edits; 0 for none."""

    on: Annotated[bool, switch("On", "Whether the band is heard.", group=BAND)] = True
    shape: Annotated[
        Shape,
        choice(
            "Shape",
            SHAPES,
            "Bell: around a frequency. Shelf: all above or below it. Cut: takes away above or below "
            "it. Notch: takes out one place whole. Tilt: leans everything. Band-pass: leaves only one place.",
            group=BAND,
        ),
    ] = "bell"
    target: Annotated[
        Target,
        choice(
            "Target",
            TARGETS,
            "The part of the stereo signal that it works on: all of it, what both sides share, "
            "what differs between them, or one channel.",
            group=BAND,
        ),
    ] = "stereo"
    freq: Annotated[
        float,
        number(
            "Frequency",
            "Hz",
            10.0,
            20_000.0,
            "Where it works. A note's name, such as A2 or F♯4, does as well.",
            group=BAND,
            scale="log",
        ),
    ] = 1000.0
    gain: Annotated[
        float,
        number(
            "Gain",
            "dB",
            -24.0,
            24.0,
            "How much it raises or lowers. A tilt raises the highs by this and lowers the lows by as much.",
            group=BAND,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    q: Annotated[
        float,
        number(
            "Q",
            "",
            0.1,
            40.0,
            "How narrow it is. For cuts and shelves 0.71 is even; more makes a bump at the corner.",
            group=BAND,
            scale="log",
            decimals=1,
        ),
    ] = 1.0
    slope: Annotated[
        Slope,
        choice(
            "Slope",
            SLOPES,
            "How steeply a cut or a shelf falls. From 72 dB/oct on it is within 0.5 dB of that above "
            "8 kHz, where the rate is 44.1 or 48 kHz.",
            group=BAND,
        ),
    ] = 12

    dynamic: Annotated[
        bool,
        switch("Dynamic", "Lets the gain move with the level in this range. Bells and shelves only.", group=MOVING),
    ] = False
    moves: Annotated[
        Literal["down", "up"],
        choice(
            "Moves",
            (("down", "sinks"), ("up", "rises")),
            "Whether the band sinks when the range gets loud, or rises.",
            group=MOVING,
        ),
    ] = "down"
    threshold: Annotated[
        float,
        number(
            "Threshold",
            "dBFS",
            -80.0,
            0.0,
            "Above this level of the range alone, the band begins to move.",
            group=MOVING,
        ),
    ] = -30.0
    ratio: Annotated[
        float,
        number(
            "Ratio",
            ": 1",
            1.0,
            20.0,
            "How far it follows: at 2 half of what lies over the threshold, at 20 nearly all.",
            group=MOVING,
            scale="log",
        ),
    ] = 2.0
    range: Annotated[
        float,
        number("Range", "dB", 0.0, 24.0, "It never moves further than this.", group=MOVING),
    ] = 6.0
    attack: Annotated[
        float,
        number(
            "Attack",
            "ms",
            0.1,
            300.0,
            "How long it takes to move. Longer lets hits through.",
            group=MOVING,
            scale="log",
        ),
    ] = 10.0
    release: Annotated[
        float,
        number("Release", "ms", 5.0, 3000.0, "How long it takes to come back.", group=MOVING, scale="log"),
    ] = 150.0

    key: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the stem or bus whose level in this range moves the band; empty for the signal itself."""

    aim: Annotated[
        float,
        number(
            "Move by",
            "dB",
            0.1,
            12.0,
            "The movement over the section that the threshold is sought for.",
            group=MOVING,
        ),
    ] = 2.0
    aim_by: Annotated[ReducedBy, aim_by(MOVING, "movement")] = "peaks"

    @property
    def moving(self) -> bool:
        """Whether its gain moves with the level."""
        return self.on and self.dynamic and self.shape in MOVABLE and self.range > 0.0 and self.ratio > 1.0

    @property
    def order(self) -> int:
        return int(self.slope) // 6

    def scaled(self, strength: float) -> float:
        """Its gain at a strength in %."""
        return min(MOST_GAIN, max(-MOST_GAIN, self.gain * strength / 100.0))

    def prototypes(self, strength: float = 100.0) -> list[matched.Analogue]:
        """The analogue sections that it stands for, corner at `freq`; none where it does nothing at rest.

        A tilt's overall gain, ``−gain`` dB, is not in them; see `offset`.
        """
        gain = self.scaled(strength)
        if self.shape in WITH_GAIN and gain == 0.0:
            return []
        return self._prototypes(gain)

    def _prototypes(self, gain: float) -> list[matched.Analogue]:
        """The analogue sections at a gain in dB, which may be 0."""
        if self.shape == "bell":
            return [matched.bell_prototype(gain, self.q)]
        if self.shape == "low_shelf":
            return matched.low_shelf_prototypes(gain, self.order, self.q)
        if self.shape == "high_shelf":
            return matched.high_shelf_prototypes(gain, self.order, self.q)
        if self.shape == "tilt":
            return matched.high_shelf_prototypes(2.0 * gain, 1)
        if self.shape == "low_cut":
            return matched.low_cut_prototypes(self.order, self.q)
        if self.shape == "high_cut":
            return matched.high_cut_prototypes(self.order, self.q)
        return [matched.notch_prototype(self.q) if self.shape == "notch" else matched.band_pass_prototype(self.q)]

    def offset(self, strength: float = 100.0) -> float:
        """The factor on all frequencies that comes with the sections."""
        return gain_of(-self.scaled(strength)) if self.shape == "tilt" else 1.0

    def sections(self, rate: int, strength: float = 100.0) -> Floats:
        """Second-order sections, magnitude-matched; none where it is off or does nothing at rest."""
        prototypes = self.prototypes(strength) if self.on else []
        if not prototypes:
            return NOTHING
        sos = matched.cascaded(prototypes, self.freq, rate, spare=self.shape in STEEP)
        sos[0, :3] *= self.offset(strength)
        return sos

    def response(self, freqs: Floats, rate: int, strength: float = 100.0) -> np.ndarray:
        """Its complex response at rest."""
        return response(self.sections(rate, strength), freqs, rate)

    def prototype_response(self, freqs: Floats, strength: float = 100.0) -> np.ndarray:
        """What `response` is matched to."""
        total = np.full(len(freqs), self.offset(strength), dtype=complex)
        for prototype in self.prototypes(strength):
            total *= matched.analogue_response(prototype, self.freq, freqs)
        return total

    def curve(self, strength: float = 100.0) -> Curve:
        """The static curve of its movement."""
        return Curve(float(self.threshold), 1.0 - 1.0 / self.ratio, KNEE, min(24.0, self.range * strength / 100.0))

    def reaching(self, moved: float, strength: float = 100.0) -> Band:
        """The static band that it is when it has moved by so many dB. Its gain may pass what can be set by hand."""
        gain = min(MOST_GAIN, max(-MOST_GAIN, self.scaled(strength) + moved))
        return msgspec.structs.replace(self, gain=gain, dynamic=False)

    def moving_table(self, rate: int, strength: float = 100.0) -> tuple[Floats, float]:
        """What it is over the range of its movement, as `moving.move` takes it, and how far it must have moved to do
        nothing: −1 where it never does."""
        most, sign = max(LEAST_MOVE, self.curve(strength).most), 1.0 if self.moves == "up" else -1.0
        count = max(3, math.ceil(most / KNOT_DB) + 1)
        gains = [self.reaching(sign * most * n / (count - 1), strength).gain for n in range(count)]
        table = knots([matched.cascaded(self._prototypes(gain), self.freq, rate) for gain in gains], most)
        neutral = -sign * self.scaled(strength)
        return table, abs(neutral) if 0.0 <= neutral <= most else -1.0

    def times(self, rate: int) -> MoveTimes:
        return MoveTimes(pole(self.attack / 1000.0, rate), pole(self.release / 1000.0, rate))

    def describe(self) -> str:
        """Its shape in words."""
        words = dict(SHAPES)[self.shape]
        return f"{words} {self.slope}" if self.shape in SLOPED else words


STEEP = frozenset({"high_cut", "notch", "band_pass"})
"""Shapes that near the top of hearing cannot be followed by as many sections as they have."""
KNOT_DB = 3.0
"""dB from one place to the next at which a moving band is matched; between them it is interpolated."""
KNEE = 6.0
"""dB over which a moving band sets in."""


def plain_q(shape: str) -> float:
    """The Q that a band of a shape begins with."""
    return PLAIN_Q if shape in SLOPED or shape == "tilt" else 1.0 if shape == "bell" else math.sqrt(2.0)
