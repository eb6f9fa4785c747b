"""Split: the sound in two to five bands, each with a short chain of its own."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Literal, NamedTuple, Self

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.crossover import LinearBand, all_pass, band_sections, linear_latency
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import Sections, cascade
from gluvo.dsp.kernel import Audio
from gluvo.steps.base import Analysis, ContainerRow, N, Processor, Step, Wiring
from gluvo.steps.common import StereoComponent, amount, columns_of, mix, works_on
from gluvo.steps.kinds import AnyStep
from gluvo.steps.settings import choice, hertz, number, setting_of, switch

LEAST_BANDS, MOST_BANDS, MOST_STEPS = 2, 5, 16
LOWEST, HIGHEST = 40.0, 16_000.0
"""Hz between which bands may meet."""
APART = 2.0 ** (1.0 / 3.0)
"""How far apart two crossovers stay when they are moved: a third of an octave."""
NAMES = {
    2: ("Lows", "Highs"),
    3: ("Lows", "Mids", "Highs"),
    4: ("Lows", "Low mids", "High mids", "Highs"),
    5: ("Lows", "Low mids", "Mids", "High mids", "Highs"),
}
MEET = "Where bands meet"
_crossing = number("Crossover", "Hz", LOWEST, HIGHEST, "Where one band ends and the next begins.", scale="log")
Crossing = Annotated[float, _crossing]
CROSSOVER = setting_of("crossover", _crossing, 1000.0)
"""One of the crossovers as a setting."""


class SplitBand(msgspec.Struct, frozen=True, kw_only=True):
    """One band. A new one lets its range pass as it came."""

    id: Annotated[int, msgspec.Meta(ge=1)]
    """Tells bands of a Split apart, however they are ordered."""
    steps: Annotated[tuple[AnyStep, ...], msgspec.Meta(max_length=MOST_STEPS)] = ()
    key: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the stem or bus that the detectors in the band listen to, in the band's range; empty for the band."""

    on: Annotated[bool, switch("On", "Whether the band is worked on. Off, its range passes as it came.")] = True
    mix: Annotated[
        float,
        mix(
            "How much of what the band's steps made is in the result; the rest is the band as it came, in step to the "
            "sample."
        ),
    ] = 100.0
    gain: Annotated[
        float, number("Gain", "dB", -24.0, 24.0, "How loud the band is in the sum.", decimals=2, fine=0.1)
    ] = 0.0
    target: Annotated[
        StereoComponent,
        works_on(
            "The part of the band that its steps, mix and gain work on: all of it, what both sides share, or what differs "
            "between them. The rest passes as it came."
        ),
    ] = "stereo"

    @property
    def is_transparent(self) -> bool:
        """Whether it leaves its range as it came, but for the crossover."""
        idle = self.mix == 0.0 or all(step.is_transparent or not step.on for step in self.steps)
        return not self.on or (idle and self.gain == 0.0)

    def words(self, low: float, high: float) -> str:
        """Where it lies, from `low` to `high` Hz, and how it is set."""
        words = [f"{hertz(low)} – {hertz(high)}"]
        words += [f"{self.target} only"] if self.target != "stereo" else []
        words += [f"mix {self.mix:.0f} %"] if self.mix < 100.0 else []
        words += [f"{self.gain:+.1f} dB".replace("-", "−")] if self.gain else []
        return " · ".join(words if self.on else words[:1])


