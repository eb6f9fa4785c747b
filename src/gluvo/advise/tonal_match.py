"""An ordinary equaliser that brings a sound's tone towards that of references."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import msgspec
import numpy as np
from scipy.optimize import least_squares

from gluvo.dsp.kernel import Floats
from gluvo.errors import GluvoError
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import Tone, octaves
from gluvo.progress import Progress, no_progress
from gluvo.session.records import MIX, Session
from gluvo.steps import Band, MidSideEq
from gluvo.steps.bands import Shape
from gluvo.steps.settings import number, switch

LOWEST, HIGHEST = 30.0, 16_000.0
MOST_GAIN = 6.0
MOST_BANDS = 8
ENOUGH = 0.2
"""dB RMS that may remain; no further band is added for less."""
QS = (0.4, 4.0)
POINTS = 12
FRACTION = 3

Part = Literal["stereo", "mid", "side"]


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


@dataclass(frozen=True, eq=False)
class Matched:
    """What was found for one part of the sound."""

    part: Part
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
    parts: tuple[Matched, ...]

    @property
    def error(self) -> float:
        """The largest that remains of the difference, dB."""
        return max(float(np.abs(part.remains).max(initial=0.0)) for part in self.parts)


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
    parts: tuple[Part, ...] = ("mid", "side") if settings.apart else ("stereo",)
    low, high = (20.0, 0.47 * rate) if settings.whole else (LOWEST, HIGHEST)
    share = max(1, settings.bands // len(parts))
    bands: list[Band] = []
    found = []
    for n, part in enumerate(parts):
        wanted_bands = settings.bands - share if n == 0 and len(parts) > 1 else share
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
        made = _fitted(centres, wanted, rate, max(1, wanted_bands), progress)
        total = _response(made, centres, rate)
        found.append(Matched(part, centres, wanted, total - total.mean()))
        bands += [msgspec.structs.replace(band, target=part, id=len(bands) + k) for k, band in enumerate(made, start=1)]
        progress((n + 1) / len(parts))
    bands = [msgspec.structs.replace(band, id=k) for k, band in enumerate(bands, start=1)]
    return TonalMatch(MidSideEq(bands=tuple(bands), hold_loudness=True), tuple(found))


def _fitted(centres: Floats, wanted: Floats, rate: int, most: int, progress: Progress) -> list[Band]:
    """At most so many bands that come near a curve, a constant aside."""
    bands: list[Band] = []
    best: list[Band] = []
    remains = wanted - wanted.mean()
    while len(bands) < most and float(np.sqrt(np.mean(remains**2))) > ENOUGH:
        progress(len(bands) / most)
        bands = _refined([*bands, _next(centres, remains, bands)], centres, wanted, rate)
        total = _response(bands, centres, rate)
        remains = (wanted - wanted.mean()) - (total - total.mean())
        best = bands
    return [b for b in best if abs(b.gain) >= 0.05]


def _next(centres: Floats, remains: Floats, bands: Sequence[Band]) -> Band:
    """A band for where most remains: a shelf if that is at an end that has none, else a bell."""
    third = max(1, len(centres) // 8)
    ends: dict[Shape, Floats] = {"low_shelf": remains[:third], "high_shelf": remains[-third:]}
    at = int(np.argmax(np.abs(np.convolve(remains, np.hanning(9)[1:-1] / np.hanning(9).sum(), mode="same"))))
    for shape, end in ends.items():
        near = at < third if shape == "low_shelf" else at >= len(centres) - third
        if near and abs(float(end.mean())) > 0.6 * abs(float(remains[at])) and all(b.shape != shape for b in bands):
            freq = float(centres[third if shape == "low_shelf" else -third])
            return Band(shape=shape, freq=freq, gain=float(np.clip(end.mean(), -6.0, 6.0)), q=0.71, slope=12)
    return Band(freq=float(centres[at]), gain=float(np.clip(remains[at], -6.0, 6.0)), q=1.2)


def _refined(bands: list[Band], centres: Floats, wanted: Floats, rate: int) -> list[Band]:
    low, high = float(np.log(centres[0])), float(np.log(centres[-1]))
    start, least, most = [], [], []
    for band in bands:
        start += [np.clip(np.log(band.freq), low + 1e-3, high - 1e-3), np.clip(band.gain, -5.99, 5.99)]
        start.append(np.clip(np.log(band.q), np.log(QS[0]) + 1e-3, np.log(QS[1]) - 1e-3))
        least += [low, -MOST_GAIN, np.log(QS[0])]
        most += [high, MOST_GAIN, np.log(QS[1])]
    target = wanted - wanted.mean()

    def remaining(x: Floats) -> Floats:
        total = _response(_with(bands, x), centres, rate)
        return np.asarray(total - total.mean() - target)

    found = least_squares(remaining, start, bounds=(least, most), max_nfev=60, x_scale=[1.0, 3.0, 1.0] * len(bands))
    return _with(bands, found.x)


def _with(bands: list[Band], x: Floats) -> list[Band]:
    return [
        msgspec.structs.replace(
            band,
            freq=float(np.exp(x[3 * n])),
            gain=float(x[3 * n + 1]),
            q=0.71 if band.shape != "bell" else float(np.exp(x[3 * n + 2])),
        )
        for n, band in enumerate(bands)
    ]


def _response(bands: Sequence[Band], freqs: Floats, rate: int) -> Floats:
    """What bands do together, dB."""
    total = np.zeros(len(freqs))
    for band in bands:
        total += 20.0 * np.log10(np.maximum(np.abs(band.response(freqs, rate)), 1e-9))
    return total


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
    while place > 0 and getattr(chain[place - 1], "holds_ceiling", False):
        place -= 1
    before = {item.id for item in session.items}
    made = session.with_new_step(step.replace(bands=rounded), MIX, chain[place - 1].id if place else "")
    return made, next(item.id for item in made.items if item.id not in before)
