"""Aim: the threshold or make-up for which a Glue does what is asked, found on the detector alone."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Floats
from gluvo.dsp.moving import follow, selector
from gluvo.dsp.roots import root_between
from gluvo.measure.figures import figures_of
from gluvo.measure.loudness import OFFSET, SILENT, integrated
from gluvo.measure.overview import heard_hops
from gluvo.measure.trace import Between, Span, Trace, hop_frames, k_weighting, trace_of
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain, stream
from gluvo.render.joint import Joint
from gluvo.render.song import lead_in
from gluvo.steps import MAX_BLOCK, Band, Glue, Lane, MidSideEq, Step, settings_of
from gluvo.steps.glue import Detector
from gluvo.steps.mid_side_eq import equaliser

HEARD = -80.0
"""dBFS under which a band's range counts as silent."""
CLOSE = 0.01
"""dB within which an aim is met."""


@dataclass(frozen=True)
class Found:
    """A setting that was looked for."""

    value: float
    reached: float
    """What it achieves, in dB."""
    met: bool
    """Whether that is what was asked for; if not, the value is as near as its range allows."""


def find_threshold(
    glue: Glue, before: Joint, span: Span | None, progress: Progress = no_progress, keys: Sequence[Joint] = ()
) -> Found:
    """The threshold for which the mean reduction over the span is ``glue.aim`` dB.

    `before` is the joint that feeds the step, `keys` what its detector listens to if that is something else. The
    detector's levels are computed once; each try runs only the curve and the ballistics over them (where it feeds
    back, the whole detector). Where the input's RMS is under −50 dBFS it does not count.
    """
    if glue.slope == 0.0:
        return Found(glue.threshold, 0.0, met=False)
    audio, skip, heard = _stretch(glue, before, keys, span)
    if not heard.any():
        return Found(glue.threshold, 0.0, met=False)
    rate, hop = before.rate, hop_frames(before.rate)
    level = None if glue.feeds_back else _levels(glue, audio, rate)

    @functools.cache
    def reduction_at(threshold: float) -> float:
        progress(0.5)
        candidate = msgspec.structs.replace(glue, threshold=threshold)
        if level is None:
            curve = _fed_back(candidate, audio, rate)
        else:
            columns = np.zeros_like(level)
            comp.ballistics(
                level, level.shape[1], candidate.curve, candidate.times(rate), np.zeros((len(level), 3)), columns
            )
            curve = columns.max(axis=0)
        whole = (len(curve) - skip) // hop
        means = curve[skip : skip + whole * hop].reshape(-1, hop).mean(axis=1)
        counted = heard[:whole]
        return float(means[: len(counted)][counted].mean()) if counted.any() else 0.0

    found = _nearby(reduction_at, glue)
    if found is not None:
        return Found(found, reduction_at(found), met=True)
    return _sought(reduction_at, glue.aim, *_range(Glue))


def _range(kind: type[Glue | Band]) -> tuple[float, float]:
    """The lowest and highest threshold that can be set."""
    threshold = settings_of(kind)["threshold"]
    return threshold.low, threshold.high


def _sought(amount_at: Callable[[float], float], aim: float, low: float, high: float) -> Found:
    """The threshold at which an amount, which falls as it rises, is what was asked for."""
    most, least = amount_at(low), amount_at(high)
    if not least < aim < most:
        end, reached = (low, most) if aim >= most else (high, least)
        return Found(end, reached, met=abs(reached - aim) < CLOSE)
    threshold = root_between(lambda t: amount_at(t) - aim, low, high, 4e-3)
    reached = amount_at(threshold)
    return Found(threshold, reached, met=abs(reached - aim) < 0.05)


