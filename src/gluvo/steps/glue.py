"""Glue: the bus compressor."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal, Self

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.db import gain_of
from gluvo.dsp.delay import Delay
from gluvo.dsp.filters import NOTHING, Sections, cascade, low_cut
from gluvo.dsp.kernel import Audio, Floats, record
from gluvo.dsp.matched import bell, cascaded, high_cut_prototypes, high_shelf_prototypes, low_shelf_prototypes, tilt
from gluvo.dsp.simd_max import largest
from gluvo.measure.overview import ReducedBy
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step, Transfer
from gluvo.steps.common import mix
from gluvo.steps.detector_monitor import DetectorMonitor
from gluvo.steps.settings import choice, number, switch
from gluvo.steps.solved import Solved, aim_by

HEARS, TONE, MOVES, GOES, LIFT = (
    "What it listens to",
    "The detector's tone",
    "When it moves",
    "How far it goes",
    "Lift",
)
LOWEST_CUT, HIGHEST_CUT = 20.0, 20_000.0
"""Hz at which the detector's low cut and high cut are out."""
CUT_SLOPES = tuple((str(slope), f"{slope}") for slope in (12, 24, 36, 48))
SHELF_ORDER = 2
"""Of the detector's shelves: 12 dB per octave."""
LONGEST_LOOK_AHEAD = 10.0
"""ms"""
SETTLED = 5.0
"""Time constants after which less than a hundredth is left."""
STEEPEST_BACK = 0.95
"""Slope of a limit that feeds back: a loop cannot hold a level for good."""


