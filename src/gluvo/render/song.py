"""Renders of a song at every node of its plan, kept by the content that made them."""

from __future__ import annotations

import concurrent.futures
import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import TypeVar, cast

import numpy as np

from gluvo.dsp.kernel import Audio
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.overview import REDUCTION_HOP, Outline, Reduction, ReductionTracer, heard_hops, outline_of
from gluvo.measure.resonances import Resonance, resonances
from gluvo.measure.spectrum import Tone, tone_of
from gluvo.measure.trace import Span, Trace, Tracer, trace_of
from gluvo.progress import Progress, Stopper, no_progress, step_back
from gluvo.render.chain import stream
from gluvo.render.machine import add_scaled
from gluvo.render.plan import Ear, Mix, Node, Plan, Run, Source
from gluvo.session.media import Material
from gluvo.session.records import Session
from gluvo.session.scratch import SMALLEST, let_rest, scratch
from gluvo.steps import MAX_BLOCK
from gluvo.steps.glue import DetectorEar

T = TypeVar("T")

MOST_FOUND = 2000
"""Answers that a renderer keeps; see `Renderer.once`."""

LEAD_IN, MOST_LEAD_IN = 5.0, 80.0
"""Seconds rendered before a section, so that slow releases are where they would be: at least, and at most."""
CORES = min(2, os.cpu_count() or 1)


@dataclass(frozen=True, eq=False)
class Joint:
    """The sound at one node, and what was measured of it."""

    audio: np.ndarray
    """``(frames, 2)`` float32."""
    trace: Trace
    reduction: Reduction | None = None
    """What the step that made it took away, if it is one that does."""
    heard: np.ndarray | None = None
    """Which 10 ms of the step's input had signal; only these count in mean reduction."""
    start: float = 0.0
    """Where `audio` begins in the song, in seconds; 0 for the whole song."""
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
        measured = sum(
            part.nbytes for part in (self.trace.weighted, self.trace.squares, self.trace.product, self.trace.true_peak)
        ) + self.trace.sample_peak.nbytes  # fmt: skip
        reduction = self.reduction
        if reduction is not None:
            measured += reduction.curve.nbytes + reduction.mean.nbytes + reduction.top.nbytes
        return int(measured + (self.audio.nbytes if self._is_small else 0))

    @property
    def _is_small(self) -> bool:
        return self.part_of is None and self.audio.nbytes < SMALLEST

    @property
    def outline(self) -> Outline:
        return self._once("outline", lambda: outline_of(self.audio, self.rate))

    def within(self, span: Span | None) -> Span | None:
        """A span of the song, as one of this joint."""
        return None if span is None else Span(span.start - self.start, span.end - self.start)

    def heard_in(self, span: Span | None) -> np.ndarray:
        """The audio of a span of the song."""
        inner = self.within(span)
        return self.audio if inner is None else self.audio[inner.frames(self.rate, len(self.audio))]

    def figures(self, span: Span | None = None, gain: float = 1.0) -> Figures:
        """The figures of a span, as they are after a gain."""
        return self._once(("figures", span, gain), lambda: figures_of(self.section(span).scaled(gain)))

    def section(self, span: Span | None = None) -> Trace:
        """The trace of a span alone."""
        return self._once(("trace", span), lambda: self.trace.cut(self.within(span)))

    def tone(self, span: Span | None = None) -> Tone:
        """The spectra of a span."""
        return self._once(("tone", span), lambda: tone_of(self.heard_in(span), self.rate))

    def resonances(self, span: Span | None, part: str) -> tuple[Resonance, ...]:
        """What rings in a span, in mid or side."""
        return self._once(("resonances", span, part), lambda: resonances(self.heard_in(span), self.rate, part))

    def mean_reduction(self, span: Span | None = None) -> float:
        reduction, heard = self.reduction, self.heard
        if reduction is None or heard is None:
            return 0.0
        return self._once(("mean", span), lambda: reduction.average(heard, self.within(span)))

    def largest_reduction(self, span: Span | None = None) -> float:
        reduction = self.reduction
        if reduction is None:
            return 0.0
        return self._once(("largest", span), lambda: reduction.largest(self.within(span)))

    def reduction_in(self, span: Span | None) -> np.ndarray:
        """The reduction of every 10 ms of a span that had signal, dB."""
        reduction, heard = self.reduction, self.heard
        if reduction is None or heard is None:
            return np.zeros(0)
        return self._once(("spread", span), lambda: reduction.heard_values(heard, self.within(span)))

    def _once(self, key: object, make: Callable[[], T]) -> T:
        """Screens ask for the same figures many times a second, and several threads do. The oldest are forgotten."""
        known = self._known.get(key, self)
        if known is self:
            known = make()
            with _keeping:
                while len(self._known) >= MOST_KNOWN:
                    del self._known[next(iter(self._known))]
                self._known[key] = known
        return cast(T, known)


