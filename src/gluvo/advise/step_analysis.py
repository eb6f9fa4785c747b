"""What is measured about the step that is looked at: the sound on both sides of it, and what it costs."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from gluvo.advise.aim import lift_hops
from gluvo.advise.band_aim import MovingRange
from gluvo.advise.tone import BandCost, LowCutCost, Movement, cost, low_cut_cost, movements
from gluvo.dsp.kernel import Floats
from gluvo.dsp.sibilance import sibilants
from gluvo.dsp.taming import OVERLAP, frame_length
from gluvo.measure.bend import Bend, BendMeter
from gluvo.measure.drive import Drive, DriveMeter
from gluvo.measure.harmonics import NewSound, new_spectrum
from gluvo.measure.overview import REDUCTION_HOP, Reduced
from gluvo.measure.paths import Paths, PathsMeter
from gluvo.measure.resonances import Resonance
from gluvo.measure.spectrum import Tone
from gluvo.measure.stereo import Scatter, scatter_of
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import stream
from gluvo.render.joint import Joint
from gluvo.steps import ChainItem, Glue, MidSideEq, ResonanceTamer, Saturation, Split, Step, Trim
from gluvo.steps.base import MAX_BLOCK, Analysis
from gluvo.steps.de_esser import WORKS
from gluvo.steps.mid_side_eq import equaliser

MID_SIDE = ("mid", "side")
NOTHING = Reduced(0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Worked:
    """How often and how far a De-esser works in a section."""

    places: tuple[tuple[float, float, float], ...]
    """Each time it did: from and to in the song, s, and the most that was taken, dB."""
    share: float
    """Of the time, 0–1."""
    taken: Reduced
    """What it takes where it works."""


@dataclass(frozen=True, eq=False)
class Cuts:
    """What a resonance tamer takes by frequency over a section."""

    freqs: Floats
    """Hz"""
    mean: Floats
    """dB, over the whole of it."""
    most: Floats
    """dB"""


@dataclass(frozen=True, eq=False)
class StepAnalysis:
    """What was measured about a step, or about what comes into a chain, in a section."""

    step: str
    """Its id; empty for what comes into the chain."""
    before: Tone
    after: Tone
    loudness: tuple[float, float]
    """LUFS before and after."""
    costs: Mapping[int, BandCost] = field(default_factory=dict)
    """What each band of an equaliser does, by its id."""
    moves: Mapping[int, Movement] = field(default_factory=dict)
    moved: Mapping[int, Reduced] = field(default_factory=dict)
    """By how many dB each of them moves where its range is not silent."""
    low_cuts: Mapping[int, LowCutCost] = field(default_factory=dict)
    """The truth about each low cut; there once the song has been measured."""
    resonances: tuple[Resonance, ...] = ()
    """Of what comes out of an equaliser, in mid and side."""
    new: Mapping[str, NewSound] = field(default_factory=dict)
    """What a saturation made, in mid and side."""
    band_levels: Mapping[int, Floats] = field(default_factory=dict)
    """What the detector of each moving band reads in the section, dBFS, every 10 ms, by its id."""
    bend: Bend | None = None
    """How far the sound goes into the curve of a Saturation."""
    late: tuple[int, float] = (0, 0.0)
    """Of what is in linear phase: frames by which it is late, and dB by which an equaliser is off its curve at most."""
    scatter: Scatter | None = None
    """Left against right after a width."""
    drive: Drive | None = None
    """What drives the reduction of a Glue, by thirds of an octave."""
    listened: Tone | None = None
    """The spectra of what its detector listens to, before that is cut, leaned and bent."""
    paths: Paths | None = None
    """What passes through it and what its detector reads, over the section."""
    lift: Reduced = NOTHING
    """By how many dB a Glue lifts what has signal."""
    worked: Worked | None = None
    """How often and how far a De-esser works."""
    cuts: Cuts | None = None
    """What a resonance tamer takes, by frequency."""


def analysed_step(
    step: ChainItem | None,
    before: Joint,
    after: Joint,
    span: Span,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
) -> StepAnalysis:
    """All but the low cuts, from the joints on both sides of a step and of its keys."""
    progress(0.0)
    loudness = before.loudness(span), after.loudness(span)
    around = StepAnalysis(step.id if step is not None else "", before.tone(span), after.tone(span), loudness)
    progress(0.2)
    for analysis in step.analyses if step is not None else ():
        around = ANALYSES[analysis](around, step, Sides(before, after, span, keys), progress)
    return around


@dataclass(frozen=True, eq=False)
class Sides:
    """The sound on both sides of a step in a section, and what its detectors listen to besides."""

    before: Joint
    after: Joint
    span: Span
    keys: Sequence[Joint]

    @property
    def rate(self) -> int:
        return self.before.rate


def _bands(around: StepAnalysis, step: MidSideEq, sides: Sides, progress: Progress) -> StepAnalysis:
    before, after, span = sides.before, sides.after, sides.span
    ringing = sorted((r for part in MID_SIDE for r in after.resonances(span, part)), key=lambda r: -r.prominence)
    heard = [key.heard_in(span) for key in sides.keys]
    ranges = {band.id: MovingRange(step, band, before, span, sides.keys) for band in step.bands if band.moving}
    return replace(
        around,
        costs={band.id: cost(step, band, around.before, sides.rate) for band in step.bands},
        moves=movements(step, before.heard_in(span), sides.rate, progress, heard),
        resonances=tuple(ringing),
        band_levels={id: band.levels for id, band in ranges.items()},
        moved={id: ranges[id].moved(step.strength) for id in ranges},
        late=step.lateness(sides.rate),
    )


def _new_sound(around: StepAnalysis, _step: Step, sides: Sides, _progress: Progress) -> StepAnalysis:
    sounds = sides.before.heard_in(sides.span), sides.after.heard_in(sides.span)
    return replace(around, new={part: new_spectrum(*sounds, sides.rate, part) for part in MID_SIDE})


def _bend(around: StepAnalysis, step: Saturation, sides: Sides, progress: Progress) -> StepAnalysis:
    if step.idle:
        return around
    unit, meter = step.make(sides.rate), BendMeter(step.shaper)
    columns = [c for c, share in enumerate((step.mid, step.side)) if step.mid == step.side or share > 0.0]
    for _, _, block in stream(unit, sides.before.heard_in(sides.span), progress):
        meter.push(unit.driven[: len(block), columns])
    return replace(around, bend=meter.finish())


def _scatter(around: StepAnalysis, _step: Step, sides: Sides, _progress: Progress) -> StepAnalysis:
    return replace(around, scatter=scatter_of(sides.after.heard_in(sides.span)))


def _drive(around: StepAnalysis, step: Glue, sides: Sides, progress: Progress) -> StepAnalysis:
    """What drives its reduction, of all that its detector hears; and what that reads beside what passes."""
    reduction, span, rate = sides.after.reduction, sides.span, sides.rate
    if reduction is None:
        return around
    listened = sides.keys[0] if sides.keys else sides.before
    back = step.before_ear() if not sides.keys else None
    meter, inner = DriveMeter(rate), sides.after.within(span) or span
    first, detector = round(inner.start * rate), step.detector(rate)
    level, paths = np.zeros((detector.columns, MAX_BLOCK)), PathsMeter(sides.before.heard_in(span), rate)
    for at, _, block in stream((back or Trim()).make(rate), listened.heard_in(span), progress):
        bent = detector.hear(block)
        detector.read(bent, level)
        places = (first + at + np.arange(len(block))) // REDUCTION_HOP
        meter.push(bent, reduction.curve[np.minimum(places, len(reduction.curve) - 1)])
        paths.push(at, level[:, : len(block)].max(axis=0))
    drive = meter.finish() if step.slope > 0.0 else None
    return replace(around, drive=drive, listened=listened.tone(span), paths=paths.finish())


def _lift(around: StepAnalysis, step: Glue, sides: Sides, _progress: Progress) -> StepAnalysis:
    if not step.lifts:
        return around
    hops = lift_hops(step, sides.before, sides.span, sides.keys)
    return replace(around, lift=Reduced.among(hops))


def _events(around: StepAnalysis, step: Step, sides: Sides, _progress: Progress) -> StepAnalysis:
    reduction, after = sides.after.reduction, sides.after
    if reduction is None:
        return around
    inner = after.within(sides.span) or sides.span
    hop = after.trace.hop_seconds
    rows = slice(round(inner.start / hop), round(inner.end / hop))
    mean, top = reduction.mean[rows], reduction.top[rows]
    working = mean > WORKS
    if (heard := after.heard) is not None:
        counted = heard[rows][: len(working)]
        working[: len(counted)] &= counted
    places = tuple(
        (sides.span.start + a * hop, sides.span.start + b * hop, float(top[a:b].max()))
        for a, b in sibilants(mean, hop, WORKS)
    )
    found = Worked(
        places,
        float(working.mean()) if len(mean) else 0.0,
        after.taken_by(step, sides.span) or NOTHING,
    )
    return replace(around, worked=found)


def _cuts(around: StepAnalysis, step: ResonanceTamer, sides: Sides, progress: Progress) -> StepAnalysis:
    unit = step.make(sides.rate)
    mean, most = np.zeros_like(unit.cut), np.zeros_like(unit.cut)
    x, hop = sides.before.heard_in(sides.span), frame_length(sides.rate) // OVERLAP
    block = np.zeros((hop, 2))
    for at in range(0, len(x), hop):  # a frame at a time, so that none is missed
        part = block[: min(hop, len(x) - at)]
        part[:] = x[at : at + len(part)]
        unit.run(part, part)
        mean += unit.cut
        np.maximum(most, unit.cut, out=most)
        progress(0.3 + 0.6 * at / len(x))
    return replace(around, cuts=Cuts(unit.freqs, mean * hop / max(hop, len(x)), most))


def _lateness(around: StepAnalysis, step: Split, sides: Sides, _progress: Progress) -> StepAnalysis:
    return replace(around, late=(step.lateness(sides.rate), 0.0))


ANALYSES: Mapping[Analysis, Callable[..., StepAnalysis]] = {
    "bands": _bands,
    "new sound": _new_sound,
    "scatter": _scatter,
    "drive": _drive,
    "lift": _lift,
    "events": _events,
    "cuts": _cuts,
    "lateness": _lateness,
    "bend": _bend,
}
"""How each kind of analysis is made. Steps say which are made around them, see `Step.analyses`, and meet what it asks of them."""


def with_low_cuts(around: StepAnalysis, step: ChainItem | None, song: Joint) -> StepAnalysis:
    """With the truth about each low cut of an equaliser; `song` is all of what comes into it."""
    eq = equaliser(step)
    bands = [band for band in eq.bands if band.shape == "low_cut"] if eq is not None else []
    if eq is None or not bands:
        return around
    whole = song.tone()
    found = {band.id: low_cut_cost(eq, band, whole, around.before, song.rate) for band in bands}
    return replace(around, low_cuts=found)
