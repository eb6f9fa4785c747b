"""Aim: the threshold for which a step takes or lifts what is asked, found on its detector alone."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, cast

import msgspec
import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.kernel import Audio, Floats, record
from gluvo.dsp.roots import root_between
from gluvo.measure.overview import HEARD_FROM, PEAKS_SHARE, REDUCED_BY, REDUCTION_HOP, Reduced, ReducedBy, heard_hops
from gluvo.measure.trace import Span
from gluvo.measure.truepeak import hop_frames
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import stream
from gluvo.render.joint import Joint
from gluvo.render.song import lead_in
from gluvo.steps import MAX_BLOCK, Glue, Step, settings_of
from gluvo.steps.de_esser import WORKS

CLOSE = 0.01
"""dB within which an aim is met."""
NEAR = 0.05
"""dB within which an aim that is held is said to be met."""
MOST_SHARE = 0.4
"""Of the time that a De-esser may work: sibilants are moments, and what is sharp all the time wants an equaliser."""
LOUD_SHARE, LOUD_LIFT = 0.25, 0.3
"""What is loud: the loudest quarter of what is heard; and the dB by which a lift that is found may raise that on average."""
COARSE, FINE = 2.0, 0.1
"""dB between the thresholds that are tried where what is asked does not rise steadily, at first and where it is nearest."""


@dataclass(frozen=True)
class Found:
    """A setting that was looked for."""

    value: float
    reached: float
    """What it achieves, in dB."""
    met: bool
    """Whether that is what was asked for; if not, the value is as near as its range allows."""
    why_not: str = ""
    """What is in the way, where it is not the setting's range: in a sentence."""


class Reducing(Protocol):
    """What a step that takes level away over a threshold has, for that to be looked for on its detector alone."""

    @property
    def curve(self) -> comp.Curve: ...

    def times(self, rate: int) -> comp.Times: ...

    def detector(self, rate: int) -> LevelDetector: ...


class LevelDetector(Protocol):
    """Reads levels in dBFS of a block (n, 2) into rows (columns, n)."""

    columns: int

    def run(self, x: Audio, level: Floats) -> None: ...


def find_threshold(
    step: Step,
    before: Joint,
    span: Span | None,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
    setting: str = "threshold",
) -> Found:
    """The value of a setting, the threshold of a `Reducing` step, for which the reduction that arrives over the span, at
    peaks, at most or on average, is what the step aims at; of what works at moments only (`Solved.while_working`) that
    where it works, of 10 ms each, and none for which it would work most of the time.

    `before` is the joint that feeds the step, `keys` what its detector listens to if that is something else. The
    detector's levels are computed once; each try runs only the curve and the ballistics over them (where it feeds
    back, the whole detector). Where the input's RMS is under −50 dBFS it does not count.
    """
    solved, now = step.solved_settings[setting], getattr(step, setting)
    aim, by = getattr(step, solved.aim), aim_by_of(step, setting)
    curve = cast(Reducing, step).curve
    if curve.slope * curve.most == 0.0:
        return Found(now, 0.0, met=False)
    stretch = _Stretch(step, before, keys, span)
    if not stretch.heard.any():
        return Found(now, 0.0, met=False)
    rate = before.rate
    curve_at: Callable[[Any], Floats]
    if step.feeds_back and not keys:
        curve_at = functools.partial(_run_through, audio=stretch.audio, rate=rate)
    else:
        level = _levels(cast(Reducing, step), stretch.audio, rate)
        curve_at = functools.partial(_fed_forward, level=level, made=np.zeros_like(level), rate=rate)

    low, high = range_of(step, setting)
    if solved.while_working:

        @functools.cache
        def worked_at(threshold: float) -> tuple[Floats, float]:
            """What is taken in each 10 ms that counts, and the most of all."""
            progress(0.5)
            curve = curve_at(msgspec.structs.replace(step, **{setting: threshold}))
            return stretch.counted(curve), stretch.largest(curve)

        def while_working(threshold: float) -> float:
            hops, most = worked_at(threshold)
            return most if by == "most" else Reduced.among(hops[hops > WORKS]).of(by)

        return _from_above(
            while_working, lambda t: float((worked_at(t)[0] > WORKS).mean()) <= MOST_SHARE, aim, low, high
        )

    @functools.cache
    def reached_at(threshold: float) -> float:
        progress(0.5)
        tried = msgspec.structs.replace(step, **{setting: threshold})
        return stretch.figure(tried.arriving(curve_at(tried)), by)

    found = _nearby(reached_at, now, aim, low, high)
    if found is not None:
        return Found(found, reached_at(found), met=True)
    return sought(reached_at, aim, low, high)


