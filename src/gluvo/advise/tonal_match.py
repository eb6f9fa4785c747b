"""An ordinary equaliser that brings a sound's tone towards that of references."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import msgspec
import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.errors import GluvoError
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import Tone, octaves
from gluvo.progress import Progress, no_progress
from gluvo.session.records import MIX, Session
from gluvo.steps import Band, MidSideEq
from gluvo.steps.common import StereoComponent
from gluvo.steps.fitting import MOST_GAIN, fitted, response_of
from gluvo.steps.settings import number, switch

LOWEST, HIGHEST = 30.0, 16_000.0
MOST_BANDS = 8
POINTS = 12
FRACTION = 3


class MatchSettings(msgspec.Struct, frozen=True, kw_only=True):
    """How far, and how finely, a tone is matched."""

    amount: Annotated[
        float,
        number("Amount", "%", 0.0, 100.0, "How much of the difference is made up.", decimals=0, fine=1.0),
    ] = 50.0
    bands: Annotated[int, number("Bands at most", "", 1, MOST_BANDS, "How many bands it may take.", decimals=0)] = 5
    apart: Annotated[
        bool, switch("Mid and side apart", "Match what both sides share and what differs each by itself.")
    ] = False
    whole: Annotated[
        bool, switch("Below 30 Hz, above 16 kHz", "Also match where there is little but rumble and air.")
    ] = False
    adaptive: Annotated[
        bool,
        switch(
            "Only where it departs",
            "Bands that move: what is cut sinks only where its range is louder than the references' usually is, what is raised "
            "comes back where it is as loud. None goes further than it would without.",
        ),
    ] = False


@dataclass(frozen=True, eq=False)
class Matched:
    """What was found for one part of the sound."""

    part: StereoComponent
    centres: Floats
    wanted: Floats
    """The difference that is to be made up, dB, its mean left out."""
    made: Floats
    """What the bands do, dB, its mean left out."""

    @property
    def remains(self) -> Floats:
        """What remains of the difference, dB."""
        return self.wanted - self.made


@dataclass(frozen=True, eq=False)
class TonalMatch:
    """An equaliser, and what it leaves."""

    step: MidSideEq
    components: tuple[Matched, ...]

    @property
    def error(self) -> float:
        """The largest that remains of the difference, dB."""
        return max(float(np.abs(part.remains).max(initial=0.0)) for part in self.components)


def tonal_match(
    own: Tone,
    references: Sequence[tuple[Tone, float]],
    rate: int,
    settings: MatchSettings,
    progress: Progress = no_progress,
) -> TonalMatch:
    """Fit bands to the smoothed difference of average spectra, levels aside.

    `references`: spectra and loudness in LUFS of each; their mean at equal loudness is aimed at. Bells and shelves are added
    one by one where most remains, and all are then refined together by least squares (trust region, `scipy.optimize`).
    Raises `GluvoError` where there is nothing to be matched.
    """
    heard = [(tone, level) for tone, level in references if level > SILENT]
    if not heard:
        raise GluvoError("There is no reference that sounds to be matched to.")
    parts: tuple[StereoComponent, ...] = ("mid", "side") if settings.apart else ("stereo",)
    low, high = (20.0, 0.47 * rate) if settings.whole else (LOWEST, HIGHEST)
    share = settings.bands // len(parts)
    bands: list[Band] = []
    found = []
    for n, part in enumerate(parts):
        most = settings.bands - share if n == 0 and len(parts) > 1 else share
        if not most:
            continue  # a single band is the mid's
        centres = octaves(rate, max(20.0, low), POINTS)
        centres = centres[centres <= high]
        mine = own.smoothed(part, FRACTION, centres)
        theirs = np.mean([tone.smoothed(part, FRACTION, centres) - level for tone, level in heard], axis=0)
        if float(np.max(mine)) < -150.0 or float(np.max(theirs)) < -150.0:
            if part == "side":
                continue  # one of them is mono: there is nothing to be shaped
            raise GluvoError("The section is silent, so there is no tone to be matched.")
        wanted = theirs - mine
        wanted = np.clip(wanted - np.median(wanted), -MOST_GAIN, MOST_GAIN) * settings.amount / 100.0
        wanted -= wanted.mean()
        made = fitted(centres, wanted, rate, most, progress)
        total = response_of(made, centres, rate)
        found.append(Matched(part, centres, wanted, total - total.mean()))
        bands += [msgspec.structs.replace(band, target=part) for band in made]
        progress((n + 1) / len(parts))
    bands = [msgspec.structs.replace(band, id=k) for k, band in enumerate(bands, start=1)]
    return TonalMatch(MidSideEq(bands=tuple(bands), hold_loudness=True), tuple(found))


def with_match(session: Session, step: MidSideEq) -> tuple[Session, str]:
    """The session with a match in the mix bus's chain, before what holds the ceiling at its end; and the step's id."""
    rounded = tuple(
        msgspec.structs.replace(
            b, freq=round(b.freq, 1 if b.freq < 1000.0 else 0), gain=round(b.gain, 2), q=round(b.q, 2)
        )
        for b in step.bands
    )
    chain = session.mix.chain
    place = len(chain)
    while place > 0 and getattr(chain[place - 1], "has_ceiling", False):
        place -= 1
    before = {item.id for item in session.items}
    made = session.with_new_step(step.replace(bands=rounded), MIX, chain[place - 1].id if place else "")
    return made, next(item.id for item in made.items if item.id not in before)