def _nearby(reduction_at: Callable[[float], float], glue: Glue) -> float | None:
    """The threshold by the secant rule from the present one on: after a small edit it has moved little."""
    low, high = _range(Glue)
    last, threshold = glue.threshold, min(high, max(low, glue.threshold + reduction_at(glue.threshold) - glue.aim))
    for _ in range(4):
        miss, moved = reduction_at(threshold) - glue.aim, threshold - last
        if abs(miss) < CLOSE / 2.0:
            return threshold
        slope = (reduction_at(threshold) - reduction_at(last)) / moved if moved else 0.0
        if not -1.5 < slope < -0.02:
            return None
        last, threshold = threshold, threshold - miss / slope
        if not low <= threshold <= high:
            return None
    return None


def detector_levels(step: Step, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> Floats:
    """The largest level in dBFS that a step's detector reads in every 10 ms of a span."""
    audio, skip, _ = _stretch(step, before, keys, span)
    hop = hop_frames(before.rate)
    first = max(0, skip - 50 * hop)  # half a second for its filters to settle
    processor, out = step.make(before.rate), np.zeros((hop, 2))
    levels = []
    for at in range(first, len(audio) - hop + 1, hop):
        block = np.ascontiguousarray(audio[at : at + hop], dtype=np.float64)
        processor.keys = (block,) if keys else ()
        processor.process(block, out)
        if at >= skip:
            levels.append(processor.level[0])
    return np.array(levels)


def band_levels(eq: MidSideEq, band: Band, before: Joint, span: Span | None) -> Floats:
    """The largest level in dBFS that a moving band's detector reads in every 10 ms of a span."""
    levels, skip = _band_levels(eq, band, before, span)
    hop = hop_frames(before.rate)
    count = (len(levels) - skip) // hop
    return np.asarray(levels[skip : skip + count * hop].reshape(count, hop).max(axis=1))


def find_band_threshold(
    eq: MidSideEq, band: Band, before: Joint, span: Span | None, progress: Progress = no_progress
) -> Found:
    """The threshold for which a band moves by ``band.aim`` dB on average over a span, where it is not silent.

    `before` is the joint that feeds the equaliser. The levels of the band's range are reckoned once.
    """
    levels, skip = _band_levels(eq, band, before, span)
    counted = levels[skip:] > HEARD
    if not counted.any() or not band.moving:
        return Found(band.threshold, 0.0, met=False)
    moved = np.zeros(len(levels))

    @functools.cache
    def movement_at(threshold: float) -> float:
        progress(0.5)
        candidate = msgspec.structs.replace(band, threshold=threshold)
        follow(levels, candidate.curve(eq.strength), candidate.times(before.rate), moved)
        return float(moved[skip:][counted].mean())

    return _sought(movement_at, band.aim, *_range(Band))


def _band_levels(eq: MidSideEq, band: Band, before: Joint, span: Span | None) -> tuple[Floats, int]:
    """What a moving band's detector reads over a span with a lead-in, dBFS, and how many frames that is."""
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    frames = Span(max(0.0, inner.start - lead_in(eq.memory)), inner.end).frames(rate, len(before.audio))
    skip = Span(inner.start, inner.end).frames(rate, len(before.audio)).start - frames.start
    x = run_chain([eq.before_moving(band.id)], before.audio[frames], rate)
    columns = np.array(
        [band.target in ("stereo", "mid", "left"), band.target in ("stereo", "side", "right")], dtype=float
    )
    if eq.stages and "mid" in eq.stages[0][0] and band.target not in ("left", "right"):
        comp.to_mid_side(x, x)
    Sections(selector(band.shape, band.freq, band.q, rate)).run(x, x)
    loudest = (np.abs(x) * columns).max(axis=1)
    return np.asarray(comp.DB * np.log(np.maximum(loudest, comp.QUIETEST))), skip


def _stretch(step: Step, before: Joint, keys: Sequence[Joint], span: Span | None) -> tuple[np.ndarray, int, np.ndarray]:
    """What the detector listens to over the span with a lead-in, how many frames that is, and which hops count."""
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    frames = Span(max(0.0, inner.start - lead_in(step.memory)), inner.end).frames(rate, len(before.audio))
    hop = hop_frames(rate)
    # whole hops from the span's first one on, as the ledger counts them
    first = round(inner.start * rate / hop) * hop
    late = step.make(rate).latency  # how early reduction is
    skip = max(0, first - frames.start + late)
    return (
        (keys[0] if keys else before).audio[frames],
        skip,
        heard_hops(before.trace)[first // hop : -(-frames.stop // hop)],
    )


def _levels(glue: Glue, audio: np.ndarray, rate: int) -> Floats:
    detector = Detector(glue, rate)
    level, read = (np.zeros((detector.columns, frames)) for frames in (len(audio), MAX_BLOCK))
    for at in range(0, len(audio), MAX_BLOCK):
        block = np.ascontiguousarray(audio[at : at + MAX_BLOCK], dtype=np.float64)
        detector.run(block, read)
        level[:, at : at + len(block)] = read[:, : len(block)]
    return level


def _fed_back(glue: Glue, audio: np.ndarray, rate: int) -> Floats:
    processor, reduction = glue.make(rate), np.zeros(len(audio))
    for at, place, block in stream(processor, audio):
        reduction[at : at + len(block)] = processor.reduction[place]
    return reduction


def find_makeup(glue: Glue, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> Found:
    """The make-up for which the span is as loud after the step as before it.

    Loudness weighting is linear, so each try only adds up energies of the two parts of the mix.
    """
    if glue.slope == 0.0 or glue.mix == 0.0:
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
    dd, dw, ww = ((a * b).mean(axis=1) for a, b in ((blocks[0],) * 2, blocks, (blocks[1],) * 2))

    def loudness(d: float, w: float) -> float:
        power = np.maximum(0.0, d * d * dd + 2.0 * d * w * dw + w * w * ww)
        empty = np.zeros(hops)
        return integrated(Trace(rate, hops * hop, power, power, empty, empty, Between(hops, empty)))

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


@dataclass(frozen=True)
class Aimed:
    """A threshold that can be looked for: of a step, or of one of its parts."""

    aim: float
    """dB that are asked for."""
    problem: str
    """Why it cannot be looked for as things are, in a sentence; empty if it can."""
    find: Callable[[Joint, Span | None, Progress, Sequence[Joint]], Found]
    """Looks for it, given what feeds the step and its keys."""
    put: Callable[[Step, float, str], Step]
    """The step as it has become by then with the threshold, held in a section."""


def aimed(step: Step | None, part: int) -> Aimed | None:
    """What can be looked for in a step, a part of which may be chosen; None if it has no threshold."""
    make = AIMS.get(type(step)) if step is not None else None
    return None if make is None else make(step, part)


def _aimed_glue(glue: Glue, _part: int) -> Aimed:
    def put(now: Step, value: float, held_in: str) -> Step:
        return msgspec.structs.replace(now, threshold=value, held_in=held_in)

    problem = "At a ratio of 1 nothing is reduced. Raise the ratio first." if glue.slope == 0.0 else ""
    return Aimed(
        glue.aim, problem, lambda before, span, check, keys: find_threshold(glue, before, span, check, keys), put
    )


def _aimed_band(eq: MidSideEq, part: int) -> Aimed:
    found = eq.band(part)
    if found is None or not found.moving:
        problem = "No band that moves is chosen. Choose one, or switch Dynamic on and raise its ratio."
        return Aimed(0.0, problem, lambda *_: Found(0.0, 0.0, met=False), lambda now, *_: now)
    band = found

    def put(now: Step, value: float, _held_in: str) -> Step:
        present = equaliser(now)
        return now if present is None else present.with_edit(band.id, threshold=value)

    return Aimed(
        band.aim, "", lambda before, span, check, _keys: find_band_threshold(eq, band, before, span, check), put
    )


AIMS: dict[type[Step], Callable[..., Aimed]] = {Glue: _aimed_glue, MidSideEq: _aimed_band}
"""Steps that have thresholds to be found."""
