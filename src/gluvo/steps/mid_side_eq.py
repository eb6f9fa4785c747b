"""Mid-side EQ: up to 24 bands on the stereo signal, on its mid or its side, or on one channel."""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Literal, Self, cast

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.convolution import PARTITION, Convolver, Magnitude, chosen_half, symmetric
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Audio, Floats
from gluvo.dsp.moving import MovingBand, selector
from gluvo.steps import solved
from gluvo.steps.bands import Band, Target
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step
from gluvo.steps.settings import choice, number, settings_of

MOST_BANDS = 24
ALL = "All bands"
MID_SIDE, LEFT_RIGHT = ("mid", "side"), ("left", "right")
OPPOSITE: dict[str, tuple[Target, Target]] = {
    "stereo": ("mid", "side"),
    "mid": ("mid", "side"),
    "side": ("side", "mid"),
    "left": ("left", "right"),
    "right": ("right", "left"),
}
"""What a band's target becomes when it is doubled, and what its twin's is."""
Columns = tuple[tuple[str, ...], tuple[str, ...]]
"""The targets that each of two columns takes its bands from."""


class MidSideEq(Step, tag="mid_side_eq", frozen=True, kw_only=True):
    """An equaliser with a target for every band. Without bands, or with bands of 0 dB, it passes bit for bit."""

    listens: ClassVar[bool] = True
    title: ClassVar[str] = "Mid-side EQ"
    summary: ClassVar[str] = "Tone: 24 bands on all of the sound, on its mid or side, left or right"
    shapes_tone: ClassVar[bool] = True
    analyses: ClassVar[tuple[Analysis, ...]] = ("bands",)
    leading: ClassVar[tuple[str, ...]] = ("strength", "output")
    solved_settings: ClassVar[Mapping[str, solved.Solved]] = solved.OUTPUT
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"hold_loudness"}

    bands: Annotated[tuple[Band, ...], msgspec.Meta(max_length=MOST_BANDS)] = ()

    strength: Annotated[
        float,
        number(
            "Strength",
            "%",
            0.0,
            200.0,
            "Scales the gains of all bands together. Cuts and notches stay as they are.",
            group=ALL,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    phase: Annotated[
        Literal["minimum", "linear"],
        choice(
            "Phase",
            (("minimum", "Min. phase"), ("linear", "Linear phase")),
            "Minimum phase is at once, and turns the phase about each band. Linear phase turns none, is late, and may "
            "be heard before low hits. What moves with the level stays minimum phase.",
            group=ALL,
        ),
    ] = "minimum"
    output: Annotated[float, solved.output(ALL)] = 0.0
    hold_loudness: Annotated[bool, solved.hold(ALL, "a change of tone is not judged by its loudness.")] = False

    def sound_key(self) -> bytes:
        bands = tuple(msgspec.structs.replace(band, aim=1.0, twin=0) for band in self.bands)
        return super(MidSideEq, self.replace(bands=bands)).sound_key()

    def before_moving(self, id: int) -> MidSideEq:
        """What a moving band hears: the bands at rest of its own pair of columns and those that move before it, and all
        of the pairs before."""
        band = self.band(id)
        assert band is not None
        stages = self.stages
        own = next((n for n, columns in enumerate(stages) if any(band.target in column for column in columns)), 0)
        earlier = {target for columns in stages[:own] for column in columns for target in column}
        order = [b.id for b in self.bands]
        same = {target for column in stages[own] for target in column} if stages else set()
        kept = (
            b
            for b in self.bands
            if b.target in earlier or (b.target in same and (not b.moving or order.index(b.id) < order.index(id)))
        )
        return self.replace(bands=tuple(b for b in kept if b.id != id), output=0.0)

    @property
    def keys_from(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(band.key for band in self.bands if band.moving and band.key))

    def with_level_moved(self, gain: float) -> Self:
        level = settings_of(Band)["threshold"]

        def moved(band: Band) -> Band:
            return msgspec.structs.replace(band, threshold=level.clamp(round(band.threshold + gain, 2)))

        return msgspec.structs.replace(
            self, bands=tuple(moved(b) if b.dynamic and not b.key else b for b in self.bands)
        )

    def key_place(self, band: Band) -> int | None:
        """Which of the keys a band listens to; None where it listens to the signal itself."""
        return self.keys_from.index(band.key) if band.moving and band.key else None

    @property
    def is_transparent(self) -> bool:
        at_work = (band.moving or band.prototypes(self.strength) for band in self.bands if band.on)
        return self.output == 0.0 and not any(at_work)

    def make(self, rate: int) -> MidSideEqProcessor:
        return MidSideEqProcessor(self, rate)

    @property
    def parts(self) -> tuple[int, ...]:
        return tuple(band.id for band in self.bands)

    @property
    def settings_of_parts(self) -> Mapping[int, msgspec.Struct]:
        return {band.id: band for band in self.bands}

    def with_part(self, id: int, **changes: object) -> Self:
        return cast(Self, self.with_edit(id, **changes))

    def without_part(self, id: int) -> Self:
        return cast(Self, self.without_band(id))

    def part_words(self) -> tuple[tuple[str, str], ...]:
        found = []
        for n, band in enumerate(self.bands, start=1):
            gain = f" {band.gain:+.1f} dB".replace("-", "−") if band.gain else ""
            words = f"{band.shape.replace('_', ' ')}, {band.target}, {band.freq:.0f} Hz{gain}"
            found.append((f"Band {n}", words if band.on else f"{words} (off)"))
        return tuple(found)

    def problem(self) -> str:
        if min(self.parts, default=1) < 1 or len(set(self.parts)) != len(self.parts):
            return "has two bands with the same id, or one without"
        return ""

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        moving, high = Band(id=1, gain=3.0, dynamic=True), Band(id=2, freq=15_000.0, gain=1.0, target="side")
        return cls(), cls(bands=(moving, high)), cls(bands=(Band(id=1, gain=3.0, target="mid"),), phase="linear")

    @property
    def memory(self) -> float:
        return max((5.0 * band.release / 1000.0 for band in self.bands if band.moving), default=0.0)

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.output)

    def describe(self) -> str:
        count = sum(band.on for band in self.bands)
        if not count:
            return "neutral"
        words = [f"{count} band{'s' if count > 1 else ''}"]
        words += ["linear phase"] if self.phase == "linear" else []
        words += [f"strength {self.strength:.0f} %"] if self.strength != 100.0 else []
        return " · ".join(words)

    def band(self, id: int) -> Band | None:
        return next((band for band in self.bands if band.id == id), None)

    def with_band(self, band: Band) -> MidSideEq:
        """The band of that id replaced."""
        return self.replace(bands=tuple(band if b.id == band.id else b for b in self.bands))

    def with_new_band(self, band: Band) -> tuple[MidSideEq, Band]:
        """A band added at the end, with an id of its own. The step must have room for it."""
        made = msgspec.structs.replace(band, id=max((b.id for b in self.bands), default=0) + 1)
        return self.replace(bands=(*self.bands, made)), made

    def with_edit(self, id: int, **changes: object) -> MidSideEq:
        """Settings of a band changed, and those of its twin with it; its target and place stay its own."""
        band = self.band(id)
        if band is None:
            return self
        step = self.with_band(msgspec.structs.replace(band, **changes))
        twin = self.band(band.twin) if band.twin else None
        shared = {name: value for name, value in changes.items() if name not in ("target", "twin")}
        return step.with_band(msgspec.structs.replace(twin, **shared)) if twin is not None else step

    def with_twin(self, id: int) -> tuple[MidSideEq, Band]:
        """A band doubled for the other target, the two linked. A stereo band becomes one of mid and one of side."""
        band = self.band(id)
        assert band is not None
        own, other = OPPOSITE[band.target]
        step, made = self.with_new_band(msgspec.structs.replace(band, target=other, twin=id))
        return step.with_band(msgspec.structs.replace(band, target=own, twin=made.id)), made

    def without_twin(self, id: int) -> MidSideEq:
        """A band and its twin each go their own way."""
        band = self.band(id)
        alone = {id, band.twin} if band is not None else set()
        return self.replace(bands=tuple(msgspec.structs.replace(b, twin=0) if b.id in alone else b for b in self.bands))

    def without_band(self, id: int) -> MidSideEq:
        """The band taken out; its twin goes on alone."""
        rest = (msgspec.structs.replace(b, twin=0) if b.twin == id else b for b in self.bands if b.id != id)
        return self.replace(bands=tuple(rest))

    def replace(self, **changes: object) -> MidSideEq:
        return msgspec.structs.replace(self, **changes)

    @property
    def stages(self) -> list[Columns]:
        """The pairs of columns that are worked on one after the other: mid and side first, then left and right."""
        targets = {band.target for band in self.bands if band.on}
        found: list[Columns] = []
        if targets & set(MID_SIDE):
            found.append((("stereo", "mid"), ("stereo", "side")))
        if targets & set(LEFT_RIGHT) or (targets and not found):
            both = () if found else ("stereo",)
            found.append(((*both, "left"), (*both, "right")))
        return found

    def response(self, targets: tuple[str, ...], freqs: Floats, rate: int, *, moving: bool = True) -> np.ndarray:
        """The complex response at rest of all bands with these targets, output aside. Without `moving`, of those that
        stand still."""
        total = np.ones(len(freqs), dtype=complex)
        for band in self.bands:
            if band.target in targets and (moving or not band.moving):
                total *= band.response(freqs, rate, self.strength)
        return total

    def lateness(self, rate: int) -> tuple[int, float]:
        """The latency of linear phase in frames, and how far its response is off at most, dB."""
        if self.phase != "linear" or all(self.is_flat(columns) for columns in self.stages):
            return 0, 0.0
        half, off = _half(self, rate)
        return half + PARTITION, off

    def is_flat(self, columns: Columns) -> bool:
        """Whether no band that stands still does anything to one of these targets."""
        targets = {target for column in columns for target in column}
        still = (b for b in self.bands if b.target in targets and not b.moving)
        return not any(b.on and b.prototypes(self.strength) for b in still)


def equaliser(step: Step | None) -> MidSideEq | None:
    """The step, if it is an equaliser."""
    return step if isinstance(step, MidSideEq) else None


def _magnitude(eq: MidSideEq, targets: tuple[str, ...], rate: int) -> Magnitude:
    return lambda freqs: np.abs(eq.response(targets, freqs, rate, moving=False))


@functools.lru_cache(maxsize=64)
def _half(eq: MidSideEq, rate: int) -> tuple[int, float]:
    return chosen_half([_magnitude(eq, column, rate) for columns in eq.stages for column in columns], rate)


def _convolver(eq: MidSideEq, rate: int) -> Convolver:
    """The linear-phase filters of all bands: on left and right, on mid and side, or where there are both kinds of
    bands from each channel to each."""
    half, _ = _half(eq, rate)

    def taps(magnitude: Magnitude) -> Floats:
        return symmetric(magnitude, half, rate)

    stages = eq.stages
    if len(stages) == 1:
        one, other = (_magnitude(eq, column, rate) for column in stages[0])
        return Convolver([[taps(one), None], [None, taps(other)]], mid_side=stages[0][0][-1] == "mid")
    mid, side = (_magnitude(eq, column, rate) for column in stages[0])
    left, right = (_magnitude(eq, (target,), rate) for target in LEFT_RIGHT)

    def signed(channel: Magnitude, sign: float) -> Floats:
        return taps(lambda f: 0.5 * channel(f) * (mid(f) + sign * side(f)))

    return Convolver([[signed(left, 1.0), signed(left, -1.0)], [signed(right, -1.0), signed(right, 1.0)]])


NOTHING_ROW = np.array([1.0, 0.0, 0.0, 1.0, 0.0, 0.0])


class Stage:
    """The bands of two columns, mid and side or left and right."""

    def __init__(self, eq: MidSideEq, columns: Columns, rate: int, *, still: bool) -> None:
        """`still`: whether the bands at rest are run here, too."""
        self.mid_side = "mid" in columns[0]
        rows: list[Floats] = []
        self.places: list[tuple[int, int, bool]] = []
        """For each row the band's id, which of its sections it is, and whether it is the same in both columns."""
        self.moving: dict[int, MovingBand] = {}
        self._keys: dict[int, int] = {}
        """Which key each moving band that has one listens to."""
        self._heard = np.zeros((MAX_BLOCK, 2))
        for band in eq.bands:
            inside = band.target in columns[0], band.target in columns[1]
            if not any(inside) or not band.on:
                continue
            if band.moving:
                table, neutral_at = band.moving_table(rate, eq.strength)
                self.moving[band.id] = MovingBand(
                    inside,
                    selector(band.shape, band.freq, band.q, rate),
                    band.curve(eq.strength),
                    band.times(rate),
                    table,
                    rises=band.moves == "up",
                    neutral_at=neutral_at,
                )
                if (place := eq.key_place(band)) is not None:
                    self._keys[band.id] = place
                continue
            for n, section in enumerate(band.sections(rate, eq.strength) if still else ()):
                rows.append(np.stack([section if c else NOTHING_ROW for c in inside]))
                self.places.append((band.id, n, all(inside)))
        self.still = Sections(np.array(rows).reshape(-1, 2, 6))
        """The bands that stand still."""

    @property
    def idle(self) -> bool:
        return not len(self.still.sos) and not self.moving

    def run(
        self,
        x: Audio,
        moved: dict[int, Floats],
        keys: Sequence[Audio] = (),
        beside: tuple[Stage, Audio] | None = None,
    ) -> None:
        """Process `x` in place; tell by how many dB each moving band has moved. `beside`: the same bands for the whole song, and
        that, which is processed in place, too; then bands move as they do there."""
        if self.mid_side:
            comp.to_mid_side(x, x)
        self.still.run(x, x)
        if beside is not None:
            other, whole = beside
            if self.mid_side:
                comp.to_mid_side(whole, whole)
            other.still.run(whole, whole)
        for id, band in self.moving.items():
            key = self._key(id, keys)
            if beside is not None:
                other, whole = beside
                band.run(x, moved[id][: len(x)], whole if key is None else key)
                other.moving[id].run(whole, moved[id][: len(x)], key)
            else:
                band.run(x, moved[id][: len(x)], key)
        if self.mid_side:
            comp.from_mid_side(x, x)
            if beside is not None:
                comp.from_mid_side(beside[1], beside[1])

    def _key(self, id: int, keys: Sequence[Audio]) -> Audio | None:
        """What a moving band listens to, in the columns that are worked on; None for the sound itself."""
        place = self._keys.get(id, len(keys))
        if place >= len(keys) or not self.mid_side:
            return keys[place] if place < len(keys) else None
        heard = self._heard[: len(keys[place])]
        comp.to_mid_side(keys[place], heard)
        return heard

    def is_as(self, other: Stage) -> bool:
        """Whether the bands at rest are the same to the bit."""
        return (
            self.mid_side == other.mid_side
            and self.places == other.places
            and np.array_equal(self.still.sos, other.still.sos)
        )

    def adopt(self, other: Stage, *, still: bool = True) -> None:
        """Go on where the same bands are, those at rest if `still`. Filters are linear: what was left and right becomes
        mid and side."""
        theirs = {place[:2]: n for n, place in enumerate(other.places)}
        for n, (id, section, both) in enumerate(self.places if still else ()):
            found = theirs.get((id, section))
            if found is None:
                continue
            past = other.still.memory[found]
            if self.mid_side == other.mid_side:
                self.still.memory[n] = past
            elif both:
                a, b = past[:, 0], past[:, 1]
                scale = 0.5 if self.mid_side else 1.0
                self.still.memory[n, :, 0], self.still.memory[n, :, 1] = scale * (a + b), scale * (a - b)
        if self.mid_side == other.mid_side:
            for id, band in self.moving.items():
                if id in other.moving:
                    band.adopt(other.moving[id])


class MidSideEqProcessor(Processor):
    def __init__(self, settings: MidSideEq, rate: int) -> None:
        super().__init__()
        self.latency, _ = settings.lateness(rate)
        self._convolver = _convolver(settings, rate) if self.latency else None
        still = self._convolver is None
        stages = [Stage(settings, columns, rate, still=still) for columns in settings.stages]
        self.stages = [stage for stage in stages if not stage.idle]
        self._gain = gain_of(settings.output)
        self.moved = {id: np.zeros(MAX_BLOCK) for stage in self.stages for id in stage.moving}
        self._settings, self._rate = settings, rate
        self._twin: MidSideEqProcessor | None = None
        """What the whole song goes through, where only a part of it comes in."""
        self._heard = np.zeros((0, 2))

    def follow(self) -> None:
        super().follow()
        if self.moved:
            self._twin, self._heard = MidSideEqProcessor(self._settings, self._rate), np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        twin = self._twin
        if twin is not None and self.whole is not None:
            heard = self._heard[: len(x)]
            if twin._convolver is not None:
                twin._convolver.run(self.whole, heard)
            else:
                np.copyto(heard, self.whole)
        if self._convolver is not None:
            self._convolver.run(x, out)
        elif out is not x:
            np.copyto(out, x)
        for n, stage in enumerate(self.stages):
            stage.run(out, self.moved, self.keys, (twin.stages[n], self._heard[: len(x)]) if twin is not None else None)
        if self._gain != 1.0:
            np.multiply(out, self._gain, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, MidSideEqProcessor):
            return False
        if self._convolver is not None and other._convolver is not None:
            self._convolver.adopt(other._convolver)
        same = len(self.stages) == len(other.stages) and all(
            mine.is_as(theirs) for mine, theirs in zip(self.stages, other.stages, strict=True)
        )
        for stage in self.stages:
            for theirs in other.stages:
                stage.adopt(theirs, still=same)
        return same and (self._convolver is None) == (other._convolver is None)