def find_drive(
    step: Step,
    before: Joint,
    span: Span | None,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
    setting: str = "drive",
) -> Found:
    """The drive for which what a step takes off over the span, at peaks, at most or on average, is what it aims at. Each try
    runs all of the step."""
    solved, now = step.solved_settings[setting], getattr(step, setting)
    aim, by = getattr(step, solved.aim), aim_by_of(step, setting)
    stretch = _Stretch(step, before, keys, span, 0)
    if not stretch.heard.any():
        return Found(now, 0.0, met=False)

    @functools.cache
    def reached_at(lower: float) -> float:
        """What is taken at a drive, which is turned over so that it falls as it rises."""
        progress(0.5)
        curve = _run_through(msgspec.structs.replace(step, **{setting: -lower}), audio=stretch.audio, rate=before.rate)
        return stretch.figure(curve, by)

    lowest, highest = range_of(step, setting)
    near = _nearby(reached_at, -now, aim, -highest, -lowest)
    if near is not None:
        return Found(-near, reached_at(near), met=True)
    found = sought(reached_at, aim, -highest, -lowest)
    return Found(-found.value, found.reached, found.met)


def aim_by_of(step: Step, setting: str) -> ReducedBy:
    """What the aim of a solved setting is of."""
    name = step.solved_settings[setting].aim_by
    return cast("ReducedBy", getattr(step, name)) if name else "mean"


def find_lift(
    glue: Glue,
    before: Joint,
    span: Span | None,
    progress: Progress = no_progress,
    keys: Sequence[Joint] = (),
    setting: str = "lift_threshold",
) -> Found:
    """The lift's threshold for which what is quiet is lifted by ``glue.lift_aim`` dB over the span, at peaks, at most or on
    average; see `find_threshold`. It is no higher than leaves alone what is loud, see `LOUD_LIFT`."""
    if not glue.lifts:
        return Found(glue.lift_threshold, 0.0, met=False)
    stretch = _Stretch(glue, before, keys, span)
    if not stretch.heard.any():
        return Found(glue.lift_threshold, 0.0, met=False)
    level = _levels(glue, stretch.audio, before.rate)

    counted = stretch.counted(level.max(axis=0))
    loud = counted >= np.quantile(counted, 1.0 - LOUD_SHARE)

    @functools.cache
    def lifts_at(lower: float) -> tuple[float, float]:
        """The lift that is aimed at, and the mean of what is loud, at a threshold, which is turned over so that it falls as
        it rises."""
        progress(0.5)
        hops = _lifted(msgspec.structs.replace(glue, lift_threshold=-lower), stretch, level, before.rate)
        return Reduced.among(hops).of(by), _mean(hops[loud])

    by, (lowest, highest) = aim_by_of(glue, setting), range_of(glue, setting)
    low, high = -highest, -lowest
    found = sought(lambda t: lifts_at(t)[0], glue.lift_aim, low, high)
    if lifts_at(found.value)[1] > LOUD_LIFT:
        value = sought(lambda t: lifts_at(t)[1], LOUD_LIFT, found.value, high).value
        return Found(-value, lifts_at(value)[0], met=False, why_not="More would raise what is loud.")
    return Found(-found.value, found.reached, found.met)


def unmet(step: Step, before: Joint, after: Joint, span: Span | None) -> str:
    """What there is to say of an aim that is held and not met over a span, in a few words; nothing where it is met."""
    held = (s for s in step.solved_settings.values() if s.by in ("reduction", "drive") and getattr(step, s.switch))
    solved = next(held, None)
    if solved is None or not step.on:
        return ""
    if not heard_hops(before.section(span)).any():
        return f"finds nothing: all that it works on here is softer than {HEARD_FROM:.0f} dBFS".replace("-", "−")
    reduced, aim = after.taken_by(step, span), getattr(step, solved.aim)
    if reduced is None:
        return ""
    if solved.while_working and reduced.most < WORKS:
        return "finds nothing here that it would work on"
    by = cast("ReducedBy", getattr(step, solved.aim_by)) if solved.aim_by else "mean"
    reached = reduced.of(by)
    return f"reaches {reached:.1f} of {aim:.1f} dB {REDUCED_BY[by]}" if reached < aim - NEAR else ""


