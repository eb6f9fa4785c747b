"""The sound at one place of a song, and what was measured of it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TypeVar, cast

import numpy as np

from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.loudness import integrated
from gluvo.measure.overview import WORTH, Catch, Outline, Reduced, Reduction, heard_hops, outline_of
from gluvo.measure.resonances import Resonance, resonances
from gluvo.measure.spectrum import Tone, tone_of
from gluvo.measure.trace import Span, Trace
from gluvo.render.scaled import Sounding, stretch_of
from gluvo.session.scratch import SMALLEST
from gluvo.steps import Step

T = TypeVar("T")

MOST_KNOWN = 64
"""Figures and measures that a joint keeps."""
_keeping = threading.Lock()


@dataclass(frozen=True, eq=False)
class Joint:
    """The sound at one node, and what was measured of it."""

    audio: Sounding
    """``(frames, 2)`` float32."""
    trace: Trace
    reduction: Reduction | None = None
    """What the step that made it took away, if it is one that does, as it arrives in the sound."""
    came: Trace | None = None
    """What was measured of the step's input: only where it had signal, reduction counts in means."""
    start: float = 0.0
    """Where `audio` begins in the song, in seconds; 0 for the whole song."""
    wet: Reduction | None = None
    """What was taken from what is reduced alone, where some of the sound passes beside it (Mix)."""
    part_of: Joint | None = field(default=None, repr=False)
    """The joint of the whole song that this is a stretch of, whose audio it shares."""
    _known: dict[object, object] = field(default_factory=dict, repr=False)

    @property
    def rate(self) -> int:
        return self.trace.rate

    @property
    def bytes(self) -> int:
        return self.heap + (0 if self._is_small or self.part_of is not None else int(self.audio.nbytes))

    @property
    def heap(self) -> int:
        """Bytes of it that lie on the heap: what was measured, and audio that is too small for a file."""
        measured = self.trace.bytes
        for reduction in (self.reduction, self.wet):
            if reduction is not None:
                measured += sum(a.nbytes for a in (reduction.curve, reduction.mean, reduction.top, reduction.busy))
        return int(measured + (self.audio.nbytes if self._is_small else 0))

    @property
    def _is_small(self) -> bool:
        return self.part_of is None and self.audio.nbytes < SMALLEST

    @property
    def outline(self) -> Outline:
        return self.once("outline", lambda: outline_of(self.audio, self.rate))

    def within(self, span: Span | None) -> Span | None:
        """A span of the song, as one of this joint."""
        return None if span is None else Span(span.start - self.start, span.end - self.start)

    def heard_in(self, span: Span | None) -> np.ndarray:
        """The audio of a span of the song."""
        inner = self.within(span)
        return np.asarray(self.audio) if inner is None else self.audio[inner.frames(self.rate, len(self.audio))]

    @property
    def heard(self) -> np.ndarray | None:
        """Which 10 ms of the step's input had signal."""
        came = self.came
        return None if came is None else self.once("heard", lambda: heard_hops(came))

    def figures(self, span: Span | None = None, gain: float = 1.0) -> Figures:
        """The figures of a span, as they are after a gain."""

        def read() -> Figures:
            section = self.section(span)
            _ = section.true_peak  # read once for all gains
            return figures_of(section.scaled(gain))

        return self.once(("figures", span, gain), read)

    def loudness(self, span: Span | None = None) -> float:
        """Integrated loudness of a span, LUFS; for those who need not know its peaks, which take longer to read."""
        return self.once(("loudness", span), lambda: integrated(self.section(span)))

    def section(self, span: Span | None = None) -> Trace:
        """The trace of a span alone."""
        return self.once(("trace", span), lambda: self.trace.cut(self.within(span)))

    def tone(self, span: Span | None = None) -> Tone:
        """The spectra of a span."""
        return self.once(("tone", span), lambda: tone_of(self.heard_in(span), self.rate))

    def resonances(self, span: Span | None, part: str) -> tuple[Resonance, ...]:
        """What rings in a span, in mid or side."""
        return self.once(("resonances", span, part), lambda: resonances(self.heard_in(span), self.rate, part))

    def mean_reduction(self, span: Span | None = None) -> float:
        reduction, heard = self.reduction, self.heard
        if reduction is None or heard is None:
            return 0.0
        return self.once(("mean", span), lambda: reduction.average(heard, self.within(span)))

    def reduced(self, span: Span | None = None) -> Reduced | None:
        """What the step takes away in a span, as it arrives; None if it is none that does."""
        return self._reduced(self.reduction, span, "reduced")

    def taken_by(self, step: Step, span: Span | None = None) -> Reduced | None:
        """What its step takes away in a span, as it is told: where there is signal, or, of what works at moments only, where
        it works."""
        reduced = self.reduced(span)
        if reduced is None or not step.works_at_moments:
            return reduced
        values = self.reduction_in(span)
        return self.once(("worked", span), lambda: replace(Reduced.among(values[values > WORTH]), most=reduced.most))

    def wet_reduced(self, span: Span | None = None) -> Reduced | None:
        """What is taken from what is reduced alone; None where nothing passes beside it."""
        return self._reduced(self.wet, span, "wet")

    def _reduced(self, reduction: Reduction | None, span: Span | None, what: str) -> Reduced | None:
        heard = self.heard
        if reduction is None or heard is None:
            return None
        return self.once((what, span), lambda: reduction.reduced(heard, self.within(span)))

    def largest_reduction(self, span: Span | None = None) -> float:
        reduction = self.reduction
        if reduction is None:
            return 0.0
        return self.once(("largest", span), lambda: reduction.largest(self.within(span)))

    def hardest(self, span: Span | None = None) -> tuple[Catch, ...]:
        """Where most is taken in a span of the song."""
        reduction = self.reduction
        if reduction is None:
            return ()
        found = self.once(("hardest", span), lambda: reduction.hardest(self.within(span)))
        return tuple(Catch(c.seconds + self.start, c.taken) for c in found)

    def reduction_in(self, span: Span | None) -> np.ndarray:
        """The reduction of every 10 ms of a span that had signal, dB."""
        reduction, heard = self.reduction, self.heard
        if reduction is None or heard is None:
            return np.zeros(0)
        return self.once(("spread", span), lambda: reduction.heard_values(heard, self.within(span)))

    def once(self, key: object, make: Callable[[], T]) -> T:
        """Screens ask for the same figures many times a second, and several threads do. The oldest are forgotten."""
        known = self._known.get(key, self)
        if known is self:
            known = make()
            with _keeping:
                while len(self._known) >= MOST_KNOWN:
                    del self._known[next(iter(self._known))]
                self._known[key] = known
        return cast(T, known)


def cut(joint: Joint, frames: slice, start: float) -> Joint:
    """A stretch of a whole-song joint, as a joint of its own."""
    rate = joint.rate
    span = Span(frames.start / rate, frames.stop / rate)
    reduction, wet = (r.cut(span) if r is not None else None for r in (joint.reduction, joint.wet))
    came = joint.came.cut(span) if joint.came is not None else None
    return Joint(stretch_of(joint.audio, frames), joint.trace.cut(span), reduction, came, start, wet, joint)