class BandSet(NamedTuple):
    """The bands of all of the sound, or of its mid or its side, with where they meet."""

    part: StereoComponent
    bands: tuple[SplitBand, ...]
    crossovers: tuple[float, ...]

    @property
    def edges(self) -> tuple[tuple[float, float], ...]:
        """Each band from where to where, Hz."""
        return tuple(itertools.pairwise((20.0, *self.crossovers, 20_000.0)))

    @property
    def names(self) -> tuple[str, ...]:
        """What the bands are called."""
        names = NAMES[len(self.bands)]
        return names if self.part == "stereo" else tuple(f"{self.part.title()} {name.lower()}" for name in names)

    def place(self, id: int) -> int:
        """Which band it is, from the lowest on."""
        return [band.id for band in self.bands].index(id)

    def with_crossover(self, place: int, freq: float) -> BandSet:
        low = self.crossovers[place - 1] * APART if place else LOWEST
        high = self.crossovers[place + 1] / APART if place + 1 < len(self.crossovers) else HIGHEST
        found = list(self.crossovers)
        found[place] = min(max(high, LOWEST), max(low, freq)) if low <= high else found[place]
        return self._replace(crossovers=tuple(found))

    def divided(self, id: int, fresh: int) -> BandSet:
        n = self.place(id)
        low, high = self.edges[n]
        middle = math.sqrt(max(low, LOWEST / APART) * min(high, HIGHEST * APART))
        fits = all(max(middle, f) / min(middle, f) >= APART * 0.999 for f in self.crossovers)
        if len(self.bands) == MOST_BANDS or not fits:
            return self
        return self._replace(
            bands=(*self.bands[: n + 1], SplitBand(id=fresh), *self.bands[n + 1 :]),
            crossovers=(*self.crossovers[:n], middle, *self.crossovers[n:]),
        )

    def merged(self, id: int) -> BandSet:
        n = self.place(id)
        if len(self.bands) == LEAST_BANDS or n + 1 >= len(self.bands):
            return self
        low, high = self.bands[n], self.bands[n + 1]
        kept = low if low.steps or not high.steps else msgspec.structs.replace(high, id=low.id)
        return self._replace(
            bands=(*self.bands[:n], kept, *self.bands[n + 2 :]),
            crossovers=(*self.crossovers[:n], *self.crossovers[n + 1 :]),
        )

    def without(self, id: int) -> BandSet:
        n = self.place(id)
        if len(self.bands) == LEAST_BANDS:
            return self
        cut = max(0, n - 1)
        return self._replace(
            bands=(*self.bands[:n], *self.bands[n + 1 :]),
            crossovers=(*self.crossovers[:cut], *self.crossovers[cut + 1 :]),
        )

    def problem(self) -> str:
        """What makes no sense about it, as the end of a sentence; nothing, if nothing does."""
        of = "" if self.part == "stereo" else f"{self.part} "
        if not LEAST_BANDS <= len(self.bands) <= MOST_BANDS:
            return f"has {len(self.bands)} {of}bands; there may be {LEAST_BANDS} to {MOST_BANDS}"
        if len(self.crossovers) != len(self.bands) - 1:
            return f"has {len(self.bands)} {of}bands and {len(self.crossovers)} crossovers; there must be one less than bands"
        if any(b <= a for a, b in itertools.pairwise(self.crossovers)):
            return f"has {of}crossovers that do not rise from one to the next"
        return ""


