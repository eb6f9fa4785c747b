"""The threshold at which a band of an equaliser moves by what is asked, found on the levels of its range alone."""

from __future__ import annotations

import functools
from collections.abc import Sequence

import msgspec
import numpy as np

from gluvo.advise.aim import Found, range_of, sought
from gluvo.dsp import compression as comp
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Floats, record
from gluvo.dsp.moving import follow, selector
from gluvo.measure.trace import Span
from gluvo.measure.truepeak import hop_frames
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import lead_in
from gluvo.steps import Band, MidSideEq

HEARD = -80.0
"""dBFS under which a band's range counts as silent."""


def band_levels(eq: MidSideEq, band: Band, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> Floats:
    """The largest level in dBFS that a moving band's detector reads in every 10 ms of a span."""
    levels, skip = _band_levels(eq, band, before, span, keys)
    hop = hop_frames(before.rate)
    count = (len(levels) - skip) // hop
    return np.asarray(levels[skip : skip + count * hop].reshape(count, hop).max(axis=1))


def find_band_threshold(
    eq: MidSideEq,
    band: Band,
    before: Joint,
    span: Span | None,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
) -> Found:
    """The threshold for which a band moves by ``band.aim`` dB on average over a span, where it is not silent.

    `before` is the joint that feeds the equaliser, `keys` what its keyed bands listen to. The levels of the band's
    range are reckoned once.
    """
    levels, skip = _band_levels(eq, band, before, span, keys)
    counted = levels[skip:] > HEARD
    if not counted.any() or not band.moving:
        return Found(band.threshold, 0.0, met=False)
    moved = np.zeros(len(levels))

    @functools.cache
    def movement_at(threshold: float) -> float:
        progress(0.5)
        candidate = msgspec.structs.replace(band, threshold=threshold)
        follow(levels, record(candidate.curve(eq.strength)), record(candidate.times(before.rate)), moved)
        return float(moved[skip:][counted].mean())

    return sought(movement_at, band.aim, *range_of(band, "threshold"))


def _band_levels(
    eq: MidSideEq, band: Band, before: Joint, span: Span | None, keys: Sequence[Joint]
) -> tuple[Floats, int]:
    """What a moving band's detector reads over a span with a lead-in, dBFS, and how many frames that is."""
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    frames = Span(max(0.0, inner.start - lead_in(eq.memory)), inner.end).frames(rate, len(before.audio))
    skip = Span(inner.start, inner.end).frames(rate, len(before.audio)).start - frames.start
    place = eq.key_place(band)
    if place is not None and place < len(keys):
        x = np.array(keys[place].audio[frames], dtype=np.float64)
    else:
        x = run_chain([eq.before_moving(band.id)], before.audio[frames], rate)
    columns = np.array(
        [band.target in ("stereo", "mid", "left"), band.target in ("stereo", "side", "right")], dtype=float
    )
    if eq.stages and "mid" in eq.stages[0][0] and band.target not in ("left", "right"):
        comp.to_mid_side(x, x)
    Sections(selector(band.shape, band.freq, band.q, rate)).run(x, x)
    loudest = (np.abs(x) * columns).max(axis=1)
    return np.asarray(comp.DB * np.log(np.maximum(loudest, comp.QUIETEST))), skip