MOST_KNOWN = 64
"""Figures and measures that a joint keeps."""
_keeping = threading.Lock()


@dataclass(frozen=True)
class Rendered:
    """A plan with the joints of its nodes; of the whole song, or of a section of it."""

    plan: Plan
    joints: Mapping[str, Joint]
    """By the nodes' keys."""
    whole: bool

    def at(self, node: Node) -> Joint:
        return self.joints[node.key]

    @property
    def result(self) -> Joint:
        return self.at(self.plan.result)

    @property
    def untouched(self) -> Joint:
        """The song with faders and pans but without any step."""
        return self.at(self.plan.untouched)

    def joint(self, step: str) -> Joint | None:
        """What comes out of a step or lane; None if it is off."""
        node = self.plan.after.get(step)
        return self.at(node) if node is not None else None

    def before(self, step: str) -> Joint | None:
        """What feeds a step or lane."""
        node = self.plan.before.get(step)
        return self.at(node) if node is not None else None

    def start(self, strip: str) -> Joint | None:
        """What comes into a strip's chain."""
        found = self.plan.strips.get(strip)
        return self.at(found.start) if found is not None else None

    def end(self, strip: str) -> Joint | None:
        """What comes out of a strip's chain."""
        found = self.plan.strips.get(strip)
        return self.at(found.end) if found is not None else None

    def sent(self, strip: str, span: Span | None = None) -> Figures | None:
        """The figures of what a strip sends on, after its fader and pan."""
        if strip not in self.plan.strips:
            return None
        left, right = self.plan.gains(strip)
        if abs(left) == abs(right):
            return self.at(self.plan.strips[strip].end).figures(span, abs(left))
        return self.at(self.plan.flowing(strip)).figures(span)

    def reduction(self, strip: str, span: Span | None = None) -> float:
        """What the steps of a strip's chain take away, dB on average, added up along the chain."""
        found = self.plan.strips.get(strip)
        if found is None:
            return 0.0
        return sum(self.at(self.plan.after[id]).mean_reduction(span) for id in found.along)


class Cache:
    """Joints by key, the least used ones dropped when they are too many or too large. Safe between threads.

    Large audio lies in mapped files (see `scratch`), small audio and what was measured on the heap; each has a bound.
    A stretch of a whole-song joint holds on to it, and goes with it.
    """

    def __init__(self, budget: int = 6_000_000_000, memory: int = 200_000_000, most: int = 1500) -> None:
        """`budget`: bytes of audio in all; `memory`: bytes on the heap; `most`: joints."""
        self._budget, self._memory, self._most = budget, memory, most
        self._joints: OrderedDict[object, Joint] = OrderedDict()
        self._total = self._heap = 0
        self._lock = threading.Lock()

    def get(self, key: object) -> Joint | None:
        with self._lock:
            if key in self._joints:
                self._joints.move_to_end(key)
            return self._joints.get(key)

    def put(self, key: object, joint: Joint) -> None:
        with self._lock:
            self._drop(key)
            self._joints[key] = joint
            if joint.part_of is None:
                let_rest(joint.audio)
            self._total += joint.bytes
            self._heap += joint.heap
            while len(self._joints) > 1 and (
                self._total > self._budget or self._heap > self._memory or len(self._joints) > self._most
            ):
                self._drop(next(iter(self._joints)))

    def _drop(self, key: object) -> None:
        joint = self._joints.pop(key, None)
        if joint is None:
            return
        self._total -= joint.bytes
        self._heap -= joint.heap
        for other in [k for k, j in self._joints.items() if j.part_of is joint]:
            self._drop(other)

    def __len__(self) -> int:
        return len(self._joints)

    @property
    def bytes(self) -> int:
        """Bytes of audio and traces, in files and on the heap."""
        return self._total

    @property
    def heap(self) -> int:
        """Bytes on the heap."""
        return self._heap