class Split(Step, tag="split", frozen=True, kw_only=True):
    """Divides the sound once, for all that works by band. While no band does anything it passes bit for bit."""

    title: ClassVar[str] = "Split"
    summary: ClassVar[str] = "Two to five bands, each with steps, mix and gain of its own"
    analyses: ClassVar[tuple[Analysis, ...]] = ("lateness",)
    contains_steps: ClassVar[bool] = True

    bands: Annotated[tuple[SplitBand, ...], msgspec.Meta(min_length=LEAST_BANDS, max_length=MOST_BANDS)] = (
        SplitBand(id=1),
        SplitBand(id=2),
        SplitBand(id=3),
    )
    """From the lowest to the highest; of the mid alone, where the side has bands of its own."""
    crossovers: Annotated[tuple[Crossing, ...], msgspec.Meta(min_length=1, max_length=MOST_BANDS - 1)] = (
        160.0,
        4000.0,
    )
    """Hz, rising, one less than there are bands."""
    side_bands: Annotated[tuple[SplitBand, ...], msgspec.Meta(max_length=MOST_BANDS)] = ()
    """Those of the side, where mid and side are divided each for itself; none where all of the sound is divided alike."""
    side_crossovers: Annotated[tuple[Crossing, ...], msgspec.Meta(max_length=MOST_BANDS - 1)] = ()
    slope: Annotated[
        Literal[12, 24, 48],
        choice(
            "Slope",
            (("12", "12 dB/oct"), ("24", "24 dB/oct"), ("48", "48 dB/oct")),
            "How steeply the bands part. Gentle ones blend, steep ones keep their neighbours out and ring more.",
            group=MEET,
        ),
    ] = 24
    phase: Annotated[
        Literal["minimum", "linear"],
        choice(
            "Phase",
            (("minimum", "Min. phase"), ("linear", "Linear phase")),
            "Minimum phase is at once, and turns the phase about each crossover while a band is at work. Linear phase turns "
            "none, is late, and may be heard before low hits.",
            group=MEET,
        ),
    ] = "minimum"

    amount: Annotated[float, amount("all that the bands do", MEET)] = 100.0

    # --- bands ---------------------------------------------------------------------------------------------

    @property
    def sets(self) -> tuple[BandSet, ...]:
        """Its bands: all of them, or first those of the mid, then those of the side."""
        if not self.side_bands:
            return (BandSet("stereo", self.bands, self.crossovers),)
        return BandSet("mid", self.bands, self.crossovers), BandSet("side", self.side_bands, self.side_crossovers)

    @property
    def all_bands(self) -> tuple[SplitBand, ...]:
        """The bands of all sets."""
        return (*self.bands, *self.side_bands)

    @property
    def edges(self) -> tuple[tuple[float, float], ...]:
        """Each of all bands from where to where, Hz."""
        return tuple(edges for part in self.sets for edges in part.edges)

    @property
    def names(self) -> tuple[str, ...]:
        """What all bands are called, by their place."""
        return tuple(name for part in self.sets for name in part.names)

    def band(self, id: int) -> SplitBand | None:
        return next((band for band in self.all_bands if band.id == id), None)

    def set_of(self, id: int) -> BandSet:
        """The set that a band is of; the first, if it is gone."""
        return next((part for part in self.sets if any(band.id == id for band in part.bands)), self.sets[0])

    def place(self, id: int) -> int:
        """Which of all bands it is; the lowest if it is gone."""
        return next((n for n, band in enumerate(self.all_bands) if band.id == id), 0)

    def lateness(self, rate: int) -> int:
        """Frames by which its bands are late while one is at work. Takes a while the first time, in linear phase."""
        if self.phase == "minimum" or self.is_transparent:
            return 0
        return max(linear_latency(part.crossovers, rate, int(self.slope)) for part in self.sets)

    def row_id(self, band: int) -> str:
        return f"{self.id}/{band}"

    def with_band(self, id: int, **changes: object) -> Self:
        """Settings of a band changed."""

        def changed(bands: tuple[SplitBand, ...]) -> tuple[SplitBand, ...]:
            return tuple(msgspec.structs.replace(b, **changes) if b.id == id else b for b in bands)

        return self._with(bands=changed(self.bands), side_bands=changed(self.side_bands))

    def with_set(self, changed: BandSet) -> Self:
        """One of its sets as another one is."""
        if changed.part == "side":
            return self._with(side_bands=changed.bands, side_crossovers=changed.crossovers)
        return self._with(bands=changed.bands, crossovers=changed.crossovers)

    def with_crossover(self, place: int, freq: float, part: int = 0) -> Self:
        """A crossover of a set moved, as far as its neighbours let it."""
        return self.with_set(self.sets[part].with_crossover(place, freq))

    def divided(self, id: int) -> Self:
        """A band split in two in the middle of its range; the upper one is new and empty. As it was, where there is no
        room for one more."""
        found = self.set_of(id)
        more = found.divided(id, self._fresh) if self.band(id) is not None else found
        return self if more is found else self.with_set(more)

    def merged(self, id: int) -> Self:
        """A band and the next higher one made one, with the chain of the first, or where that has none, of the other. As it
        was for the highest, and where there are only two."""
        found = self.set_of(id)
        less = found.merged(id) if self.band(id) is not None else found
        return self if less is found else self.with_set(less)

    def without_part(self, id: int) -> Self:
        """A band taken out with its steps; its range goes to the one below, that of the lowest to the one above. As it was,
        where there are only two."""
        found = self.set_of(id)
        less = found.without(id) if self.band(id) is not None else found
        return self if less is found else self.with_set(less)

    def with_side(self, apart: bool) -> Self:
        """Mid and side divided each for itself, or all of the sound alike again. The bands become those of the mid; those of
        the side begin empty, where the others meet, and are gone again with their steps."""
        if apart is bool(self.side_bands):
            return self
        if not apart:
            return self._with(side_bands=(), side_crossovers=())
        fresh = tuple(SplitBand(id=self._fresh + n) for n in range(len(self.bands)))
        return self._with(side_bands=fresh, side_crossovers=self.crossovers)

    @property
    def _fresh(self) -> int:
        """An id that no band has."""
        return max(band.id for band in self.all_bands) + 1

    def _with(self, **changes: object) -> Self:
        return msgspec.structs.replace(self, **changes)

    # --- what containers do --------------------------------------------------------------------------------

    @property
    def rows(self) -> tuple[tuple[Step, ...], ...]:
        return tuple(band.steps for band in self.all_bands)

    def with_rows(self, rows: Sequence[Sequence[Step]]) -> Self:
        made = tuple(
            msgspec.structs.replace(band, steps=tuple(row)) for band, row in zip(self.all_bands, rows, strict=True)
        )
        return self._with(bands=made[: len(self.bands)], side_bands=made[len(self.bands) :])

    @property
    def row_ids(self) -> tuple[str, ...]:
        return tuple(self.row_id(band.id) for band in self.all_bands)

    @property
    def told_rows(self) -> tuple[ContainerRow, ...]:
        return tuple(
            ContainerRow(
                id=self.row_id(band.id),
                part=band.id,
                name=name,
                words=band.words(*edges),
                on=band.on,
                is_transparent=band.is_transparent,
                share=band.mix / 100.0 * self.amount / 100.0,
                steps=band.steps,
            )
            for band, name, edges in zip(self.all_bands, self.names, self.edges, strict=True)
        )

    def with_row_on(self, part: int, on: bool) -> Self:
        return self.with_band(part, on=on)

    def with_level_moved(self, gain: float) -> Self:
        moved = super().with_level_moved(gain).rows
        return self.with_rows([b.steps if b.key else row for b, row in zip(self.all_bands, moved, strict=True)])

    def may_contain(self, item: Step) -> bool:
        return not item.contains_steps

    @property
    def parts(self) -> tuple[int, ...]:
        return tuple(band.id for band in self.all_bands)

    def with_part(self, id: int, **changes: object) -> Self:
        return self.with_band(id, **changes)

    @property
    def settings_of_parts(self) -> Mapping[int, msgspec.Struct]:
        return {band.id: band for band in self.all_bands}

    @property
    def in_words(self) -> Mapping[str, str]:
        said = {"stereo": "crossovers", "mid": "crossovers", "side": "crossovers of the side"}
        return {said[s.part]: ", ".join(f"{freq:.0f}" for freq in s.crossovers) + " Hz" for s in self.sets}

    @property
    def keys_from(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(band.key for band in self.all_bands if band.key))

    @property
    def is_transparent(self) -> bool:
        return self.amount == 0.0 or all(band.is_transparent for band in self.all_bands)

    def wired(self, x: N, wiring: Wiring[N]) -> N:
        """The bands that are worked on, each cut out, through its steps and summed.

        Where no band does anything the sound goes past it all; what the bands would be is known all the same to those
        who ask.
        """
        alone = [band for band in self.all_bands if wiring.alone(self.row_id(band.id))]
        total: list[tuple[N, float]] = []
        for part in self.sets:
            apart = part.part != "stereo"
            comes = wiring.run(Facet(id=f"{self.id}/{part.part}", part=part.part), x) if apart else x
            for n, band in enumerate(part.bands):
                came = wiring.run(self._cut(part, n), comes)
                key = wiring.key(band.key) if band.key else None
                heard = wiring.run(self._cut(part, n, "/key"), key) if key is not None else None
                gives = wiring.sum(f"{self.row_id(band.id)}/out", self._worked_on(band, came, heard, wiring, apart))
                wiring.part(self, band.id, came, gives)
                if not alone or band in alone:
                    total.append((gives, 1.0))
        return x if self.is_transparent and not alone else wiring.sum(f"{self.id}/sum", total)

    def _worked_on(
        self, band: SplitBand, came: N, key: N | None, wiring: Wiring[N], apart: bool
    ) -> list[tuple[N, float]]:
        """What a band comes down to, as sounds with their factors; one of mid or side `apart` is only that."""
        rest: list[tuple[N, float]] = []
        dry = came
        if band.target != "stereo" and not apart:
            other: StereoComponent = "side" if band.target == "mid" else "mid"
            dry = wiring.run(Facet(id=f"{self.row_id(band.id)}/{band.target}", part=band.target), came)
            rest = [(wiring.run(Facet(id=f"{self.row_id(band.id)}/{other}", part=other), came), 1.0)]
        wet = wiring.through(band.steps, dry, key) if band.on else dry
        if band.is_transparent:
            return [(came, 1.0)]
        gain, mix, amount = gain_of(band.gain), band.mix / 100.0, self.amount / 100.0
        if wet is dry:
            return [*rest, (dry, 1.0 + amount * (gain - 1.0) if amount != 1.0 else gain)]
        of_wet, of_dry = mix * gain, (1.0 - mix) * gain
        if amount != 1.0:  # what came and so much of what was done to it: both are in step
            of_wet, of_dry = amount * of_wet, 1.0 + amount * (of_dry - 1.0)
        return [*rest, *((node, share) for node, share in ((wet, of_wet), (dry, of_dry)) if share != 0.0)]

    def _cut(self, part: BandSet, place: int, of: str = "") -> Cut:
        others = {freq for one in self.sets if one is not part for freq in one.crossovers} - set(part.crossovers)
        return Cut(
            id=f"{self.row_id(part.bands[place].id)}{of}",
            crossovers=part.crossovers,
            place=place,
            slope=self.slope,
            phase=self.phase,
            turned=tuple(sorted(others)) if part.part != "stereo" else (),
        )

    # --- telling of it -------------------------------------------------------------------------------------

    def describe(self) -> str:
        counts = [len(part.bands) for part in self.sets]
        words = [f"{counts[0]} bands" if len(counts) == 1 else f"{counts[0]} bands of mid, {counts[1]} of side"]
        if self.is_transparent:
            return f"{words[0]} · passes as it came"
        words += ["linear phase"] if self.phase == "linear" else []
        words += [f"amount {self.amount:.0f} %"] if self.amount != 100.0 else []
        return " · ".join(words)

    def part_words(self) -> tuple[tuple[str, str], ...]:
        found = []
        for name, band, (low, high) in zip(self.names, self.all_bands, self.edges, strict=True):
            words = [f"{low:.0f}–{high:.0f} Hz", ", ".join(step.title for step in band.steps) or "as it came"]
            words += [f"{band.target} only"] if band.target != "stereo" else []
            words += [f"mix {band.mix:.0f} %"] if band.mix < 100.0 else []
            words += [f"{band.gain:+.1f} dB".replace("-", "−")] if band.gain else []
            found.append((name, " · ".join(words if band.on else [*words, "off"])))
        return tuple(found)

    def problem(self) -> str:
        ids = [band.id for band in self.all_bands]
        if len(set(ids)) != len(ids):
            return "has two bands with the same id"
        if self.side_crossovers and not self.side_bands:
            return "has crossovers of the side, which has no bands"
        return next((found for part in self.sets if (found := part.problem())), "")

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return Cut(), Cut(phase="linear"), Facet()


