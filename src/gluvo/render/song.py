"""Renders of a song at every joint of its chain, kept by the content that made them."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TypeVar, cast

import numpy as np

from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.overview import Outline, Reduction, ReductionTracer, heard_hops, outline_of
from gluvo.measure.trace import Span, Trace, Tracer, trace_of
from gluvo.render.chain import Chain, Progress, no_progress, stream
from gluvo.session.media import Sound
from gluvo.session.records import Media
from gluvo.steps import Step

T = TypeVar("T")

LEAD_IN = 10.0
"""Seconds rendered before a section, so that slow releases are where they would be."""


@dataclass(frozen=True, eq=False)
class Joint:
    """The sound at one place of the chain, and what was measured of it."""

    key: str
    step: str
    """The id of the step before the joint; empty for the source."""
    audio: np.ndarray
    """``(frames, 2)`` float32."""
    trace: Trace
    outline: Outline
    reduction: Reduction | None = None
    heard: np.ndarray | None = None
    """Which 10 ms of the step's input had signal; only these count in mean reduction."""
    start: float = 0.0
    """Where `audio` begins in the song, in seconds; 0 for the whole song."""
    _known: dict[object, object] = field(default_factory=dict, repr=False)

    @property
    def bytes(self) -> int:
        return int(self.audio.nbytes + self.trace.weighted.nbytes * 4 + self.outline.low.nbytes * 2)

    def within(self, span: Span | None) -> Span | None:
        """A span of the song, as one of this joint."""
        return None if span is None else Span(span.start - self.start, span.end - self.start)

    def figures(self, span: Span | None = None) -> Figures:
        return self._once(("figures", span), lambda: figures_of(self.trace, self.within(span)))

    def section(self, span: Span | None = None) -> Trace:
        """The trace of a span alone."""
        return self._once(("trace", span), lambda: self.trace.cut(self.within(span)))

    def mean_reduction(self, span: Span | None = None) -> float:
        reduction, heard = self.reduction, self.heard
        if reduction is None or heard is None:
            return 0.0
        return self._once(("mean", span), lambda: reduction.average(heard, self.within(span)))

    def largest_reduction(self, span: Span | None = None) -> float:
        return 0.0 if self.reduction is None else self.reduction.largest(self.within(span))

    def _once(self, key: object, make: Callable[[], T]) -> T:
        """Screens ask for the same figures many times a second."""
        if key not in self._known:
            self._known[key] = make()
        return cast(T, self._known[key])


@dataclass(frozen=True)
class Rendered:
    """The joints of a chain, source first; of the whole song, or of a section of it."""

    joints: tuple[Joint, ...]
    whole: bool

    @property
    def source(self) -> Joint:
        return self.joints[0]

    @property
    def result(self) -> Joint:
        return self.joints[-1]

    def joint(self, step: str) -> Joint | None:
        return next((j for j in self.joints if j.step == step), None)

    def before(self, step: str) -> Joint | None:
        """The joint that feeds a step."""
        for earlier, joint in zip(self.joints, self.joints[1:], strict=False):
            if joint.step == step:
                return earlier
        return None


class Cache:
    """Joints by key, the least used ones dropped when they pass a budget in bytes. Safe between threads."""

    def __init__(self, budget: int = 1_200_000_000) -> None:
        self._budget = budget
        self._joints: OrderedDict[str, Joint] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str) -> Joint | None:
        with self._lock:
            if key in self._joints:
                self._joints.move_to_end(key)
            return self._joints.get(key)

    def put(self, joint: Joint) -> None:
        with self._lock:
            self._joints[joint.key] = joint
            total = sum(j.bytes for j in self._joints.values())
            while total > self._budget and len(self._joints) > 1:
                total -= self._joints.popitem(last=False)[1].bytes


def source_key(media: Sequence[Media]) -> str:
    return _key(*(m.sha256.encode() for m in media))


def step_key(before: str, step: Step) -> str:
    return _key(before.encode(), step.sound_key())


def _key(*parts: bytes) -> str:
    return hashlib.sha256(b"\0".join(parts)).hexdigest()