class Renderer:
    """Renders the plans of a session over its material; only what has not been rendered so before."""

    def __init__(self, material: Material, cache: Cache | None = None) -> None:
        self.material = material
        self.cache = cache if cache is not None else Cache()
        self._found: OrderedDict[object, float] = OrderedDict()
        self._finding = threading.Lock()

    @property
    def rate(self) -> int:
        return self.material.rate

    @property
    def seconds(self) -> float:
        return self.material.seconds

    def plan(self, session: Session, without: str = "") -> Plan:
        """The plan of a session, with what there is of its audio."""
        return Plan(session, self.material.sounds, without=without)

    def song(self, session: Session, progress: Progress = no_progress) -> Rendered:
        """The whole song at every node. `progress` may raise `Cancelled`; joints that are done stay cached."""
        plan = self.plan(session)
        return Rendered(plan, self.joints(plan.nodes(), None, progress), whole=True)

    def section(self, session: Session, span: Span, progress: Progress = no_progress) -> Rendered:
        """A section at every node, with a lead-in: quick, and within hundredths of a dB of the whole render."""
        plan = self.plan(session)
        return Rendered(plan, self.joints(plan.nodes(), span, progress), whole=False)

    def joint(self, node: Node, span: Span | None = None, progress: Progress = no_progress, lead: float = 0.0) -> Joint:
        """One node, over a span of the song (all of it); see `joints`."""
        return self.joints([node], span, progress, lead)[node.key]

    def once(self, question: object, answer: Callable[[], float]) -> float:
        """A figure that depends on nothing but the question, looked for the first time it is asked."""
        with self._finding:
            if question in self._found:
                self._found.move_to_end(question)
                return self._found[question]
        found = answer()
        with self._finding:
            self._found[question] = found
            while len(self._found) > MOST_FOUND:
                self._found.popitem(last=False)
        return found

    def cache_of(self, node: Node) -> Joint | None:
        """The joint of the whole song, if it has been rendered."""
        return self._cached(node, None, 0.0)

    def known(self, session: Session) -> bool:
        """Whether the whole song is rendered."""
        return all(self.cache_of(node) is not None for node in self.plan(session).nodes())

    def joints(
        self, wanted: Iterable[Node], span: Span | None = None, progress: Progress = no_progress, lead: float = 0.0
    ) -> dict[str, Joint]:
        """The joints of some nodes by key. Branches that do not need each other are rendered side by side.

        A span is rendered with a lead-in as long as what leads to the nodes remembers, and no shorter than `lead` s.
        """
        wanted = list(wanted)
        found: dict[str, Joint] = {}
        lead = lead_in(max([lead, *(node.memory for node in wanted)]))
        missing = self._needed(wanted, span, lead, found)
        if missing:
            self._render(missing, span, lead, found, progress)
        progress(1.0)
        return {node.key: found[node.key] for node in wanted}

    def _needed(self, wanted: list[Node], span: Span | None, lead: float, found: dict[str, Joint]) -> list[Node]:
        """What has to be rendered, each node after its inputs; cached joints go into `found`."""
        needed: list[Node] = []
        seen: set[str] = set()

        def visit(node: Node) -> None:
            if node.key in seen:
                return
            seen.add(node.key)
            joint = self._cached(node, span, lead)
            if joint is not None:
                found[node.key] = joint
                return
            for before in node.inputs:
                visit(before)
            needed.append(node)

        for node in wanted:
            visit(node)
        return needed

    def _render(
        self, missing: list[Node], span: Span | None, lead: float, found: dict[str, Joint], progress: Progress
    ) -> None:
        done = [0.0] * len(missing)
        lock = threading.Lock()
        stopper = Stopper()

        def told(n: int) -> Progress:
            def tell(share: float) -> None:
                stopper.check(share)
                done[n] = share
                progress(sum(done) / len(done))

            return tell

        def work(n: int, node: Node) -> None:
            joint = self._made(node, span, lead, [found[before.key] for before in node.inputs], told(n))
            self.cache.put(self._place(node, span, lead), joint)
            with lock:
                found[node.key] = joint

        rest = list(enumerate(missing))
        if len(rest) == 1:
            work(*rest[0])
            return
        with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-branch", step_back) as pool:
            running: dict[concurrent.futures.Future[None], int] = {}
            try:
                while rest or running:
                    with lock:
                        ready = [(n, node) for n, node in rest if all(b.key in found for b in node.inputs)]
                    for n, node in ready[: CORES - len(running)]:
                        rest.remove((n, node))
                        running[pool.submit(work, n, node)] = n
                    ended, _ = concurrent.futures.wait(running, return_when=concurrent.futures.FIRST_COMPLETED)
                    for future in ended:
                        del running[future]
                        future.result()
            except BaseException:
                stopper.stop()
                raise

    # --- one node ------------------------------------------------------------------------------------------

    def _place(self, node: Node, span: Span | None, lead: float) -> object:
        """Where a joint is kept: the content that made it, the song's length, and the section if it is one."""
        return node.key, self.material.frames, span, lead if span is not None else 0.0

    def _cached(self, node: Node, span: Span | None, lead: float) -> Joint | None:
        joint = self.cache.get(self._place(node, span, lead))
        if joint is None and span is not None:
            whole = self.cache.get(self._place(node, None, 0.0))
            if whole is not None:
                joint = _cut(whole, *self._stretch(span, lead))
                self.cache.put(self._place(node, span, lead), joint)
        return joint

    def _stretch(self, span: Span | None, lead: float) -> tuple[slice, float]:
        """The frames that are rendered for a span, and where they begin in seconds."""
        if span is None:
            return slice(0, self.material.frames), 0.0
        frames = Span(max(0.0, span.start - lead), span.end).frames(self.rate, self.material.frames)
        return frames, frames.start / self.rate

    def _made(self, node: Node, span: Span | None, lead: float, inputs: list[Joint], progress: Progress) -> Joint:
        frames, start = self._stretch(span, lead)
        if isinstance(node, Source):
            audio = self._source(node, frames)
            progress(0.5)
            return Joint(audio, trace_of(audio, self.rate), start=start)
        if isinstance(node, Mix):
            return self._mixed(node, inputs, frames.stop - frames.start, start, progress)
        assert isinstance(node, (Run, Ear))
        return rendered_joint(node, inputs, progress)

    def _source(self, node: Source, frames: slice) -> np.ndarray:
        samples = self.material.sounds[node.sound].samples
        offset = round(node.offset * self.rate)
        a, b = max(frames.start, offset), min(frames.stop, offset + len(samples))
        if (a, b) == (frames.start, frames.stop):
            return samples[a - offset : b - offset]
        audio = scratch((frames.stop - frames.start, 2))
        if b > a:
            audio[a - frames.start : b - frames.start] = samples[a - offset : b - offset]
        return audio

    def _mixed(self, node: Mix, inputs: list[Joint], frames: int, start: float, progress: Progress) -> Joint:
        audio, tracer = scratch((frames, 2)), Tracer(self.rate)
        gains, total = np.array(node.gains).reshape(-1, 2), np.zeros((MAX_BLOCK, 2))
        for at in range(0, frames, MAX_BLOCK):
            block: Audio = total[: min(MAX_BLOCK, frames - at)]
            block[:] = 0.0
            for joint, gain in zip(inputs, gains, strict=True):
                add_scaled(joint.audio[at : at + len(block)], gain, block)
            audio[at : at + len(block)] = block
            tracer.push(block)
            progress((at + len(block)) / frames)
        return Joint(audio, tracer.finish(), start=start)


