"""The range that references span, and where a result leaves it."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.compare.profile import FRACTION, LINES, Line, Profile
from gluvo.dsp.kernel import Floats
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import Tone, band_means, spanned

LOWEST, HIGHEST = 30.0, 16_000.0
TOLD = 1.0
"""dB outside that are worth a sentence."""
MOST_TOLD = 5
CUT_MARGIN = 2.0 ** (1.0 / 6.0)
"""Under an encoder's edge by as much a band of a third of an octave has all that was there."""
HARDLY_HEARD, LEAST_WEIGHT = 40.0, 0.1
"""dB under the loudest range at which another one is hardly heard beside it, and what it counts for then."""


@dataclass(frozen=True, eq=False)
class Corridor:
    """Mean of the references' spectra at equal loudness, and how far they lie to either side of it."""

    centres: Floats
    mean: Floats
    spread: Floats
    """Half its height, dB: as far as the farthest reference, and never less than `LEAST_SPREAD`."""

    @property
    def low(self) -> Floats:
        return self.mean - self.spread

    @property
    def high(self) -> Floats:
        return self.mean + self.spread

    def outside(self, spectrum: Floats) -> Floats:
        """By how many dB a spectrum of the same centres lies over (positive) or under the corridor; 0 inside."""
        return np.maximum(0.0, spectrum - self.high) + np.minimum(0.0, spectrum - self.low)


def corridor_of(profiles: Sequence[Profile]) -> Corridor | None:
    """The corridor of some references; None without any that sounds. Each counts as far up as an encoder left something of
    it, and the corridor ends where none does."""
    heard = [p for p in profiles if p.figures.integrated > SILENT]
    if not heard:
        return None
    count = min(len(p.centres) for p in heard)
    centres, spectra = heard[0].centres[:count], np.stack([p.spectrum[:count] for p in heard])
    ends = np.array([np.searchsorted(centres, p.cut / CUT_MARGIN) if p.cut is not None else count for p in heard])
    mean, spread = spanned(spectra)
    for first, last in itertools.pairwise(sorted({*ends.tolist(), 0})):
        mean[first:last], spread[first:last] = spanned(spectra[ends >= last, first:last])
    last = int(ends.max())
    return Corridor(centres[:last], mean[:last], spread[:last])


@dataclass(frozen=True)
class Finding:
    """Where the result leaves the references, with its evidence."""

    text: str
    severity: float
    """How much it matters against other findings; 0 for what lies within."""
    freq: float = 0.0
    """Hz, if it is at a frequency."""
    bus: str = ""
    """The id of the strip that most of it arises on."""


@dataclass(frozen=True, eq=False)
class Compared:
    """What is looked at for findings."""

    result: Profile
    references: Mapping[str, Profile]
    """Profiles of the paired sections by name."""
    buses: Mapping[str, tuple[str, Tone]]
    """Name and spectra of what each strip sends into the mix, by id, in the same section."""
    corridor: Corridor


def findings(
    result: Profile, references: Mapping[str, Profile], buses: Mapping[str, tuple[str, Tone]]
) -> tuple[Finding, ...]:
    """What the result is against the references, in plain words, the worst first; see `Compared`."""
    corridor = corridor_of(list(references.values()))
    if corridor is None or result.figures.integrated <= SILENT:
        return ()
    compared = Compared(result, references, buses, corridor)
    found = [finding for finder in FINDERS for finding in finder(compared)]
    worst = sorted((f for f in found if f.severity > 0.0), key=lambda f: -f.severity)[: MOST_TOLD + 3]
    inside = [f for f in found if f.severity == 0.0]
    return (*worst, *inside)


def _of_tone(compared: Compared) -> list[Finding]:
    result, corridor, buses = compared.result, compared.corridor, compared.buses
    count = min(len(corridor.centres), len(result.centres))
    centres, outside = corridor.centres[:count], corridor.outside(result.spectrum[: len(corridor.centres)])[:count]
    heard = (centres >= LOWEST) & (centres <= HIGHEST)
    level = np.maximum(result.spectrum[:count], corridor.mean[:count])  # what is missing would be as loud as there
    levels = np.asarray(level - level[heard].max(initial=-200.0))
    found = []
    for sign in (1.0, -1.0):
        there = heard & (sign * outside > TOLD / 2.0)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], there.astype(int), [0]])))
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            at = first + int(np.argmax(np.abs(outside[first:last])))
            most = float(abs(outside[at]))
            if most < TOLD:
                continue
            bus, share = _bus_at(buses, float(centres[at])) if len(buses) > 1 else ("", 1.0)
            where = f"{spoken(float(centres[at]))} sits {most:.1f} dB {'over' if sign > 0.0 else 'under'} the corridor"
            wide = float(centres[last - 1] / centres[first]) > 2.0
            reach = f" ({spoken(float(centres[first]))} to {spoken(float(centres[last - 1]))})" if wide else ""
            source = f"; most of what is there comes from {buses[bus][0]} ({100.0 * share:.0f} %)" if bus else ""
            weight = _weight(centres[first:last], levels[first:last])
            found.append(Finding(f"{where}{reach}{source}.", most * weight, float(centres[at]), bus))
    found.sort(key=lambda f: -f.severity)
    if not found:
        return [Finding("The tone lies within the corridor from 30 Hz to 16 kHz.", 0.0)]
    return found[:MOST_TOLD]


