"""Hold: settings that are found again whenever something else changes."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from gluvo.advise.aim import find_makeup, find_threshold
from gluvo.measure.trace import Span
from gluvo.render.chain import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.steps import AnyStep, Glue

NEAR_ENOUGH = 0.004
"""dB; smaller moves are left alone, so that a held chain comes to rest."""


def held_chain(
    renderer: Renderer, chain: Sequence[AnyStep], span: Span | None, progress: Progress = no_progress
) -> tuple[AnyStep, ...]:
    """The chain with its held settings brought up to date: thresholds to their aim, make-up to the same loudness.

    Steps are taken in order, since each one's input depends on those before it. `span` None is the whole song.
    """
    result = list(chain)
    for n, step in enumerate(result):
        if not isinstance(step, Glue) or not step.on or not (step.hold_aim or step.hold_loudness):
            continue
        section = span or Span(0.0, renderer.sound.seconds)
        before = renderer.section(result[:n], section, progress).result
        if step.hold_aim and step.slope > 0.0:
            threshold = find_threshold(step, before, span, progress).value
            if abs(threshold - step.threshold) > NEAR_ENOUGH:
                step = msgspec.structs.replace(step, threshold=round(threshold, 3))
        if step.hold_loudness:
            makeup = find_makeup(step, before, span).value
            if abs(makeup - step.makeup) > NEAR_ENOUGH:
                step = msgspec.structs.replace(step, makeup=round(makeup, 3))
        result[n] = step
    return tuple(result)