class Glue(Step, tag="glue", frozen=True, kw_only=True):
    """A compressor whose detector can be shaped. At ratio 1 it passes the signal bit for bit."""

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "Glue"
    summary: ClassVar[str] = "Bus compression with a detector that can be shaped"
    analyses: ClassVar[tuple[Analysis, ...]] = ("drive", "lift")
    leading: ClassVar[tuple[str, ...]] = ("aim", "hold_aim", "attack", "release", "threshold", "ratio")
    reduces: ClassVar[bool] = True
    has_ear: ClassVar[bool] = True
    takes_key: ClassVar[bool] = True
    bent_by: ClassVar[frozenset[str]] = frozenset(
        {"threshold", "ratio", "limit", "knee", "range", "mix", "lift_ratio", "lift_threshold", "lift_range"}
    )
    solved_settings: ClassVar[Mapping[str, Solved]] = {
        "threshold": Solved("reduction", "hold_aim", "aim", aim_by="aim_by"),
        "lift_threshold": Solved("lift", "hold_lift", "lift_aim", aim_by="lift_aim_by"),
        "makeup": Solved("makeup", "hold_loudness"),
    }
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {
        "threshold_for",
        "aim",
        "aim_by",
        "hold_aim",
        "lift_aim",
        "lift_aim_by",
        "hold_lift",
        "hold_loudness",
    }

    by_hand: ClassVar[Mapping[str, Mapping[str, object]]] = {
        "threshold": {"threshold_for": 0.0},
        "aim_by": {"threshold_for": 0.0},
    }
    found_for: ClassVar[Mapping[str, str]] = {"threshold": "threshold_for"}

    key: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the stem or bus that the detector listens to instead; empty for the signal itself."""
    threshold_for: Annotated[float, msgspec.Meta(ge=0.0, le=60.0)] = 0.0
    """dB of reduction that its threshold was found for, when it was asked for; 0 where it was set by hand."""

    low_cut: Annotated[
        float,
        number(
            "Low cut",
            "Hz",
            LOWEST_CUT,
            500.0,
            "Keeps lows out of the detector, so that kick and bass drive it "
            "less. At 20 Hz it is out. The sound itself is not cut.",
            group=TONE,
            scale="log",
        ),
    ] = LOWEST_CUT
    low_cut_slope: Annotated[
        Literal[12, 24, 36, 48],
        choice("Low, dB/oct", CUT_SLOPES, "How steeply the detector's low cut falls, in dB per octave.", group=TONE),
    ] = 12
    high_cut: Annotated[
        float,
        number(
            "High cut",
            "Hz",
            500.0,
            HIGHEST_CUT,
            "Keeps highs out of the detector, so that cymbals and sibilants drive it less. At 20 kHz it is out. The sound "
            "itself is not cut.",
            group=TONE,
            scale="log",
        ),
    ] = HIGHEST_CUT
    high_cut_slope: Annotated[
        Literal[12, 24, 36, 48],
        choice("High, dB/oct", CUT_SLOPES, "How steeply the detector's high cut falls, in dB per octave.", group=TONE),
    ] = 12
    low_shelf_freq: Annotated[
        float,
        number(
            "Low shelf at", "Hz", 30.0, 2000.0, "Below this the detector hears more or less.", group=TONE, scale="log"
        ),
    ] = 120.0
    low_shelf_gain: Annotated[
        float,
        number(
            "Low shelf",
            "dB",
            -18.0,
            18.0,
            "Less lets lows by without leaving them out as a cut does; more has them reduced more readily.",
            group=TONE,
        ),
    ] = 0.0
    high_shelf_freq: Annotated[
        float,
        number(
            "High shelf at",
            "Hz",
            500.0,
            16000.0,
            "Above this the detector hears more or less.",
            group=TONE,
            scale="log",
        ),
    ] = 5000.0
    high_shelf_gain: Annotated[
        float,
        number(
            "High shelf",
            "dB",
            -18.0,
            18.0,
            "More has what is bright reduced more readily; less lets cymbals by.",
            group=TONE,
        ),
    ] = 0.0
    tilt: Annotated[
        float,
        number(
            "Tilt",
            "dB/oct",
            -6.0,
            6.0,
            "Leans the detector towards highs (+) or lows (−) about its pivot. +3 treats all octaves of music about alike.",
            group=TONE,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    tilt_pivot: Annotated[
        float,
        number(
            "Pivot",
            "Hz",
            100.0,
            10_000.0,
            "Where the tilt turns: what lies there is heard as it is.",
            group=TONE,
            scale="log",
        ),
    ] = 1000.0
    bell_freq: Annotated[
        float,
        number("Bell at", "Hz", 30.0, 16000.0, "Where the detector hears more or less.", group=TONE, scale="log"),
    ] = 3000.0
    bell_gain: Annotated[
        float,
        number(
            "Bell",
            "dB",
            -18.0,
            18.0,
            "Makes the detector hear a range more (it is reduced more readily) or less.",
            group=TONE,
        ),
    ] = 0.0
    bell_q: Annotated[
        float,
        number("Bell Q", "", 0.3, 8.0, "How narrow that range is.", group=TONE, scale="log"),
    ] = 1.0
    second_freq: Annotated[
        float,
        number("Bell 2 at", "Hz", 30.0, 16000.0, "Where a second bell lies.", group=TONE, scale="log"),
    ] = 300.0
    second_gain: Annotated[
        float,
        number("Bell 2", "dB", -18.0, 18.0, "How much more or less the detector hears there.", group=TONE),
    ] = 0.0
    second_q: Annotated[
        float,
        number("Bell 2 Q", "", 0.3, 8.0, "How narrow the second bell is.", group=TONE, scale="log"),
    ] = 1.0
    rms: Annotated[
        float,
        number(
            "Averaging",
            "ms",
            0.0,
            50.0,
            "0 follows peaks. Longer follows how loud it sounds, and lets short hits by.",
            group=HEARS,
        ),
    ] = 0.0
    link: Annotated[
        float,
        number(
            "Stereo link",
            "%",
            0.0,
            100.0,
            "At 100 both channels move together and the image stands still; less lets each move for itself.",
            group=HEARS,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    mode: Annotated[
        Literal["stereo", "mid_side", "mid", "side"],
        choice(
            "Works on",
            (("stereo", "Left and right"), ("mid_side", "Mid and side"), ("mid", "Mid only"), ("side", "Side only")),
            "Which parts of the stereo signal are heard and reduced.",
            group=HEARS,
        ),
    ] = "stereo"

    attack: Annotated[
        float,
        number(
            "Attack",
            "ms",
            0.02,
            300.0,
            "How long a rise takes to be reduced. Longer lets more of each hit through: more punch.",
            group=MOVES,
            scale="log",
        ),
    ] = 20.0
    release: Annotated[
        float,
        number(
            "Release",
            "ms",
            5.0,
            3000.0,
            "How long it takes to let go. Short is lively and may pump; long is steady.",
            group=MOVES,
            scale="log",
        ),
    ] = 120.0
    auto_release: Annotated[
        float,
        number(
            "Auto release",
            "%",
            0.0,
            100.0,
            "Adds a slow release that only sustained reduction charges: hits recover fast, dense parts stay calm.",
            group=MOVES,
            decimals=0,
            fine=1.0,
        ),
    ] = 0.0
    look_ahead: Annotated[
        float,
        number(
            "Look ahead",
            "ms",
            0.0,
            LONGEST_LOOK_AHEAD,
            "Lets reduction begin before the hit. Takes away the first edge.",
            group=MOVES,
        ),
    ] = 0.0
    feed_back: Annotated[
        bool,
        switch(
            "Feed-back",
            "The detector listens to what comes out instead of what goes in: small reductions set "
            "in more softly, and it follows the music quicker on the way back. Without look ahead; limits at 20 : 1.",
            group=MOVES,
        ),
    ] = False

    threshold: Annotated[
        float,
        number(
            "Threshold",
            "dBFS",
            -60.0,
            0.0,
            "Above this level of the detector, reduction begins.",
            group=GOES,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    ratio: Annotated[
        float,
        number(
            "Ratio",
            ": 1",
            1.0,
            20.0,
            "How many dB above the threshold become one. Low ratios glue, high ones hold. 1 does nothing.",
            group=GOES,
            scale="log",
        ),
    ] = 1.0
    limit: Annotated[bool, switch("Limit", "Holds at the threshold: the ratio is endless.", group=GOES)] = False
    knee: Annotated[
        float,
        number(
            "Knee",
            "dB",
            0.0,
            24.0,
            "Spreads the threshold over this range, so that reduction sets in gently.",
            group=GOES,
        ),
    ] = 6.0
    range: Annotated[
        float,
        number("Range", "dB", 0.0, 60.0, "Reduction never goes past this.", group=GOES),
    ] = 60.0
    makeup: Annotated[
        float,
        number("Make-up", "dB", -12.0, 24.0, "Gain after reduction.", group=GOES, decimals=2, fine=0.1),
    ] = 0.0
    hold_loudness: Annotated[
        bool,
        switch(
            "Hold loudness", "Sets the make-up so that the section is as loud after the step as before.", group=GOES
        ),
    ] = False
    mix: Annotated[
        float, mix("How much of the reduced signal is in the result; the rest is the signal as it came.", GOES)
    ] = 100.0

    lift_ratio: Annotated[
        float,
        number(
            "Lift ratio",
            ": 1",
            1.0,
            10.0,
            "How many dB below its threshold become one: what is quiet comes up, hits stay as they are. 1 does nothing.",
            group=LIFT,
            scale="log",
        ),
    ] = 1.0
    lift_threshold: Annotated[
        float,
        number(
            "Lift under",
            "dBFS",
            -60.0,
            0.0,
            "Below this level of the detector, the sound is lifted.",
            group=LIFT,
            decimals=2,
            fine=0.1,
        ),
    ] = -30.0
    lift_range: Annotated[
        float,
        number("Lift at most", "dB", 0.0, 24.0, "It never lifts by more than this, silence included.", group=LIFT),
    ] = 6.0
    lift_back: Annotated[
        float,
        number(
            "Back in",
            "ms",
            0.1,
            300.0,
            "How quickly the lift is gone when the sound rises. Short leaves hits untouched.",
            group=LIFT,
            scale="log",
        ),
    ] = 5.0
    lift_up: Annotated[
        float,
        number(
            "Up in",
            "ms",
            5.0,
            3000.0,
            "How quickly what is quiet comes up. Long keeps it calm.",
            group=LIFT,
            scale="log",
        ),
    ] = 200.0
    lift_aim: Annotated[
        float,
        number("Lift by", "dB", 0.1, 12.0, "The lift over the section that its threshold is sought for.", group=LIFT),
    ] = 1.5
    lift_aim_by: Annotated[ReducedBy, aim_by(LIFT, "lift")] = "mean"
    hold_lift: Annotated[
        bool,
        switch("Hold lift", "Finds the lift's threshold again whenever another setting changes.", group=LIFT),
    ] = False

    aim: Annotated[
        float,
        number(
            "Reduce by",
            "dB",
            0.1,
            20.0,
            "The reduction over the section that the threshold is sought for: at peaks, at most or on average.",
            group="Aim",
        ),
    ] = 2.0
    aim_by: Annotated[ReducedBy, aim_by("Aim")] = "peaks"
    hold_aim: Annotated[
        bool,
        switch("Hold", "Finds the threshold again whenever another setting changes.", group="Aim"),
    ] = False

    def make(self, rate: int) -> GlueProcessor:
        return GlueProcessor(self, rate)

    def ear(self, rate: int) -> DetectorMonitor:
        return DetectorMonitor(Detector(self, rate))

    def before_ear(self) -> Self | None:
        return msgspec.structs.replace(self, makeup=0.0, mix=100.0) if self.feeds_back else None

    @property
    def keys_from(self) -> tuple[str, ...]:
        return (self.key,) if self.key else ()

    @property
    def is_transparent(self) -> bool:
        return not self.works and self.makeup == 0.0 and (self.look_ahead == 0.0 or self.feeds_back)

    def readied(self, setting: str) -> tuple[Self, str]:
        if setting == "threshold" and self.slope == 0.0:
            return msgspec.structs.replace(self, ratio=2.0), "At a ratio of 1 nothing is reduced: it is set to 2 : 1."
        if setting == "lift_threshold" and not self.lifts:
            return msgspec.structs.replace(
                self, lift_ratio=2.0
            ), "At a lift ratio of 1 nothing is lifted: it is set to 2 : 1."
        return self, ""

    def not_solvable(self, setting: str) -> str:
        if setting == "threshold" and self.slope == 0.0:
            return "At a ratio of 1 nothing is reduced. Raise the ratio first."
        if setting == "lift_threshold" and not self.lifts:
            return "At a lift ratio of 1 nothing is lifted. Raise it first."
        return ""

    @property
    def held_now(self) -> tuple[str, ...]:
        """There is no threshold to be found where nothing is reduced or lifted, and no level to be made up."""
        at_work = {"threshold": self.slope > 0.0, "lift_threshold": self.lifts, "makeup": self.works}
        return tuple(name for name in super().held_now if at_work[name])

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return (
            cls(),
            cls(ratio=2.0, threshold=-20.0, low_cut=100.0, tilt=1.0, bell_gain=3.0),
            cls(ratio=2.0, threshold=-20.0, link=50.0, mode="mid_side", rms=5.0),
            cls(ratio=2.0, feed_back=True, lift_ratio=2.0),
        )

    def split_output_gain(self) -> tuple[Self, float]:
        if self.mix < 100.0 or self.mode in ("mid", "side"):  # make-up is then not for all of it
            return self, 1.0
        return msgspec.structs.replace(self, makeup=0.0), gain_of(self.makeup)

    def arriving(self, reduction: Floats) -> Floats:
        return comp.arriving(reduction, self.mix / 100.0)

    def describe(self) -> str:
        words = []
        if self.slope > 0.0:
            ratio = "limit" if self.limit else f"{self.ratio:.1f} : 1"
            words.append(f"{ratio} · {self.threshold:.1f} dB")
        words += [f"lifts under {self.lift_threshold:.1f} dB"] if self.lifts else []
        return " · ".join(words).replace("-", "−") or "neutral"

    @property
    def lifts(self) -> bool:
        """Whether what is quiet is lifted."""
        return self.lift_ratio > 1.0 and self.lift_range > 0.0

    @property
    def raises(self) -> bool:
        return self.lifts

    @property
    def works(self) -> bool:
        """Whether anything is reduced or lifted."""
        return self.slope > 0.0 or self.lifts

    @property
    def slope(self) -> float:
        """dB of reduction for each dB over the threshold."""
        if self.limit:
            return STEEPEST_BACK if self.feeds_back else 1.0
        return 1.0 - 1.0 / self.ratio

    @property
    def memory(self) -> float:
        if not self.works:
            return 0.0
        slow = self._slow if self.auto_release > 0.0 else 0.0
        up = self.lift_up / 1000.0 if self.lifts else 0.0
        return SETTLED * max(self.release / 1000.0, slow, self.attack / 1000.0, up)

    @property
    def _slow(self) -> float:
        """Seconds in which the slow release lets go."""
        return max(1.0, 5.0 * self.release / 1000.0)

    @property
    def feeds_back(self) -> bool:
        """Whether the detector listens to the output. With a key from elsewhere it never does."""
        return self.feed_back and not self.key

    @property
    def curve(self) -> comp.Curve:
        """The static curve of what is reduced."""
        return comp.Curve(float(self.threshold), float(self.slope), float(self.knee), float(self.range))

    def transfer(self) -> Transfer:
        levels = np.linspace(-60.0, 0.0, 121)
        out = comp.static_curve(levels, *self.curve)
        if self.lifts:
            out = out + comp.lifted_curve(levels, *self.lift_curve)
        factor = 1.0 + self.mix / 100.0 * (10.0 ** ((out - levels + self.makeup) / 20.0) - 1.0)
        return Transfer(levels, levels + 20.0 * np.log10(np.maximum(factor, 1e-10)), "dBFS")

    @property
    def lift_curve(self) -> comp.Curve:
        """The static curve of the lift."""
        slope = 1.0 - 1.0 / self.lift_ratio
        return comp.Curve(float(self.lift_threshold), slope, float(self.knee), float(self.lift_range))

    def lift_times(self, rate: int) -> comp.LiftTimes:
        return comp.LiftTimes(comp.pole(self.lift_back / 1000.0, rate), comp.pole(self.lift_up / 1000.0, rate))

    def detector(self, rate: int) -> Detector:
        return Detector(self, rate)

    def times(self, rate: int) -> comp.Times:
        return comp.Times(
            attack=comp.pole(self.attack / 1000.0, rate),
            release=comp.pole(self.release / 1000.0, rate),
            charge=comp.pole(0.35, rate),
            discharge=comp.pole(self._slow, rate),
            auto=self.auto_release / 100.0,
        )

    def detector_sections(self, rate: int) -> Floats:
        """What the detector's signal passes before it is measured."""
        return cascade(
            low_cut(self.low_cut, int(self.low_cut_slope), rate) if self.low_cut > LOWEST_CUT else NOTHING,
            cascaded(high_cut_prototypes(int(self.high_cut_slope) // 6), self.high_cut, rate)
            if self.high_cut < HIGHEST_CUT
            else NOTHING,
            cascaded(low_shelf_prototypes(self.low_shelf_gain, SHELF_ORDER), self.low_shelf_freq, rate)
            if self.low_shelf_gain
            else NOTHING,
            cascaded(high_shelf_prototypes(self.high_shelf_gain, SHELF_ORDER), self.high_shelf_freq, rate)
            if self.high_shelf_gain
            else NOTHING,
            tilt(self.tilt, rate, self.tilt_pivot),
            bell(self.bell_freq, self.bell_gain, self.bell_q, rate),
            bell(self.second_freq, self.second_gain, self.second_q, rate),
        )


class Detector:
    """Levels in dBFS of what a Glue listens to, one column if both channels move together."""

    def __init__(self, settings: Glue, rate: int) -> None:
        self.columns = 1 if settings.link >= 100.0 or settings.mode in ("mid", "side") else 2
        self.heard = np.array([float(settings.mode != "side"), float(settings.mode != "mid")])
        """Which of left and right, or mid and side, it listens to."""
        self.sections = Sections(settings.detector_sections(rate))
        self.link = settings.link / 100.0
        self.smoothing = comp.pole(settings.rms / 1000.0, rate)
        self.squares = np.zeros(2)
        self.mid_side = settings.mode != "stereo"
        self._work = np.zeros((MAX_BLOCK, 2))
        self._magnitudes = np.zeros((2, MAX_BLOCK))

    def run(self, x: Audio, out: Floats) -> None:
        """Levels of `x` (n, 2) into the first n of `out` (columns, n or more)."""
        self.read(self.hear(x), out)

    def read(self, heard: Audio, out: Floats) -> None:
        """Levels of what `hear` has given, as `run` has them."""
        comp.levels(heard, self.link, self.smoothing, self.squares, self._magnitudes, out)

    def hear(self, x: Audio) -> Audio:
        """What is measured of `x`: filtered, in left and right or in mid and side. Used again by the next block."""
        work = self.parts(x)
        self.sections.run(work, work)
        return work

    def parts(self, x: Audio) -> Audio:
        """`x` as left and right, or as mid and side with the unheard part left out."""
        work = self._work[: len(x)]
        if not self.mid_side:
            np.copyto(work, x)
            return work
        comp.to_mid_side(x, work)
        np.multiply(work, self.heard, out=work)
        return work

    def adopt(self, other: Detector) -> bool:
        np.copyto(self.squares, other.squares)
        return self.sections.adopt(other.sections)


class GlueProcessor(Processor):
    def __init__(self, settings: Glue, rate: int) -> None:
        super().__init__()
        self._back = settings.feeds_back
        self.latency = 0 if self._back else round(settings.look_ahead / 1000.0 * rate)
        self._mode = settings.mode
        self._curve, self._times = record(settings.curve), record(settings.times(rate))
        self._makeup, self._mix = gain_of(settings.makeup), settings.mix / 100.0
        if settings.mix < 100.0:
            self.wet, self._share = np.zeros(MAX_BLOCK), np.zeros(MAX_BLOCK)
        self._detector = Detector(settings, rate)
        self._delay = Delay(self.latency)
        columns = self._detector.columns
        self._level = np.zeros((columns, MAX_BLOCK))
        self._reduction = np.zeros((columns, MAX_BLOCK))
        self._factors = np.zeros((2, MAX_BLOCK))
        self._state = comp.stages(columns)
        self._lifts = settings.lifts
        self._lift_curve, self._lift_times = record(settings.lift_curve), record(settings.lift_times(rate))
        # what is lifted goes by what comes in, also where reduction goes by what comes out
        self._lift_detector = Detector(settings, rate) if self._lifts and self._back else None
        self._lift = np.zeros((columns, MAX_BLOCK))
        self._lift_state = np.zeros(columns)

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        level, reduction, detector = self._level, self._reduction, self._detector
        whole = x if self.whole is None else self.whole
        if self._back and not self.keys:  # a key of the band that it is in goes before
            comp.feed_back(
                detector.parts(whole),
                detector.sections.sos,
                detector.sections.memory,
                detector.heard,
                detector.link,
                detector.smoothing,
                detector.squares,
                self._curve,
                self._times,
                self._state,
                level,
                reduction,
            )
        else:
            detector.run(self.keys[0] if self.keys else whole, level)
            comp.ballistics(level, n, self._curve, self._times, self._state, reduction)
        self.level[0] = max(largest(row[:n]) for row in level)
        if self.wet is None:
            comp.larger(reduction, n, self.reduction)
        else:
            comp.larger(reduction, n, self.wet)
            comp.blended(self.wet, n, self._mix, self._share, self.reduction)
        if self._lifts:
            if self._lift_detector is not None:
                self._lift_detector.run(whole, level)
            comp.lifts(level, n, self._lift_curve, self._lift_times, self._lift_state, self._lift)
            np.subtract(reduction[:, :n], self._lift[:, :n], out=reduction[:, :n])
        self._delay.run(x, out)
        if self._mode == "stereo":
            comp.apply_gain(out, reduction, self._makeup, self._mix, self._factors, out)
        else:
            mid, side = self._detector.heard
            comp.apply_gain_mid_side(out, reduction, self._makeup, self._mix, mid, side, self._factors, out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, GlueProcessor):
            return False
        heard = self._detector.adopt(other._detector)
        self._delay.adopt(other._delay)
        for stage in comp.STAGES.fields or ():
            theirs = other._state[stage]
            self._state[stage] = theirs if self._state.shape == theirs.shape else theirs.max()
        self._lift_state[:] = other._lift_state if len(self._lift_state) == len(other._lift_state) else 0.0
        if self._lift_detector is not None:
            return other._lift_detector is not None and self._lift_detector.adopt(other._lift_detector) and heard
        return heard
