"""What is told of each piece of audio that is compared: its figures, and its course by frequency.

A new line of the table is a record in `LINES`.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import db_of
from gluvo.dsp.filters import NOTHING, Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Floats
from gluvo.measure.figures import FIGURES, Figures
from gluvo.measure.hits import find_onsets
from gluvo.measure.loudness import SILENT, momentary
from gluvo.measure.spectrum import Tone, octaves
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint

FRACTION = 3
"""Spectra are smoothed to a third of an octave."""
LOW, POINTS = 25.0, 12
OCTAVES = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
"""Middles of the bands whose crest factor is measured, Hz; the first takes all below, the last all above."""
EDGES = tuple(f * 2.0**0.5 for f in OCTAVES[:-1])
LOW_END = 140.0
PIECE_SECONDS = 10.0
CUT_FROM, CUT_TO, CUT_STEP, CUT_FALL = 5_000.0, 20_500.0, 500.0, 20.0
"""Where it is looked for the edge of a lossy codec's low-pass, in Hz, and by how many dB it falls there at least."""
LEVELS = np.arange(-30.0, 10.25, 0.5)
"""LU over the integrated loudness at which the distribution of momentary loudness is told."""


@dataclass(frozen=True, eq=False)
class Profile:
    """A piece of audio as it is compared."""

    figures: Figures
    tone: Tone
    centres: Floats
    """Hz at which the curves are told."""
    spectrum: Floats
    """Level in dB, tilted so that pink noise is flat, at the loudness of 0 LUFS."""
    width: Floats
    """Side against mid, dB."""
    crests: Floats
    """Peak against RMS in each band of `OCTAVES`, dB; no number where there is nothing."""
    spread: Floats
    """The share of the time, in % per LU, at each of `LEVELS`."""
    density: float
    """Hits a second."""

    @property
    def crest_low(self) -> float:
        return _mean(self.crests[:2])

    @property
    def crest_middle(self) -> float:
        return _mean(self.crests[2:6])

    @property
    def crest_high(self) -> float:
        return _mean(self.crests[6:])

    def width_between(self, low: float, high: float) -> float:
        """Side against mid between two frequencies, dB."""
        mid, side = (_power(self.tone, part, low, high) for part in ("mid", "side"))
        if mid + side <= 0.0:
            return SILENT
        return float(np.clip(10.0 * np.log10(max(side, 1e-30) / max(mid, 1e-30)), -60.0, 60.0))

    @property
    def low_correlation(self) -> float:
        """Of left and right below 140 Hz, −1 to 1."""
        tone = self.tone
        inside = (tone.freqs >= 20.0) & (tone.freqs < LOW_END)
        both = float(tone.left[inside].sum()) * float(tone.right[inside].sum())
        return float(np.clip(tone.cross.real[inside].sum() / both**0.5, -1.0, 1.0)) if both > 0.0 else 1.0

    @functools.cached_property
    def cut(self) -> float | None:
        """Hz above which an encoder left nothing: over half a kHz the spectrum falls further than any instrument's does,
        and stays there. None where it goes on."""
        edges = np.arange(CUT_FROM, min(CUT_TO, float(self.tone.freqs[-1]) - 1000.0), CUT_STEP)
        if self.figures.integrated <= SILENT or len(edges) < 4:
            return None
        levels = [10.0 * np.log10(_power(self.tone, "stereo", f, f + CUT_STEP) + 1e-20) for f in edges]
        for n in range(1, len(levels) - 2):
            if levels[n - 1] - max(levels[n + 1 :]) > CUT_FALL and levels[n - 1] > levels[0] - CUT_FALL:
                return float(edges[n])
        return None

    @property
    def tilt(self) -> float:
        """The slope of the spectrum from 100 Hz to 10 kHz, dB an octave; pink noise has −3."""
        inside = (self.centres >= 100.0) & (self.centres <= 10_000.0)
        if self.figures.integrated <= SILENT or not inside.any():
            return SILENT
        slope = np.polyfit(np.log2(self.centres[inside]), self.spectrum[inside], 1)[0]
        return float(slope) - PINK


PINK = 10.0 * float(np.log10(2.0))
"""What pink noise loses an octave, dB."""


def profile_of(joint: Joint, span: Span | None, progress: Progress = no_progress) -> Profile:
    """Measure a span of a sound, once. `progress` may raise `Cancelled`."""
    return joint.once(("profile", span), lambda: _measured(joint, span, progress))