def _weight(centres: Floats, levels: Floats) -> float:
    """How much of a difference is heard: by the level of its range against the loudest (dB), and by its width, of which an
    octave counts fully."""
    level = float(np.clip(1.0 + levels.max() / HARDLY_HEARD, LEAST_WEIGHT, 1.0))
    octaves = float(np.log2(centres[-1] / centres[0])) + 1.0 / FRACTION
    return level * min(octaves, 2.0) ** 0.5


def _bus_at(buses: Mapping[str, tuple[str, Tone]], freq: float) -> tuple[str, float]:
    """Which strip has most of the power about a frequency, and its share of all of them."""
    powers = {
        id: float(band_means(tone.freqs, tone.power("stereo"), np.array([freq]), 3)[0])
        for id, (_, tone) in buses.items()
    }
    total = sum(powers.values())
    if total <= 0.0:
        return "", 0.0
    most = max(powers, key=lambda id: powers[id])
    return most, powers[most] / total


TOLD_LINES: tuple[tuple[str, str, str, float], ...] = (
    ("max_short_term", "louder", "quieter", 1.0),
    ("loudness_range", "wider in loudness", "narrower in loudness", 2.0),
    ("plr", "less limited", "more limited", 1.5),
    ("crest_low", "more lively in the lows", "less lively in the lows", 2.0),
    ("crest_high", "more lively in the highs", "less lively in the highs", 2.0),
    ("width_low", "wider in the lows", "narrower in the lows", 3.0),
    ("width_middle", "wider in the middle", "narrower in the middle", 2.0),
    ("width_high", "wider in the highs", "narrower in the highs", 2.0),
    ("low_correlation", "more mono in the lows", "less mono in the lows", 0.2),
)
"""Which lines of the table have a sentence, what is said over and under the references, and how far outside is told."""


def _of_figures(compared: Compared) -> list[Finding]:
    result, references = compared.result, compared.references
    lines = {line.key: line for line in LINES}
    found, inside = [], []
    for key, over, under, told in TOLD_LINES:
        line = lines[key]
        values = {name: v for name, p in references.items() if (v := line.take(p)) > SILENT + 1.0}
        own = line.take(result)
        if not values or own <= SILENT + 1.0:
            continue
        low, high = min(values.values()), max(values.values())
        miss = own - high if own > high else own - low
        if low <= own <= high or abs(miss) < told:
            inside.append(line.name[0].lower() + line.name[1:])
            continue
        nearest = min(values, key=lambda name: abs(values[name] - own))
        words = f"{abs(miss):.{line.decimals}f} {_unit(line)}".strip()
        text = f"{words} {over if miss > 0.0 else under} than the nearest reference: {line.show(own)} against "
        found.append(Finding(f"{text}{line.show(values[nearest])} ({nearest}).", 2.0 * abs(miss) / line.much))
    if inside:
        found.append(Finding(f"Within or near the references: {', '.join(inside)}.", 0.0))
    return found


def _of_codecs(compared: Compared) -> list[Finding]:
    words = "{} has been through a lossy codec: above {} nothing is left, and nothing is judged."
    cuts = {name: p.cut for name, p in compared.references.items() if p.cut is not None}
    return [Finding(words.format(name, spoken(cut)), 0.0) for name, cut in cuts.items()]


FINDERS: tuple[Callable[[Compared], list[Finding]], ...] = (_of_tone, _of_figures, _of_codecs)
"""What looks for findings, in the order in which those that matter alike are told. A new kind is a function here; a figure
that is to have a sentence is a line of `TOLD_LINES`."""


def _unit(line: Line) -> str:
    return "LU" if line.unit == "LUFS" else line.unit


def spoken(freq: float) -> str:
    """A frequency as people say it.

    >>> spoken(223.1), spoken(4512.0), spoken(35.4)
    ('220 Hz', '4.5 kHz', '35 Hz')
    """
    if freq >= 1000.0:
        return f"{freq / 1000.0:.1f} kHz".replace(".0 kHz", " kHz")
    return f"{round(freq, -1 if freq >= 100.0 else 0):.0f} Hz"