def rendered_joint(node: Run | Ear, inputs: list[Joint], progress: Progress = no_progress) -> Joint:
    """A step run over the joint before it (and its key), measured as it goes."""
    before = inputs[0]
    x, rate = before.audio, before.rate
    key = inputs[1].audio if len(inputs) > 1 else None
    processor = DetectorEar(node.step, rate) if isinstance(node, Ear) else node.step.make(rate)
    audio = scratch((len(x), 2))
    tracer = Tracer(rate)
    reduces = isinstance(node, Run) and node.step.reduces
    reduction = ReductionTracer(rate, len(x)) if reduces else None
    for start, place, block in stream(processor, x, progress, key):
        audio[start : start + len(block)] = block
        tracer.push(block)
        if reduction is not None:
            reduction.push(processor.reduction[place])
    return Joint(
        audio, tracer.finish(), reduction.finish() if reduction else None,
        heard_hops(before.trace) if reduces else None, before.start,
    )  # fmt: skip


def _cut(joint: Joint, frames: slice, start: float) -> Joint:
    """A stretch of a whole-song joint, as a joint of its own."""
    rate = joint.rate
    span = Span(frames.start / rate, frames.stop / rate)
    reduction = joint.reduction
    if reduction is not None:
        rows = reduction._rows(span)
        fine = slice(frames.start // REDUCTION_HOP, frames.stop // REDUCTION_HOP)
        reduction = Reduction(rate, reduction.curve[fine], reduction.mean[rows], reduction.top[rows])
    heard = joint.heard[round(span.start * 100) : round(span.end * 100)] if joint.heard is not None else None
    return Joint(joint.audio[frames], joint.trace.cut(span), reduction, heard, start, joint)


def lead_in(memory: float) -> float:
    """Seconds to be rendered before a section, where what is rendered remembers so many; one of a few lengths, so that
    what is rendered for one question serves another."""
    lead = LEAD_IN
    while lead < min(memory, MOST_LEAD_IN):
        lead *= 2.0
    return lead