class Cut(Step, tag="split cut", frozen=True, kw_only=True):
    """What a Split cuts out for one of its bands. Stands in no chain."""

    crossovers: tuple[float, ...] = (160.0,)
    place: int = 0
    slope: Literal[12, 24, 48] = 24
    phase: Literal["minimum", "linear"] = "minimum"
    turned: tuple[float, ...] = ()
    """Hz of crossovers of the other part, mid or side, about which the phase is turned as they turn it, so that both stay in
    step with each other; in minimum phase."""

    def make(self, rate: int) -> Processor:
        return LinearCutProcessor(self, rate) if self.phase == "linear" else CutProcessor(self, rate)


class CutProcessor(Processor):
    """A band by filters."""

    def __init__(self, settings: Cut, rate: int) -> None:
        super().__init__()
        slope = int(settings.slope)
        turns = (all_pass(freq, rate, slope) for freq in settings.turned)
        self._sections = Sections(cascade(band_sections(settings.crossovers, settings.place, rate, slope), *turns))

    def process(self, x: Audio, out: Audio) -> None:
        self._sections.run(x, out)

    def adopt(self, other: Processor) -> bool:
        return isinstance(other, CutProcessor) and self._sections.adopt(other._sections)


class LinearCutProcessor(Processor):
    def __init__(self, settings: Cut, rate: int) -> None:
        super().__init__()
        self._band = LinearBand(settings.crossovers, settings.place, rate, int(settings.slope))
        self.latency = self._band.latency

    def process(self, x: Audio, out: Audio) -> None:
        self._band.run(x, out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, LinearCutProcessor):
            return False
        self._band.adopt(other._band)
        return True


class Facet(Step, tag="split part", frozen=True, kw_only=True):
    """The mid or the side of a sound, as left and right. Stands in no chain."""

    part: StereoComponent = "mid"

    def make(self, rate: int) -> FacetProcessor:
        return FacetProcessor(self)


class FacetProcessor(Processor):
    def __init__(self, settings: Facet) -> None:
        super().__init__()
        self._kept = columns_of(settings.part)

    def process(self, x: Audio, out: Audio) -> None:
        comp.to_mid_side(x, out)
        np.multiply(out, self._kept, out=out)
        comp.from_mid_side(out, out)
