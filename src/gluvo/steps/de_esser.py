"""De-esser: sharp consonants, measured against the voice that they belong to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.filters import Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Audio, Floats, record
from gluvo.dsp.moving import ShiftedBand
from gluvo.dsp.sibilance import relative_levels
from gluvo.dsp.simd_max import largest
from gluvo.measure.overview import REDUCED_BY, ReducedBy
from gluvo.steps.bands import Band
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step
from gluvo.steps.common import StereoComponent, columns_of, works_on
from gluvo.steps.detector_monitor import DetectorMonitor
from gluvo.steps.settings import choice, number, switch
from gluvo.steps.solved import Solved

HEARS, GOES = "What it listens to", "How far it goes"
AVERAGING, VOICE_RELEASE = 0.004, 0.4
"""Seconds over which levels are taken, and in which the voice's own level falls."""
KNEE = 3.0
"""dB over which it sets in."""
SHELF_BELOW = 0.75
"""Where the shelf that lowers the range has its middle, as a share of where the range begins."""
WORKS = 0.1
"""dB of reduction from which it is said to work."""


class DeEsser(Step, tag="de_esser", frozen=True, kw_only=True):
    """Lowers what stands too far over the voice in a range. With nothing to be taken it passes bit for bit."""

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "De-esser"
    summary: ClassVar[str] = "Lowers sharp consonants, measured against the voice's own level"
    analyses: ClassVar[tuple[Analysis, ...]] = ("events",)
    leading: ClassVar[tuple[str, ...]] = ("aim", "hold_aim", "range", "low")
    reduces: ClassVar[bool] = True
    has_ear: ClassVar[bool] = True
    takes_key: ClassVar[bool] = True
    solved_settings: ClassVar[Mapping[str, Solved]] = {
        "threshold": Solved("reduction", "hold_aim", "aim", aim_by="aim_by", while_working=True)
    }
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"aim", "aim_by", "hold_aim"}

    key: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the stem or bus that the detector listens to instead; empty for the signal itself."""

    low: Annotated[
        float,
        number("From", "Hz", 2000.0, 10_000.0, "Where the sharp range begins.", group=HEARS, scale="log"),
    ] = 5000.0
    high: Annotated[
        float,
        number("To", "Hz", 4000.0, 16_000.0, "Where the range that it listens to ends.", group=HEARS, scale="log"),
    ] = 12_000.0
    mode: Annotated[
        StereoComponent,
        works_on(
            "Which part of the stereo signal is heard and lowered. A voice in the middle of a mix is in the mid.", HEARS
        ),
    ] = "stereo"

    threshold: Annotated[
        float,
        number(
            "Threshold",
            "dB",
            -40.0,
            0.0,
            "How far under the voice's own level the range may stand before it is lowered. It goes by the voice, so that "
            "soft and loud lines are treated alike.",
            group=GOES,
            decimals=2,
            fine=0.1,
        ),
    ] = -12.0
    range: Annotated[
        float,
        number("At most", "dB", 0.0, 24.0, "It never lowers by more than this. At 0 nothing is done.", group=GOES),
    ] = 0.0
    lowers: Annotated[
        Literal["split", "wide"],
        choice(
            "Lowers",
            (("split", "the range"), ("wide", "everything")),
            "Whether only what lies above the range's beginning is lowered, or the whole voice for as long as it is sharp.",
            group=GOES,
        ),
    ] = "split"
    attack: Annotated[
        float,
        number("Attack", "ms", 0.1, 30.0, "How quickly it goes down.", group=GOES, scale="log"),
    ] = 1.0
    release: Annotated[
        float,
        number("Release", "ms", 5.0, 500.0, "How quickly it comes back.", group=GOES, scale="log"),
    ] = 40.0

    aim: Annotated[
        float,
        number(
            "Reduce by",
            "dB",
            0.1,
            12.0,
            "How much it takes where it works, as is said beside it; the threshold is sought for that.",
            group="Aim",
        ),
    ] = 2.0
    aim_by: Annotated[
        ReducedBy,
        choice(
            "Aim at",
            tuple(REDUCED_BY.items()),
            "What is to be that much: what the sharpest sounds lose, which is passed 5 % of the time that it works; the "
            "largest of all; or the mean while it works.",
            group="Aim",
        ),
    ] = "peaks"
    hold_aim: Annotated[
        bool, switch("Hold", "Finds the threshold again whenever another setting changes.", group="Aim")
    ] = False

    def make(self, rate: int) -> DeEsserProcessor:
        return DeEsserProcessor(self, rate)

    def ear(self, rate: int) -> DetectorMonitor:
        return DetectorMonitor(self.detector(rate))

    @property
    def keys_from(self) -> tuple[str, ...]:
        return (self.key,) if self.key else ()

    @property
    def is_transparent(self) -> bool:
        return self.range == 0.0

    def not_solvable(self, setting: str) -> str:
        return "At most 0 dB are taken. Raise that first." if self.range == 0.0 else ""

    @property
    def held_now(self) -> tuple[str, ...]:
        """There is no threshold to be found where nothing is to be taken."""
        return super().held_now if self.range > 0.0 else ()

    @property
    def memory(self) -> float:
        return 0.0 if self.is_transparent else 5.0 * max(self.release / 1000.0, VOICE_RELEASE)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(range=6.0, threshold=-20.0), cls(range=6.0, lowers="wide", mode="mid", threshold=-20.0)

    def describe(self) -> str:
        if self.range == 0.0:
            return "neutral"
        return f"{self.threshold:.1f} dB under the voice, at most {self.range:.1f}".replace("-", "")

    @property
    def curve(self) -> comp.Curve:
        """The static curve over the relative level."""
        return comp.Curve(float(self.threshold), 1.0, KNEE, float(self.range))

    def times(self, rate: int) -> comp.Times:
        """There is no slow release."""
        return comp.Times(comp.pole(self.attack / 1000.0, rate), comp.pole(self.release / 1000.0, rate), 0.0, 0.0, 0.0)

    def detector(self, rate: int) -> SibilanceDetector:
        return SibilanceDetector(self, rate)

    def detector_sections(self, rate: int) -> Floats:
        """What the range is cut out with."""
        high = max(self.high, self.low * 1.2)
        return cascade(low_cut(self.low, 24, rate), high_cut(high, 12, rate))

    def shelf(self, rate: int) -> ShiftedBand:
        """What lowers the range: at every moment a shelf of the gain that it has then."""
        band = Band(
            id=1, shape="high_shelf", freq=self.low * SHELF_BELOW, slope=24, q=0.71, dynamic=True, range=self.range
        )
        table, neutral = band.moving_table(rate)
        return ShiftedBand(table, self.range, neutral)


class SibilanceDetector:
    """Levels in dB of the range, relative to the voice."""

    columns = 1

    def __init__(self, settings: DeEsser, rate: int) -> None:
        self.sections = Sections(settings.detector_sections(rate))
        self.heard = columns_of(settings.mode)
        self.mid_side = settings.mode != "stereo"
        self._smoothing = comp.pole(AVERAGING, rate)
        self._release = comp.pole(VOICE_RELEASE, rate) ** 2  # of a mean square
        self.state = np.zeros(3)
        self._voice, self._band = np.zeros((MAX_BLOCK, 2)), np.zeros((MAX_BLOCK, 2))
        self._ratio = np.zeros(MAX_BLOCK)

    def listen(self, x: Audio) -> tuple[Audio, Audio]:
        """The voice, and the range of it; in mid and side where it works on one of them. Used again by the next block."""
        voice, band = self._voice[: len(x)], self._band[: len(x)]
        if self.mid_side:
            comp.to_mid_side(x, voice)
            np.multiply(voice, self.heard, out=voice)
        else:
            np.copyto(voice, x)
        self.sections.run(voice, band)
        return voice, band

    def hear(self, x: Audio) -> Audio:
        """The range of it alone."""
        return self.listen(x)[1]

    def run(self, x: Audio, out: Floats) -> None:
        """Relative levels of `x` (n, 2) into the first n of ``out[0]``."""
        voice, band = self.listen(x)
        relative_levels(voice, band, self._smoothing, self._release, self.state, self._ratio, out[0])

    def adopt(self, other: SibilanceDetector) -> bool:
        np.copyto(self.state, other.state)
        return self.sections.adopt(other.sections)


class DeEsserProcessor(Processor):
    def __init__(self, settings: DeEsser, rate: int) -> None:
        super().__init__()
        self._passes = settings.is_transparent
        self._curve, self._times = record(settings.curve), record(settings.times(rate))
        self._detector = settings.detector(rate)
        self._shelf = settings.shelf(rate) if settings.lowers == "split" and not self._passes else None
        self._level, self._reduction = np.zeros((1, MAX_BLOCK)), np.zeros((1, MAX_BLOCK))
        self._factors, self._state = np.zeros((2, MAX_BLOCK)), comp.stages(1)

    def process(self, x: Audio, out: Audio) -> None:
        n, detector = len(x), self._detector
        if self._passes:
            np.copyto(out, x)
            return
        whole = x if self.whole is None else self.whole
        detector.run(self.keys[0] if self.keys else whole, self._level)
        comp.ballistics(self._level, n, self._curve, self._times, self._state, self._reduction)
        self.level[0] = largest(self._level[0, :n])
        np.copyto(self.reduction[:n], self._reduction[0, :n])
        mid, side = detector.heard
        if self._shelf is None:
            if detector.mid_side:
                comp.apply_gain_mid_side(x, self._reduction, 1.0, 1.0, mid, side, self._factors, out)
            else:
                comp.apply_gain(x, self._reduction, 1.0, 1.0, self._factors, out)
            return
        if out is not x:
            np.copyto(out, x)
        if detector.mid_side:
            comp.to_mid_side(out, out)
        self._shelf.run(out, self.reduction[:n], detector.heard)
        if detector.mid_side:
            comp.from_mid_side(out, out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, DeEsserProcessor):
            return False
        heard = self._detector.adopt(other._detector)
        np.copyto(self._state, other._state)
        if self._shelf is not None:
            return other._shelf is not None and self._shelf.adopt(other._shelf) and heard
        return heard