def lift_hops(glue: Glue, before: Joint, span: Span | None, keys: Sequence[Joint] = ()) -> Floats:
    """By how many dB a Glue lifts each 10 ms of a span that has signal. Block by block, however long the span is."""
    stretch, rate = _Stretch(glue, before, keys, span), before.rate
    detector, hop = glue.detector(rate), hop_frames(rate)
    level, lifts = (np.zeros((detector.columns, MAX_BLOCK)) for _ in range(2))
    state, hops, at = np.zeros(detector.columns), [], 0
    curve, times = record(glue.lift_curve), record(glue.lift_times(rate))
    while at < len(stretch.audio):
        most = MAX_BLOCK // hop * hop if at >= stretch.skip else min(MAX_BLOCK, stretch.skip - at)
        block = np.ascontiguousarray(stretch.audio[at : at + most], dtype=np.float64)
        detector.run(block, level)
        comp.lifts(level, len(block), curve, times, state, lifts)
        if at >= stretch.skip:
            whole = len(block) // hop
            hops.append(lifts[:, : whole * hop].max(axis=0).reshape(-1, hop).mean(axis=1))
        at += len(block)
    means = np.concatenate(hops) if hops else np.zeros(0)
    counted = stretch.heard[: len(means)]
    return np.asarray(means[: len(counted)][counted])


def _lifted(glue: Glue, stretch: _Stretch, level: Floats, rate: int) -> Floats:
    lifts = np.zeros_like(level)
    curve, times = record(glue.lift_curve), record(glue.lift_times(rate))
    comp.lifts(level, level.shape[1], curve, times, np.zeros(len(level)), lifts)
    return stretch.counted(lifts.max(axis=0))


def _mean(hops: Floats) -> float:
    return float(hops.mean()) if len(hops) else 0.0


def range_of(step: msgspec.Struct, setting: str) -> tuple[float, float]:
    """The lowest and highest value that a setting can have."""
    found = settings_of(type(step))[setting]
    return found.low, found.high


def sought(amount_at: Callable[[float], float], aim: float, low: float, high: float) -> Found:
    """The threshold at which an amount, which falls as it rises, is what was asked for."""
    most, least = amount_at(low), amount_at(high)
    if not least < aim < most:
        end, reached = (low, most) if aim >= most else (high, least)
        return Found(end, reached, met=abs(reached - aim) < CLOSE)
    threshold = root_between(lambda t: amount_at(t) - aim, low, high, 4e-3)
    reached = amount_at(threshold)
    return Found(threshold, reached, met=abs(reached - aim) < 0.05)


def _from_above(
    amount_at: Callable[[float], float], allowed: Callable[[float], bool], aim: float, low: float, high: float
) -> Found:
    """The highest threshold at which an amount is what was asked for, where it need not rise steadily as that falls; none
    that is not allowed."""
    tried = [high]
    while tried[-1] > low:
        below = max(low, tried[-1] - COARSE)
        if not allowed(below):  # as far as it may go
            below = root_between(lambda t: 1.0 if allowed(t) else -1.0, below, tried[-1], CLOSE) + CLOSE
            if below >= tried[-1] or not allowed(below):
                break
            tried.append(below)
            break
        tried.append(below)
        if amount_at(below) >= aim:
            break
    if amount_at(tried[-1]) < aim:  # it may be more between two that were tried
        nearest = max(tried, key=amount_at)
        around = np.arange(min(high, nearest + COARSE), max(tried[-1], nearest - COARSE), -FINE)
        tried = sorted({*tried, *(float(t) for t in around)}, reverse=True)
    for above, below in itertools.pairwise(tried):
        if amount_at(below) >= aim:
            threshold = root_between(lambda t: amount_at(t) - aim, below, above, 4e-3)
            reached = amount_at(threshold)
            return Found(threshold, reached, met=abs(reached - aim) < 0.05)
    nearest = min(tried, key=lambda t: abs(amount_at(t) - aim))
    return Found(nearest, amount_at(nearest), met=False)


def _nearby(reduction_at: Callable[[float], float], now: float, aim: float, low: float, high: float) -> float | None:
    """The threshold by the secant rule from the present one on: after a small edit it has moved little."""
    last, threshold = now, min(high, max(low, now + reduction_at(now) - aim))
    for _ in range(4):
        miss, moved = reduction_at(threshold) - aim, threshold - last
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
    stretch = _Stretch(step, before, keys, span)
    audio, skip, hop = stretch.audio, stretch.skip, hop_frames(before.rate)
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


