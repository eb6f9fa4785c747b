"""Gains for which a section is as loud after a step or a lane as before it."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from gluvo.advise.aim import CLOSE, Found
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import Sections
from gluvo.dsp.roots import root_between
from gluvo.measure.figures import figures_of
from gluvo.measure.loudness import OFFSET, SILENT, integrated
from gluvo.measure.trace import LazyTruePeaks, Span, Trace, k_weighting, trace_of
from gluvo.measure.truepeak import hop_frames
from gluvo.render.chain import stream
from gluvo.render.joint import Joint
from gluvo.render.song import lead_in
from gluvo.steps import Glue, Lane, settings_of


def find_makeup(glue: Glue, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> Found:
    """The make-up for which the span is as loud after the step as before it.

    Loudness weighting is linear, so each try only adds up energies of the two parts of the mix.
    """
    if not glue.works or glue.mix == 0.0:
        return Found(0.0, 0.0, met=True)
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    cut = Span(max(0.0, inner.start - lead_in(glue.memory)), inner.end).frames(rate, len(before.audio))
    dry = np.ascontiguousarray(before.audio[cut], dtype=np.float64)
    wet = np.zeros_like(dry)
    processor = msgspec.structs.replace(glue, makeup=0.0, mix=100.0).make(rate)
    for at, _, block in stream(processor, dry, keys=[key.audio[cut] for key in keys]):
        wet[at : at + len(block)] = block
    skip = Span(inner.start, inner.end).frames(rate, len(before.audio)).start - cut.start
    parts = []
    for x in (dry, wet):
        Sections(k_weighting(rate)).run(x, x)
        parts.append(x[skip:])
    hop = hop_frames(rate)
    hops = len(parts[0]) // hop
    blocks = [p[: hops * hop].reshape(hops, hop, 2) for p in parts]
    pairs = (blocks[0],) * 2, blocks, (blocks[1],) * 2
    dd, dw, ww = (np.einsum("ijk,ijk->ik", a, b) / hop for a, b in pairs)

    def loudness(d: float, w: float) -> float:
        power = np.maximum(0.0, d * d * dd + 2.0 * d * w * dw + w * w * ww)
        empty = np.zeros(hops)
        return integrated(Trace(rate, hops * hop, power, power, empty, empty, LazyTruePeaks(hops, empty)))

    goal, mix = loudness(1.0, 0.0), glue.mix / 100.0
    if goal <= SILENT - OFFSET:
        return Found(0.0, 0.0, met=True)

    def excess(makeup: float) -> float:
        return loudness(1.0 - mix, mix * gain_of(makeup)) - goal

    makeups = settings_of(Glue)["makeup"]
    low, high = makeups.low, makeups.high
    if excess(low) > 0.0 or excess(high) < 0.0:
        end = low if excess(low) > 0.0 else high
        return Found(end, excess(end), met=False)
    makeup = root_between(excess, low, high, 1e-3)
    return Found(makeup, excess(makeup), met=True)


def find_blend(lane: Lane, main: Joint, side: Joint, span: Span | None) -> Found:
    """The blend of a lane for which the span is as loud as the main chain alone; less what the lane would add."""
    rate = main.rate
    inner = main.within(span) or Span(0.0, main.trace.seconds)
    cut = Span(max(0.0, inner.start - 1.0), inner.end).frames(rate, len(main.audio))
    both = main.audio[cut] + lane.gain * side.audio[cut].astype(np.float64)
    goal = main.loudness(span)
    offset = cut.start / rate
    reached = figures_of(trace_of(both, rate), Span(inner.start - offset, inner.end - offset)).integrated
    if goal <= SILENT - OFFSET or reached <= SILENT - OFFSET:
        return Found(0.0, 0.0, met=True)
    blend = settings_of(Lane)["blend"].clamp(goal - reached)
    return Found(blend, reached + blend - goal, met=abs(reached + blend - goal) < CLOSE)