def _measured(joint: Joint, span: Span | None, progress: Progress) -> Profile:
    figures, tone, x = joint.figures(span), joint.tone(span), joint.heard_in(span)
    progress(0.2)
    centres = octaves(joint.rate, LOW, POINTS)
    levels = tone.smoothed("stereo", FRACTION, centres) + PINK * np.log2(centres / 1000.0)
    mid, side = (tone.smoothed(part, FRACTION, centres) for part in ("mid", "side"))
    short = momentary(joint.section(span))
    heard = short[short > -70.0] - figures.integrated
    counts, _ = np.histogram(heard, bins=np.append(LEVELS - 0.25, LEVELS[-1] + 0.25))
    crests = _crests(x, joint.rate, progress)
    seconds = max(len(x) / joint.rate, 1e-9)
    return Profile(
        figures,
        tone,
        centres,
        levels - (figures.integrated if figures.integrated > SILENT else 0.0),
        np.clip(side - mid, -60.0, 60.0),
        crests,
        100.0 * counts / max(len(heard), 1) / 0.5,
        _onsets(x, joint.rate) / seconds,
    )


def _onsets(x: np.ndarray, rate: int) -> int:
    """How many hits there are, found piece by piece."""
    size = round(PIECE_SECONDS * rate)
    pieces = (x[start : start + size] for start in range(0, len(x), size))
    return sum(len(find_onsets(np.asarray(piece), rate)) for piece in pieces if len(piece) > rate // 10)


def _crests(x: np.ndarray, rate: int, progress: Progress) -> Floats:
    """Peak against RMS of each band (Butterworth, 24 dB an octave at either edge), dB."""
    lows = (None, *EDGES)
    highs = (*EDGES, None)
    found = []
    size = round(PIECE_SECONDS * rate)
    for n, (low, high) in enumerate(zip(lows, highs, strict=True)):
        filters = Sections(
            cascade(low_cut(low, 24, rate) if low else NOTHING, high_cut(high, 24, rate) if high else NOTHING)
        )
        peak = power = 0.0
        for start in range(0, len(x), size):
            progress(0.2 + 0.8 * n / len(lows))
            y = np.array(x[start : start + size], dtype=np.float64)
            filters.run(y, y)
            peak = max(peak, float(np.abs(y).max(initial=0.0)))
            power += float((y**2).sum())
        rms = (power / max(1, x.size)) ** 0.5
        found.append(db_of(peak) - db_of(rms) if rms > 1e-6 else np.nan)
    return np.asarray(found)


def _power(tone: Tone, part: str, low: float, high: float) -> float:
    inside = (tone.freqs >= low) & (tone.freqs < high)
    return float(tone.power(part)[inside].sum())


def _mean(values: Floats) -> float:
    there = values[~np.isnan(values)]
    return float(there.mean()) if len(there) else SILENT


# --- the table ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Line:
    """A line of the table."""

    key: str
    name: str
    unit: str
    decimals: int
    tip: str
    take: Callable[[Profile], float]
    much: float
    """A difference of so much is a large one."""

    def show(self, value: float) -> str:
        """The value as text; a dash where there is none."""
        return "–" if value <= SILENT + 1.0 else f"{value:.{self.decimals}f}".replace("-", "−")


def _figure(key: str, much: float) -> Line:
    f = FIGURES[key]
    return Line(key, f.name, f.unit, f.decimals, f.tip, lambda p: float(getattr(p.figures, key)), much)


LINES: tuple[Line, ...] = (
    _figure("integrated", 3.0),
    _figure("max_short_term", 3.0),
    _figure("loudness_range", 4.0),
    _figure("plr", 4.0),
    _figure("true_peak", 1.0),
    Line("crest_low", "Crest below 180 Hz", "dB", 1, "Peaks over RMS of the lows.", lambda p: p.crest_low, 4.0),
    Line("crest_middle", "Crest 180 Hz – 3 kHz", "dB", 1, "Peaks over RMS.", lambda p: p.crest_middle, 4.0),
    Line("crest_high", "Crest above 3 kHz", "dB", 1, "Peaks over RMS of the highs.", lambda p: p.crest_high, 4.0),
    Line("width_low", "Width below 200 Hz", "dB", 1, "Side against mid.", lambda p: p.width_between(20.0, 200.0), 6.0),
    Line(
        "width_middle", "Width 200 Hz – 2 kHz", "dB", 1, "Side against mid.", lambda p: p.width_between(200.0, 2e3), 6.0
    ),
    Line("width_high", "Width above 2 kHz", "dB", 1, "Side against mid.", lambda p: p.width_between(2e3, 2e4), 6.0),
    Line(
        "low_correlation",
        "Correlation below 140 Hz",
        "",
        2,
        "1 where the lows are the same on both sides; under 0 they cancel in mono.",
        lambda p: p.low_correlation,
        0.4,
    ),
    Line(
        "tilt",
        "Tilt 100 Hz – 10 kHz",
        "dB/oct",
        1,
        "How fast the spectrum falls; pink noise falls by 3 dB an octave.",
        lambda p: p.tilt,
        1.0,
    ),
    Line("density", "Hits a second", "", 1, "How many onsets there are.", lambda p: p.density, 3.0),
)