class _Stretch:
    """What a detector listens to over a span with a lead-in, how many frames that is, and which 10 ms count."""

    def __init__(
        self, step: Step, before: Joint, keys: Sequence[Joint], span: Span | None, early: int | None = None
    ) -> None:
        """`early`: frames by which the curves that will be counted are ahead of what comes out; if not said, as those of a
        detector are."""
        rate = before.rate
        inner = before.within(span) or Span(0.0, before.trace.seconds)
        frames = Span(max(0.0, inner.start - lead_in(step.memory)), inner.end).frames(rate, len(before.audio))
        self._hop = hop = hop_frames(rate)
        self._point = round(inner.start * rate / REDUCTION_HOP)
        """The first point of the reduction's curve that counts, as `Reduction.reduced` has it, and how far it reaches."""
        self._points = max(0, round(inner.end * rate / REDUCTION_HOP)) - self._point
        self._rows = round(inner.end * rate / hop) - round(inner.start * rate / hop)
        # whole hops from the span's first one on, as the ledger counts them
        first = round(inner.start * rate / hop) * hop
        late = step.make(rate).latency if early is None else early
        self.skip = max(0, first - frames.start + late)
        self._begins = max(0, self._point * REDUCTION_HOP - frames.start + late)
        self.audio = (keys[0] if keys else before).audio[frames]
        self._all_heard = heard_hops(before.trace)
        self.heard = self._all_heard[first // hop : -(-frames.stop // hop)]

    def counted(self, curve: Floats) -> Floats:
        """The mean over each 10 ms that counts of a curve with a value a frame."""
        whole = (len(curve) - self.skip) // self._hop
        hops = curve[self.skip : self.skip + whole * self._hop].reshape(-1, self._hop)
        means = np.einsum("ij->i", hops) / self._hop
        counted = self.heard[:whole]
        return np.asarray(means[: len(counted)][counted])

    def figure(self, curve: Floats, by: ReducedBy) -> float:
        """One of the three figures of a curve with a value a frame."""
        if by == "mean":
            return _mean(self.counted(curve))
        return self.largest(curve) if by == "most" else self.at_peaks(curve)

    def largest(self, curve: Floats) -> float:
        """The largest of a curve with a value a frame, as `Reduction.largest` has it."""
        return float(curve[self.skip : self.skip + self._rows * self._hop].max(initial=0.0))

    def at_peaks(self, curve: Floats) -> float:
        """What a curve with a value a frame passes `PEAKS_SHARE` of the time that counts, as `Reduction.reduced` has it."""
        whole = max(0, min((len(curve) - self._begins) // REDUCTION_HOP, self._points))
        tops = curve[self._begins : self._begins + whole * REDUCTION_HOP].reshape(-1, REDUCTION_HOP).max(axis=1)
        rows = (self._point + np.arange(whole)) * REDUCTION_HOP // self._hop
        counted = tops[self._all_heard[np.minimum(rows, len(self._all_heard) - 1)]]
        return float(np.quantile(counted, 1.0 - PEAKS_SHARE)) if len(counted) else 0.0


def _levels(step: Reducing, audio: np.ndarray, rate: int) -> Floats:
    detector = step.detector(rate)
    level, read = (np.zeros((detector.columns, frames)) for frames in (len(audio), MAX_BLOCK))
    for at in range(0, len(audio), MAX_BLOCK):
        block = np.ascontiguousarray(audio[at : at + MAX_BLOCK], dtype=np.float64)
        detector.run(block, read)
        level[:, at : at + len(block)] = read[:, : len(block)]
    return level


def _fed_forward(step: Reducing, level: Floats, made: Floats, rate: int) -> Floats:
    """The reduction for levels (columns, frames) that have been read; `made`, of that shape, is written over."""
    curve, times = record(step.curve), record(step.times(rate))
    comp.ballistics(level, level.shape[1], curve, times, comp.stages(len(level)), made)
    return made[0] if len(made) == 1 else np.asarray(made.max(axis=0))


def _run_through(step: Step, audio: np.ndarray, rate: int) -> Floats:
    processor, reduction = step.make(rate), np.zeros(len(audio))
    wet = processor.reduction if processor.wet is None else processor.wet
    for at, place, block in stream(processor, audio):
        reduction[at : at + len(block)] = wet[place]
    return reduction
