"""What is measured about the step that is looked at: the sound on both sides of it, and what it costs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from gluvo.advise.aim import band_levels
from gluvo.advise.tone import BandCost, LowCutCost, Movement, cost, low_cut_cost, movements
from gluvo.dsp.kernel import Floats
from gluvo.measure.harmonics import NewSound, new_spectrum
from gluvo.measure.resonances import Resonance
from gluvo.measure.spectrum import Tone
from gluvo.measure.stereo import Scatter, scatter_of
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.steps import ChainItem, MidSideEq, Saturation, Step, Width
from gluvo.steps.mid_side_eq import equaliser

MID_SIDE = ("mid", "side")


@dataclass(frozen=True, eq=False)
class Around:
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
    low_cuts: Mapping[int, LowCutCost] = field(default_factory=dict)
    """The truth about each low cut; there once the song has been measured."""
    resonances: tuple[Resonance, ...] = ()
    """Of what comes out of an equaliser, in mid and side."""
    new: Mapping[str, NewSound] = field(default_factory=dict)
    """What a saturation made, in mid and side."""
    band_levels: Mapping[int, Floats] = field(default_factory=dict)
    """What the detector of each moving band reads in the section, dBFS, every 10 ms, by its id."""
    late: tuple[int, float] = (0, 0.0)
    """Of an equaliser in linear phase: frames by which it is late, and dB by which it is off its curve at most."""
    scatter: Scatter | None = None
    """Left against right after a width."""


def looked_around(
    step: ChainItem | None, before: Joint, after: Joint, span: Span, progress: Progress = no_progress
) -> Around:
    """All but the low cuts, from the joints on both sides of a step."""
    progress(0.0)
    loudness = before.loudness(span), after.loudness(span)
    around = Around(step.id if step is not None else "", before.tone(span), after.tone(span), loudness)
    progress(0.2)
    look = LOOKS.get(type(step)) if step is not None else None
    return around if look is None else look(around, step, before, after, span, progress)


def _equaliser(around: Around, step: MidSideEq, before: Joint, after: Joint, span: Span, progress: Progress) -> Around:
    ringing = sorted((r for part in MID_SIDE for r in after.resonances(span, part)), key=lambda r: -r.prominence)
    return replace(
        around,
        costs={band.id: cost(step, band, around.before, before.rate) for band in step.bands},
        moves=movements(step, before.heard_in(span), before.rate, progress),
        resonances=tuple(ringing),
        band_levels={band.id: band_levels(step, band, before, span) for band in step.bands if band.moving},
        late=step.lateness(before.rate),
    )


def _saturation(
    around: Around, _step: Saturation, before: Joint, after: Joint, span: Span, _progress: Progress
) -> Around:
    sounds = before.heard_in(span), after.heard_in(span)
    return replace(around, new={part: new_spectrum(*sounds, before.rate, part) for part in MID_SIDE})


def _width(around: Around, _step: Width, _before: Joint, after: Joint, span: Span, _progress: Progress) -> Around:
    return replace(around, scatter=scatter_of(after.heard_in(span)))


LOOKS: Mapping[type[Step], Callable[..., Around]] = {
    MidSideEq: _equaliser,
    Saturation: _saturation,
    Width: _width,
}
"""What else is looked at around the steps of some kinds."""


def with_low_cuts(around: Around, step: ChainItem | None, song: Joint) -> Around:
    """With the truth about each low cut of an equaliser; `song` is all of what comes into it."""
    eq = equaliser(step)
    bands = [band for band in eq.bands if band.shape == "low_cut"] if eq is not None else []
    if eq is None or not bands:
        return around
    whole = song.tone()
    found = {band.id: low_cut_cost(eq, band, whole, around.before, song.rate) for band in bands}
    return replace(around, low_cuts=found)
