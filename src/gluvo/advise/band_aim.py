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
from gluvo.measure.overview import Reduced
from gluvo.measure.trace import Span
from gluvo.measure.truepeak import hop_frames
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import lead_in
from gluvo.steps import Band, MidSideEq

HEARD = -80.0
"""dBFS under which a band's range counts as silent."""


class MovingRange:
    """What a moving band's detector reads over a span, with a lead-in, and how the band moves for it."""

    def __init__(self, eq: MidSideEq, band: Band, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> None:
        """`before` is the joint that feeds the equaliser, `keys` what its keyed bands listen to."""
        self._band, self._rate = band, before.rate
        self._read, self._skip = _levels_read(eq, band, before, span, keys)
        self._counted = self._read[self._skip :] > HEARD
        self._moved = np.zeros(len(self._read))

    @property
    def silent(self) -> bool:
        """Whether nothing of the span counts."""
        return not self._counted.any()

    @property
    def levels(self) -> Floats:
        """The largest level of every 10 ms, dBFS."""
        hop = hop_frames(self._rate)
        count = (len(self._read) - self._skip) // hop
        return np.asarray(self._read[self._skip : self._skip + count * hop].reshape(count, hop).max(axis=1))

    def moves(self, strength: float, threshold: float | None = None) -> Floats:
        """By how many dB it moves, signed, at its threshold or at another, at every frame where its range is not silent."""
        band = self._band if threshold is None else msgspec.structs.replace(self._band, threshold=threshold)
        follow(self._read, record(band.curve(strength)), record(band.times(self._rate)), self._moved)
        return np.asarray(self._moved[self._skip :][self._counted])

    def moved(self, strength: float, threshold: float | None = None) -> Reduced:
        """The same in three figures, without signs."""
        return Reduced.among(np.abs(self.moves(strength, threshold)))


def find_band_threshold(
    eq: MidSideEq,
    band: Band,
    before: Joint,
    span: Span | None,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
) -> Found:
    """The threshold for which a band moves by ``band.aim`` dB over a span, at peaks, at most or on average where it is not
    silent; see `MovingRange`. The levels of the band's range are reckoned once."""
    levels = MovingRange(eq, band, before, span, keys)
    if levels.silent or not band.moving:
        return Found(band.threshold, 0.0, met=False)

    @functools.cache
    def movement_at(threshold: float) -> float:
        progress(0.5)
        return levels.moved(eq.strength, threshold).of(band.aim_by)

    return sought(movement_at, band.aim, *range_of(band, "threshold"))


def _levels_read(
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