class Renderer:
    """Renders the chain over a song, from the first step on that has not been rendered so before."""

    def __init__(self, sound: Sound, key: str, cache: Cache | None = None) -> None:
        self.sound = sound
        self.key = key
        self.cache = cache or Cache()

    @property
    def rate(self) -> int:
        return self.sound.rate

    def source(self) -> Joint:
        """The joint before the first step."""
        found = self.cache.get(self.key)
        if found is None:
            x = self.sound.samples
            found = Joint(self.key, "", x, trace_of(x, self.rate), outline_of(x, self.rate))
            self.cache.put(found)
        return found

    def song(self, chain: Sequence[Step], progress: Progress = no_progress) -> Rendered:
        """Every joint of the whole song. `progress` may raise `Cancelled`; joints that are done stay cached."""
        joints = [self.source()]
        steps = [step for step in chain if step.on]
        for n, step in enumerate(steps):
            key = step_key(joints[-1].key, step)
            joint = self.cache.get(key)
            if joint is None:
                joint = rendered_joint(step, key, joints[-1], _part(progress, n, len(steps)))
                self.cache.put(joint)
            joints.append(_named(joint, step.id))
        progress(1.0)
        return Rendered(tuple(joints), whole=True)

    def section(self, chain: Sequence[Step], span: Span, progress: Progress = no_progress) -> Rendered:
        """Every joint of a section, with a lead-in: quick, and within hundredths of a dB of the whole render."""
        start = max(0.0, span.start - LEAD_IN)
        cut = Span(start, span.end).frames(self.rate, len(self.sound.samples))
        joints = [_cut(self.source(), cut, start)]
        whole: Joint | None = self.source()
        for step in (step for step in chain if step.on):
            key = step_key(joints[-1].key, step)
            whole = self.cache.get(key) if whole is not None else None
            if whole is not None:
                joint = _cut(whole, cut, start)
            else:
                joint = rendered_joint(step, key, joints[-1], progress)
            joints.append(_named(joint, step.id))
        return Rendered(tuple(joints), whole=False)

    def known(self, chain: Sequence[Step]) -> bool:
        """Whether the whole song is rendered for this chain."""
        key = self.key
        for step in chain:
            if step.on:
                key = step_key(key, step)
        return self.cache.get(key) is not None


def rendered_joint(step: Step, key: str, before: Joint, progress: Progress = no_progress) -> Joint:
    """One step run over the joint before it, measured as it goes."""
    x, rate = before.audio, before.trace.rate
    chain = Chain([step], rate)
    audio = np.zeros((len(x), 2), dtype=np.float32)
    tracer = Tracer(rate)
    reduction = ReductionTracer(rate, len(x)) if step.reduces else None
    processor = chain.processors[0]
    for start, place, block in stream(chain, x, progress):
        audio[start : start + len(block)] = block
        tracer.push(block)
        if reduction is not None:
            reduction.push(processor.reduction[place])
    return Joint(
        key, step.id, audio, tracer.finish(), outline_of(audio, rate),
        reduction.finish() if reduction else None, heard_hops(before.trace), before.start,
    )  # fmt: skip


def _named(joint: Joint, step: str) -> Joint:
    """The same joint for a step of another id: the key tells content, not place."""
    if joint.step == step:
        return joint
    return Joint(
        joint.key, step, joint.audio, joint.trace, joint.outline, joint.reduction, joint.heard, joint.start
    )  # fmt: skip


def _cut(joint: Joint, frames: slice, start: float) -> Joint:
    """A stretch of a whole-song joint, as a joint of its own."""
    rate = joint.trace.rate
    span = Span(frames.start / rate, frames.stop / rate)
    audio = joint.audio[frames]
    reduction = joint.reduction
    if reduction is not None:
        rows = reduction._rows(span)
        fine = slice(frames.start // 16, frames.stop // 16)
        reduction = Reduction(rate, reduction.curve[fine], reduction.mean[rows], reduction.top[rows])
    heard = joint.heard[round(span.start * 100) : round(span.end * 100)] if joint.heard is not None else None
    return Joint(
        joint.key, joint.step, audio, joint.trace.cut(span), outline_of(audio, rate), reduction, heard, start
    )  # fmt: skip


def _part(progress: Progress, n: int, of: int) -> Progress:
    return lambda done: progress((n + done) / of)
