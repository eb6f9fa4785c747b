"""Many nodes rendered at once: each goes on as far as what it needs has come, on as many threads as there are cores.

A stretch of song is handed from node to node while it is still in the processor's cache, and a chain of steps keeps
all cores at work where rendering one node after the other would keep one.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

import numpy as np

from gluvo.dsp.compression import arriving_by
from gluvo.dsp.envelope import Envelope
from gluvo.measure.overview import REDUCTION_HOP, Reduction, ReductionTracer
from gluvo.measure.trace import Tracer
from gluvo.measure.truepeak import hop_frames
from gluvo.progress import CORES, Progress, no_progress, step_back
from gluvo.render.chain import stream
from gluvo.render.joint import Joint
from gluvo.render.machine import go_along, mix_all
from gluvo.render.plan import Ear, Gains, Level, Mix, Node, Ride, Run, Source, Within
from gluvo.render.scaled import Scaled, Sounding
from gluvo.session.media import Material
from gluvo.session.scratch import Filling, scratch
from gluvo.steps import MAX_BLOCK

CHUNK = 8 * MAX_BLOCK
"""Frames that a node goes on by before another one has its turn."""


class NodeJob:
    """A node that is being rendered, or has been."""

    def __init__(self, node: Node, inputs: list[NodeJob], frames: slice, rate: int, joint: Joint | None = None) -> None:
        self.node, self.inputs, self.joint = node, inputs, joint
        self.total, self._first, self.rate = frames.stop - frames.start, frames.start, rate
        self.audio: Sounding = np.zeros((0, 2)) if joint is None else joint.audio
        self.done = 0 if joint is None else self.total
        """Frames that others can read."""
        self.taken = 0
        """Frames of the inputs that have been read."""
        self.ahead = CHUNK
        """Frames that one turn may read."""
        self.running = False
        self.work: Iterator[None] | None = None

    @property
    def start(self) -> float:
        return self._first / self.rate

    @property
    def ready(self) -> bool:
        """Whether its inputs have come as far as its next turn goes: the first one only gets it ready, the last one waits
        for what was measured of them."""
        return self.work is None or all(i.joint is not None or i.done >= self.taken + self.ahead for i in self.inputs)

    def begin(self, material: Material) -> None:
        """Get ready to work, a turn for each `next`. The first one reads nothing."""
        node = self.node
        if isinstance(node, Source):
            self.work = self._read(source_audio(node, material, slice(self._first, self._first + self.total)))
        elif isinstance(node, Mix):
            self.work = self._mix(node)
        elif isinstance(node, Ride | Within):
            self.work = self._go_along(node)
        else:
            assert isinstance(node, (Run, Ear))
            self.work = self._run(node)

    def _read(self, audio: np.ndarray) -> Iterator[None]:
        self.audio, self.done = audio, self.total
        yield
        tracer = Tracer(self.rate, between=False)
        for at in range(0, self.total, CHUNK):
            tracer.push(audio[at : at + CHUNK])
            yield
        self.joint = Joint(audio, tracer.finish(audio), start=self.start)

    def _mix(self, node: Mix) -> Iterator[None]:
        if len(node.gains) == 1 and abs(node.gains[0][0]) == abs(node.gains[0][1]):  # nothing new to measure
            yield from self._scale(node.gains[0], isinstance(node, Level))
            return
        filling = Filling(self.total)
        audio = self.audio = filling.array
        tracer, gains, total = (
            Tracer(self.rate, between=False),
            np.array(node.gains).reshape(-1, 2),
            np.zeros((MAX_BLOCK, 2)),
        )
        yield
        for at in range(0, self.total, MAX_BLOCK):
            block = total[: min(MAX_BLOCK, self.total - at)]
            mix_all([making.audio[at : at + len(block)] for making in self.inputs], gains, block)
            filling.add(block)
            tracer.push(block)
            self.done = self.taken = at + len(block)
            if self.done % CHUNK == 0:
                yield
        filling.close()
        self.joint = Joint(audio, tracer.finish(audio), start=self.start)

    def _go_along(self, node: Ride | Within) -> Iterator[None]:
        filling, envelope = Filling(self.total), Envelope.at(node.points, self.rate)
        audio = self.audio = filling.array
        tracer = Tracer(self.rate, between=False)
        came = [np.zeros((MAX_BLOCK, 2)) for _ in self.inputs]
        out = np.zeros((MAX_BLOCK, 2))
        yield
        for at in range(0, self.total, MAX_BLOCK):
            n = min(MAX_BLOCK, self.total - at)
            for x, making in zip(came, self.inputs, strict=True):
                x[:n] = making.audio[at : at + n]
            go_along(envelope, [x[:n] for x in came], self._first + at, out[:n])
            filling.add(out[:n])
            tracer.push(out[:n])
            self.done = self.taken = at + n
            if self.done % CHUNK == 0:
                yield
        filling.close()
        while isinstance(node, Within) and self.inputs[1].joint is None:
            yield
        wet = self.inputs[-1].joint
        self.joint = Joint(audio, tracer.finish(audio), start=self.start)
        if isinstance(node, Within) and wet is not None:
            heard = Envelope.at(node.heard, self.rate)
            reduction, passed = (None if r is None else within(r, heard, self._first) for r in (wet.reduction, wet.wet))
            self.joint = replace(self.joint, reduction=reduction, came=wet.came, wet=passed)

    def _scale(self, gains: Gains, reduces: bool) -> Iterator[None]:
        (before,) = self.inputs
        yield
        self.audio = Scaled(before.audio, gains)
        while before.joint is None:
            self.done = self.taken = before.done
            yield
        self.done, trace = self.total, before.joint.trace.scaled(gains[0])
        reduction, came, wet = (before.joint.reduction, before.joint.came, before.joint.wet) if reduces else (None,) * 3
        self.joint = Joint(self.audio, trace, reduction, came, self.start, wet=wet)

    def _run(self, node: Run | Ear) -> Iterator[None]:
        unit = node.step.ear(self.rate) if isinstance(node, Ear) else node.step.make(self.rate)
        if isinstance(node, Run) and node.follows:
            unit.follow()
        filling, tracer = Filling(self.total), Tracer(self.rate, between=False)
        audio = self.audio = filling.array
        reduces = isinstance(node, Run) and node.step.reduces
        tracers = [
            (what, ReductionTracer(self.rate, self.total))
            for what in ((unit.reduction, unit.wet) if reduces else ())
            if what is not None
        ]
        self.ahead = max(CHUNK, unit.latency + MAX_BLOCK)
        yield
        x, *keys = (making.audio for making in self.inputs)
        for start, place, block in stream(unit, x, keys=keys, place=self._first):
            filling.add(block)
            tracer.push(block)
            for what, collected in tracers:
                collected.push(what[place])
            self.done = start + len(block)
            read = min(self.total, self.done + unit.latency)
            if read - self.taken >= CHUNK:
                self.taken = read
                yield
        filling.close()
        self.taken = self.total
        while reduces and self.inputs[0].joint is None:
            yield
        before = self.inputs[0].joint
        came = before.trace if reduces and before is not None else None
        reduction, wet = [*(collected.finish() for _, collected in tracers), None, None][:2]
        self.joint = Joint(audio, tracer.finish(audio), reduction, came, self.start, wet=wet)


def within(reduction: Reduction, envelope: Envelope, first: int) -> Reduction:
    """What arrives of a reduction whose first frame is frame `first` of the song, where the step is heard in some stretches
    alone."""
    hop = hop_frames(reduction.rate)
    rows = envelope.read(first + (np.arange(len(reduction.mean)) + 0.5) * hop)
    fine = envelope.read(first + (np.arange(len(reduction.curve)) + 0.5) * REDUCTION_HOP)
    return Reduction(
        reduction.rate,
        arriving_by(reduction.curve, fine).astype(np.float32),
        arriving_by(reduction.mean, rows),
        arriving_by(reduction.top, rows),
        np.where(rows > 0.0, reduction.busy, 0.0),
    )


def source_audio(node: Source, material: Material, frames: slice) -> np.ndarray:
    """What a file gives to some frames of the song: the file itself where it covers them, silence where it does not."""
    samples = material.sounds[node.sound].samples
    offset = round(node.offset * material.rate)
    a, b = max(frames.start, offset), min(frames.stop, offset + len(samples))
    if (a, b) == (frames.start, frames.stop):
        return samples[a - offset : b - offset]
    audio = scratch((frames.stop - frames.start, 2))
    if b > a:
        audio[a - frames.start : b - frames.start] = samples[a - offset : b - offset]
    return audio


def flow(
    missing: list[Node],
    found: Mapping[str, Joint],
    material: Material,
    frames: slice,
    keep: Callable[[Node, Joint], None],
    progress: Progress = no_progress,
) -> None:
    """Render the missing nodes, each after its inputs, over some frames of the song; `keep` is given each one's joint.

    `found`: the joints that there are already, by their nodes' keys. `progress` may raise `Cancelled` in any thread.
    """
    makings = {key: NodeJob(_NOWHERE, [], frames, material.rate, joint) for key, joint in found.items()}
    waiting: list[NodeJob] = []
    for node in missing:
        made = makings[node.key] = NodeJob(node, [makings[b.key] for b in node.inputs], frames, material.rate)
        waiting.append(made)
    _Flow(waiting, material, keep, progress).run()


_NOWHERE = Node("", "")


class _Flow:
    """The threads that take turns at the nodes."""

    def __init__(
        self, makings: list[NodeJob], material: Material, keep: Callable[[Node, Joint], None], progress: Progress
    ) -> None:
        self._makings, self._material, self._keep, self._progress = makings, material, keep, progress
        self._left = list(makings)
        self._turn = threading.Condition()
        self._failed: BaseException | None = None

    def run(self) -> None:
        """Make all; raises what a turn or the progress has raised."""
        helpers = [
            threading.Thread(target=self._help, name="gluvo-flow", daemon=True)
            for _ in range(min(CORES, len(self._makings)) - 1)
        ]
        for helper in helpers:
            helper.start()
        try:
            self._work()
        finally:
            for helper in helpers:
                helper.join()
        if self._failed is not None:
            raise self._failed

    def _help(self) -> None:
        step_back()
        self._work()

    def _work(self) -> None:
        while (making := self._next()) is not None:
            try:
                if making.work is None:
                    making.begin(self._material)
                assert making.work is not None
                ended = next(making.work, self) is self
                if ended:
                    assert making.joint is not None
                    self._keep(making.node, making.joint)
                self._progress(self._share())
            except BaseException as error:
                with self._turn:
                    self._failed = self._failed or error
                    self._turn.notify_all()
                return
            with self._turn:
                making.running = False
                if ended:
                    self._left.remove(making)
                self._turn.notify_all()

    def _next(self) -> NodeJob | None:
        """The node whose turn it is: of those that can go on the one that lies furthest downstream, so that what was
        just made is read before it grows cold. None when all is made."""
        with self._turn:
            while True:
                if self._failed is not None or not self._left:
                    return None
                for making in reversed(self._left):
                    if not making.running and making.ready:
                        making.running = True
                        return making
                self._turn.wait()

    def _share(self) -> float:
        total = sum(m.total for m in self._makings)
        return min(1.0, sum(m.done if m.joint is None else m.total for m in self._makings) / max(1, total))


def rendered_joint(node: Run | Ear, inputs: list[Joint], progress: Progress = no_progress) -> Joint:
    """A step run over the joint before it (and its key), measured as it goes."""
    made: list[Joint] = []
    before = inputs[0]
    found = {f"input {n}": joint for n, joint in enumerate(inputs)}
    first = round(before.start * before.rate)
    makings = [NodeJob(_NOWHERE, [], slice(first, first + len(j.audio)), before.rate, j) for j in found.values()]
    making = NodeJob(node, makings, slice(first, first + len(before.audio)), before.rate)
    _Flow([making], Material(before.rate, {}, 0), lambda _, joint: made.append(joint), progress).run()
    return made[0]
