"""A graph at work, block by block, every path in step to the sample: for live sound and for files alike."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import numpy as np

from gluvo.dsp.delay import Delay
from gluvo.dsp.envelope import Envelope, cross, ride, value_at
from gluvo.dsp.input_history import HISTORY_SECONDS, InputHistory
from gluvo.dsp.kernel import Audio, Floats, Singles, kernel
from gluvo.progress import Progress, no_progress
from gluvo.render.plan import Ear, Mix, Node, Ride, Run, Source, Within
from gluvo.session.media import Material
from gluvo.steps import MAX_BLOCK, Processor

ROOM_SECONDS = 0.012
"""By how much a machine may be held up."""
LONG_AGO = 1 << 62
"""Frames that are more than anything is late by."""


class NodeRunner:
    """A node at work: its sound of the present block, and how late that is."""

    def __init__(self, node: Node, inputs: tuple[NodeRunner, ...], rate: int) -> None:
        self.node, self.inputs = node, inputs
        self.out = np.zeros((MAX_BLOCK, 2))
        self.latency: int
        """Frames by which the sound is late against the sources."""
        self.running = False
        """Whether it has been at work, or taken over the state of one that was."""
        self.processor: Processor | None = None
        if isinstance(node, Run):
            self.processor = node.step.make(rate)
            if node.follows:
                self.processor.follow()
        elif isinstance(node, Ear):
            self.processor = node.step.ear(rate)
        start = max((p.latency for p in inputs), default=0)
        self.latency = start + (self.processor.latency if self.processor is not None else 0)
        self._late = [Delay(start - p.latency) if p.latency < start else None for p in inputs]
        self._ready = [np.zeros((MAX_BLOCK, 2)) if late else p.out for late, p in zip(self._late, inputs, strict=True)]
        self._gains = np.array(node.gains).reshape(-1, 2) if isinstance(node, Mix) else None
        self._envelope = Envelope.at(node.points, rate) if isinstance(node, Ride | Within) else None
        self._heard = Envelope.at(node.heard, rate) if isinstance(node, Within) else None
        self.share = 1.0
        """How much of a step that works in some sections alone is heard in the present block, 0–1."""
        self._place = 0
        """The frame of the song that its inputs give next, where it goes by that."""
        self._start = start
        self.history: InputHistory | None = None
        """What it gave lately, where that is kept for parts that come later."""
        self._block = -1
        self._frames = 0
        self._cut(MAX_BLOCK)

    def _cut(self, n: int) -> None:
        """Blocks are of `n` frames from now on."""
        self._frames, self._made = n, self.out[:n]
        self._came = [ready[:n] for ready in self._ready]
        self._held_up = [
            (late, x.out[:n], ready)
            for late, x, ready in zip(self._late, self.inputs, self._came, strict=True)
            if late is not None
        ]
        if self.processor is not None:
            self.processor.goes_with(self._came[1:])

    def begin(self, place: int) -> None:
        """The sources' next frame is frame `place` of the song; see `Processor.begin`."""
        self._place = place - self._start
        if self.processor is not None:
            self.processor.begin(self._place)

    def run(self, n: int, block: int, since: int, over: int) -> None:
        """Make this block's sound, once a block however often it is asked; the inputs must have theirs.

        A source has been filled from outside. The song's first frame was read `since` frames before the block, and the
        one after its last `over` frames: before the one and after the other there is silence behind every step, as in a
        render.
        """
        if block == self._block:
            return
        self._block, self.running = block, True
        if n != self._frames:
            self._cut(n)
        for late, x, ready in self._held_up:
            late.run(x, ready)
        self._make()
        if self.processor is not None:
            if since < self.latency:
                self._made[: self.latency - since] = 0.0
            if over + n > self.latency:
                self._made[max(0, self.latency - over) :] = 0.0
        if self.history is not None:
            self.history.remember(self._made)

    def _make(self) -> None:
        if self.processor is not None:
            self.processor.run(self._came[0], self._made)
        elif self._gains is not None:
            mix_all(self._came, self._gains, self._made)
        elif self._envelope is not None:
            go_along(self._envelope, self._came, self._place, self._made)
            if self._heard is not None:
                self.share = value_at(self._heard.places, self._heard.values, self._place + self._frames // 2)
        self._place += self._frames

    def adopt(self, other: NodeRunner) -> bool:
        """Go on where a runner of the same place in the session is. Whether that is all it needs; else it must run in."""
        ready = True
        if self.processor is not None:
            ready = other.processor is not None and self.processor.adopt(other.processor)
        if self.history is not None and other.history is not None:
            self.history.adopt(other.history)
        for mine, theirs in zip(self._late, other._late, strict=False):
            if mine is not None and theirs is not None:
                mine.adopt(theirs)
        return ready and len(self.inputs) == len(other.inputs)

    def run_in(self, place: int) -> None:
        """Run over what its inputs gave lately, up to frame `place` of the song, as though it had always been there."""
        if self.history is None or not self.inputs:
            return
        left = len(self.history)
        self.begin(place - left)
        while left > 0:
            n = min(MAX_BLOCK, left)
            if n != self._frames:
                self._cut(n)
            for late, x, block in zip(self._late, self.inputs, self._came, strict=True):  # written over when they go on
                if x.history is not None:
                    x.history.look(left, block)
                if late is not None:
                    late.run(block, block)
            self._make()
            self.history.remember(self._made)
            left -= n


def go_along(envelope: Envelope, sounds: Sequence[Audio], place: int, out: Audio) -> None:
    """A sound at a level that moves along the song, or one of two as their shares move; from frame `place` of it on."""
    if len(sounds) == 1:
        ride(sounds[0], place, envelope.places, envelope.values, out)
    else:
        cross(sounds[0], sounds[1], place, envelope.places, envelope.values, out)


def mix_all(sounds: Sequence[Audio], gains: Floats, out: Audio) -> None:
    """The sum of some sounds, ``(frames, 2)`` each, times their gains of left and right; silence where there are none."""
    if not len(gains):
        out[:] = 0.0
    for n, x in enumerate(sounds):
        mix_in(x, gains[n], n == 0, out)


@kernel
def mix_in(x: Audio | Singles, gains: Floats, first: bool, out: Audio) -> None:
    """Add `x` (frames, 2) to `out`, left and right times their gains; the `first` takes the place of what was there."""
    flat, total = x.reshape(-1), out.reshape(-1)
    left, right = gains[0], gains[1]
    if left != right:
        if first:
            total[:] = 0.0
        for i in range(x.shape[0]):  # so written that the compiler makes vectors of it, as it does of the others
            out[i, 0] += left * x[i, 0]
            out[i, 1] += right * x[i, 1]
    elif first:
        for i in range(flat.shape[0]):
            total[i] = left * flat[i]
    else:
        for i in range(flat.shape[0]):
            total[i] += left * flat[i]


class Machine:
    """The parts that lead to some outputs, all outputs equally late.

    `like`: a machine that may be running; what is the same in both is shared, and runs once for both. `also`: nodes
    that are run without being an output. `remembers`: whether parts keep what they gave lately, for machines that will
    take over.
    """

    def __init__(
        self,
        outputs: Mapping[str, Node],
        rate: int,
        like: Machine | None = None,
        also: Iterable[Node] = (),
        remembers: bool = False,
    ) -> None:
        self.rate, self._remembers = rate, remembers
        self.runners: dict[str, NodeRunner] = {}
        shared = like.runners if like is not None else {}
        for node in (*outputs.values(), *also):
            self._add(node, shared)
        self.latency = max((self.runners[n.key].latency for n in outputs.values()), default=0)
        self._outputs = {name: self.runners[n.key] for name, n in outputs.items()}
        room = round(ROOM_SECONDS * rate) if remembers else 0
        self._late = {name: Delay(self.latency - p.latency, room) for name, p in self._outputs.items()}
        self.paths: dict[str, Audio] = {name: np.zeros((MAX_BLOCK, 2)) for name in outputs}
        self.sources = [p for p in self.runners.values() if isinstance(p.node, Source)]
        self._frames = 0
        self._held_up: list[tuple[Delay, Audio, Audio]] = []
        self.place = 0
        """The song's frame that the sources are given next, as long as nothing has jumped."""
        self._since = 0
        """How long ago the song's first frame was given."""

    def _add(self, node: Node, shared: Mapping[str, NodeRunner]) -> NodeRunner:
        if node.key not in self.runners:
            inputs = tuple(self._add(before, shared) for before in node.inputs)
            runner = self.runners[node.key] = shared.get(node.key) or NodeRunner(node, inputs, self.rate)
            if self._remembers and runner.history is None:
                runner.history = InputHistory(round(HISTORY_SECONDS * self.rate))
        return self.runners[node.key]

    def begin(self, place: int) -> None:
        """Told before anything is processed: which frame of the song the sources are given next."""
        self.place, self._since = place, 0 if place <= 0 else LONG_AGO
        for runner in self.runners.values():
            runner.begin(place)

    def process(self, n: int, block: int, over: int = -LONG_AGO) -> None:
        """Run a block of `n` frames into `paths`. The sources must have been filled; `block` counts up, and the song has
        been over for `over` frames when the block begins."""
        since = self._since
        for runner in self.runners.values():
            runner.run(n, block, since, over)
        self.place += n
        self._since += n
        if n != self._frames:
            self._frames, outputs = n, self._outputs.items()
            self._held_up = [(self._late[name], runner.out[:n], self.paths[name][:n]) for name, runner in outputs]
        for late, x, path in self._held_up:
            late.run(x, path)

    def delay_by(self, frames: int) -> None:
        """Be later by so many frames, `ROOM_SECONDS` at most; before it takes over, and only if it remembers."""
        self.latency += frames
        for late in self._late.values():
            late.lengthen(frames)

    def lately(self, name: str, out: Audio) -> None:
        """What an output gave lately, before it was brought in step, into `out`."""
        past = self._outputs[name].history
        if past is not None:
            past.look(len(out), out)

    def recall(self, name: str, x: Audio, out: Audio) -> None:
        """Let an output go on with a block that is not heard, as though it had come; `out` is written over."""
        self._late[name].run(x, out)

    def take_over(self, other: Machine) -> None:
        """Take over the state of a running machine, runner by runner, found by where they stand in the session."""
        places: dict[str, NodeRunner] = {}
        for runner in other.runners.values():
            places.setdefault(runner.node.name, runner)
        self.place, self._since = other.place, other._since
        for runner in self.runners.values():
            if not runner.running:
                runner.begin(self.place)
            name = runner.node.name
            earlier = places.get(name) or places.get(name.rpartition(":")[2])
            if not runner.running and (earlier is None or not runner.adopt(earlier)):
                runner.run_in(self.place)
            runner.running = True
        for name, late in self._late.items():
            if name in other._late:
                late.adopt(other._late[name])


Fill = Callable[[Source, int, Audio], None]
"""Puts the frames of a source from a place in the song on into a block."""


def filler(material: Material) -> Fill:
    """Fills sources from a session's material; silence before they begin and after they end."""

    def fill(source: Source, start: int, out: Audio) -> None:
        out[:] = 0.0
        samples = material.sounds[source.sound].samples
        first = start - round(source.offset * material.rate)
        a, b = max(0, first), min(len(samples), first + len(out))
        if b > a:
            out[a - first : b - first] = samples[a:b]

    return fill


def played(
    machine: Machine, output: str, frames: int, fill: Fill, progress: Progress = no_progress
) -> Iterator[tuple[int, Audio]]:
    """Play a song from its start: where each block begins, and the block, with the latency made good.

    The yielded block is used again for the next one.
    """
    for start, blocks in played_all(machine, frames, fill, progress):
        yield start, blocks[output]


def played_all(
    machine: Machine, frames: int, fill: Fill, progress: Progress = no_progress
) -> Iterator[tuple[int, dict[str, Audio]]]:
    """As `played`, for all outputs at once, by their names."""
    late = machine.latency
    machine.begin(0)
    for count, start in enumerate(range(0, frames + late, MAX_BLOCK)):
        n = min(MAX_BLOCK, frames + late - start)
        for runner in machine.sources:
            assert isinstance(runner.node, Source)
            fill(runner.node, start, runner.out[:n])
        machine.process(n, count, start - frames)
        skip = max(0, late - start)
        if skip < n:
            yield start + skip - late, {name: path[skip:n] for name, path in machine.paths.items()}
        progress((start + n) / (frames + late))


def play_through(node: Node, material: Material, progress: Progress = no_progress) -> Audio:
    """The whole song at a node, float64, as it is written into files."""
    result = np.zeros((material.frames, 2))
    machine = Machine({"out": node}, material.rate)
    for start, block in played(machine, "out", material.frames, filler(material), progress):
        result[start : start + len(block)] = block
    return result
