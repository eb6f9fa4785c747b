"""How loud each thing in the Hear row is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from gluvo.compare.match import CHANGE, RESULT, STEP_OUT, UNTOUCHED, Reading
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import Progress, no_progress
from gluvo.render.song import Joint, Rendered, Renderer
from gluvo.steps import Step

LEAD_IN = 1.0
"""Seconds measured before a section, so that the loudness filter has settled."""


def hear_readings(
    renderer: Renderer,
    chain: Sequence[Step],
    chosen: str,
    span: Span | None,
    song: Rendered,
    check: Progress = no_progress,
) -> dict[str, Reading]:
    """Loudness and peak of each path in a section (None: the whole song), from the render of the song.

    Only *Step out* needs a render of its own: the section without the `chosen` step.
    """

    def reading(joint: Joint) -> Reading:
        f = joint.figures(span)
        return Reading(f.integrated, f.true_peak)

    readings = {RESULT: reading(song.result), UNTOUCHED: reading(song.source)}
    without = [step for step in chain if step.id != chosen]
    section = span or Span(0.0, renderer.sound.seconds)
    readings[STEP_OUT] = reading(renderer.section(without, section, check).result)
    before, after = song.before(chosen), song.joint(chosen)
    if before is not None and after is not None:
        first = max(0.0, section.start - LEAD_IN)
        frames = Span(first, section.end).frames(renderer.rate, len(after.audio))
        change = after.audio[frames].astype(np.float64) - before.audio[frames]
        figures = figures_of(trace_of(change, renderer.rate), Span(section.start - first, section.end - first))
        readings[CHANGE] = Reading(figures.integrated, figures.true_peak, quiet_by_nature=True)
    return readings
