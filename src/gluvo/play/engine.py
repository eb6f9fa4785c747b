"""The engine: pulls blocks from the song through the live graph to a device, on a thread of its own."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from gluvo.compare.hearables import IN_THE_SONG, TimeMap
from gluvo.compare.match import RESULT
from gluvo.compare.monitor import monitor
from gluvo.dsp.db import gain_of
from gluvo.dsp.kernel import Audio
from gluvo.play.beside import SoundsBeside, timed
from gluvo.play.ears import EarParts, Ears
from gluvo.play.fades import Fader, Guard
from gluvo.play.graph import BESIDE, LiveGraph
from gluvo.play.meters import HELD_BACK, TAKEN, Board, Meters
from gluvo.play.output import Output
from gluvo.play.playhead import Playhead
from gluvo.play.swap import GraphSwap
from gluvo.render.machine import LONG_AGO, NodeRunner, filler
from gluvo.render.plan import Source
from gluvo.session.media import Material
from gluvo.session.records import RoadTest, Session
from gluvo.session.sounds import Sound
from gluvo.steps import MAX_BLOCK

PREROLL_SECONDS = 1.0
PREFETCH_SECONDS, PAGE_FRAMES = 3.0, 512
DIM_DB = -20.0
FIRST_BLOCK = -(1 << 40)
"""The number of the first block of a graph that is not heard yet."""
SILENCE = np.zeros((2, 2))
PATHS = (*(hearable.id for hearable in IN_THE_SONG), *BESIDE)
"""What can be heard."""


@dataclass(frozen=True)
class Monitoring:
    """What is heard, and how."""

    path: str = RESULT
    """The id of a hearable."""
    gains: Mapping[str, float] = field(default_factory=dict)
    """dB for each path, as level-matched; paths that are not named get 0."""
    view: str = "stereo"
    level: float = 0.0
    dim: bool = False
    road: RoadTest = field(default_factory=RoadTest)
    loudness: float = -23.0
    """Of what is heard, LUFS, gains included; a road test's noise is set against it."""
    range: tuple[float, float] | None = None
    """Hz from and to, where only a range is heard."""
    ceiling: float = 0.0
    """dBFS that no sample may pass, before level and dim: less than 0 while something is boosted to be found."""


class Engine:
    """Plays a session.

    Other threads only leave requests, which the audio thread takes at the next block's edge. `pull` makes the
    next block; the thread calls it for the device, tests call it directly. Requests come from one thread.
    """

    def __init__(
        self, material: Material, beside: Mapping[str, Sound], session: Session, board: Board | None = None
    ) -> None:
        """`beside`: what can be heard besides the song, by its id; see `add_sound`. Readings go to `board`."""
        self.rate = material.rate
        self._frames = material.frames
        self._have = frozenset(material.sounds)
        self._from_start = filler(material)
        # plain arrays: kernels take a mapped one by a slower way
        self._samples = {key: np.asarray(sound.samples) for key, sound in material.sounds.items()}
        self._latest = LiveGraph(session, self._have, self.rate)
        """The graph that was made last, for the requesting thread."""
        self._swap = GraphSwap(self._latest, self.rate)
        self._blocks = 0
        self._requests: deque[Callable[[], None]] = deque()
        self._head = Playhead(self.rate)
        self._sought, self._seeks_asked, self._seeks_done = 0, 0, 0
        """The place that was asked for last, and how often one was asked for and gone to."""
        self._to_start: tuple[LiveGraph, int] | None = None
        """What is to play, and from where, as soon as what was stopped has faded out."""
        self._began, self._played = 0, 0
        """Where it was begun to read, by playing or seeking, and how many frames ago."""
        self._playing = False
        self.playing = False
        """Whether it is asked to play; the audio thread follows at the next block."""
        self._monitoring = Monitoring()
        self._hear_next: tuple[Monitoring, EarParts] | None = None
        """What is to be heard as soon as a place for it is silent."""
        self._faders = {name: Fader(self.rate) for name in PATHS}
        self._fade_frames_left = 0
        self._beside = SoundsBeside(self._faders[RESULT].frames)
        self._parts = EarParts()
        """What is wanted between what is heard and the ears."""
        self._ears = Ears(self.rate, self._swap.frames)
        self._guard = Guard(self.rate)
        self._ceiling = 1.0
        self._recalled, self._delayed = np.zeros((MAX_BLOCK, 2)), np.zeros((MAX_BLOCK, 2))
        self.board = board or Board()
        self._meters = Meters(self.rate, self.board)
        self.output = Output(self)
        self.marked = int(self.board.state[TAKEN])
        """How many requests have been come to, as told on the board."""
        for id, sound in beside.items():
            self._beside.take_in(id, timed(sound, TimeMap(), self.rate))

    # --- requests, from any thread -------------------------------------------------------------------------

    def play(self) -> None:
        """Play from where it stands: silence until everything has run in, which is done here, and then a fade."""
        if self.playing:
            return
        self.playing = True
        at = self._head.position if self._seeks_done == self._seeks_asked else self._sought
        fresh = self._latest = LiveGraph(self._latest.session, self._have, self.rate)
        self._pre_roll(fresh, at)
        self._requests.append(lambda: self._start(fresh, at))

    def stop(self) -> None:
        self.playing = False
        self._requests.append(self._stop)

    def seek(self, seconds: float) -> None:
        frame = self._sought = min(self._frame(seconds), max(0, self._frames - 1))
        self._seeks_asked += 1

        def go() -> None:
            self._head.seek(frame, fade=self._playing)
            self._began, self._played = frame, 0
            self._seeks_done += 1

        self._requests.append(go)

    def loop(self, start: float, end: float) -> None:
        """Loop between two times in seconds."""
        frames = self._frame(start), self._frame(end)
        self._requests.append(lambda: self._head.set_loop(frames))

    def _frame(self, seconds: float) -> int:
        """A place in the song, whatever is asked for."""
        inside = min(max(0.0, seconds), self._frames / self.rate) if seconds == seconds else 0.0
        return round(inside * self.rate)

    def no_loop(self) -> None:
        self._requests.append(lambda: self._head.set_loop(None))

    def listen(self, monitoring: Monitoring) -> None:
        """Hear something else, or otherwise: crossfaded within 20 ms."""
        parts = self._ears.made(monitoring.road, monitoring.loudness, monitoring.range)
        self._requests.append(lambda: self._set_monitoring(monitoring, parts))

    def add_sound(self, id: str, sound: Sound, time: TimeMap) -> None:
        """Have something to be heard besides the song from now on, or in place of what has that id. It must be at the
        material's rate."""
        ready = timed(sound, time, self.rate)

        def take_in() -> None:
            if self._beside.take_in(id, ready) and self._monitoring.path == id:
                self._set_monitoring(self._monitoring, self._parts)

        self._requests.append(take_in)

    def drop_sound(self, id: str) -> None:
        """Let something that could be heard go; who hears it hears the result from now on."""

        def let_go() -> None:
            if self._monitoring.path == id:
                self._set_monitoring(replace(self._monitoring, path=RESULT), self._parts)
            self._beside.drop(id)

        self._requests.append(let_go)

    def change(self, session: Session) -> None:
        """Take over an edited session: prepared here, swapped in at a block's edge with a crossfade of 30 ms."""
        graph = self._latest = LiveGraph(session, self._have, self.rate, self._latest)
        self._requests.append(lambda: self._swap.wait(graph))

    def mark(self, count: int) -> None:
        """Tell on the board, as `TAKEN`, once all that was asked for until now is in the place and state told there."""

        def told() -> None:
            self.marked = count

        self._requests.append(told)

    def prefetch(self, wanted: Callable[[], bool] = lambda: False) -> None:
        """Touch what will be played in the next seconds, so that the audio thread finds it in memory.

        A little at a time, so that the thread that does this never keeps the interpreter for long, and only until it is
        `wanted` for something else.
        """
        ahead, loop = [self._head.position], self._head.loop
        if loop is not None:
            ahead.append(loop[0])
        for start in ahead:
            for samples in (*self._samples.values(), *(sound.samples for sound in self._beside.all())):
                for at in range(start, start + round(PREFETCH_SECONDS * self.rate), 64 * PAGE_FRAMES):
                    samples[at : at + 64 * PAGE_FRAMES : PAGE_FRAMES, 0].sum()
                    if wanted():
                        return
                time.sleep(0.001)

    # --- state, for any thread -----------------------------------------------------------------------------

    @property
    def late(self) -> int:
        """Frames by which what is heard is late against what is read."""
        return self._swap.graph.latency + self._guard.latency

    @property
    def sounding(self) -> bool:
        """Whether anything is heard: it plays, or fades out."""
        return self._playing or self._fade_frames_left > 0

    @property
    def position(self) -> float:
        """What is being made audible, in seconds of the song."""
        head, loop = self._head.position, self._head.loop
        frame = head - min(self.late, self._played) if self._playing else head
        went_round = head != self._began + self._played
        if loop and head >= loop[0] > frame and self._playing and went_round:
            frame += loop[1] - loop[0]
        return min(max(0, frame), self._frames) / self.rate

    # --- the audio thread ----------------------------------------------------------------------------------

    def pull(self, out: Audio) -> None:
        """Make the next block, ``(n, 2)`` with n ≤ `MAX_BLOCK`."""
        if self._to_start is not None and self._fade_frames_left <= 0:
            self._start(*self._to_start)
        while self._requests and self._to_start is None:
            self._requests.popleft()()
        n = len(out)
        out[:] = 0.0
        self._beside.go_on(n)
        if not self.sounding:
            self._swap.take_waiting(fade=False)
            return
        self._swap.take_waiting(fade=True)
        if self._hear_next is not None:
            self._set_monitoring(*self._hear_next)
        over = self._head.position - self._frames if self._head.loop is None else -LONG_AGO
        self._fill(self._swap.sources, n)
        self._head.go_on(n)
        self._played += n
        self._blocks += 1
        levelled = bool(self._monitoring.gains)
        self._swap.process(n, self._blocks, over, levelled)
        for name, fader in self._faders.items():
            if not fader.silent:
                fader.mix(self._swap.path(name, n), out)
        self._ears.process(out)
        if self._guard.run(out, self._ceiling) and self._ears.open:  # else it is not what a file would have
            self.board.state[HELD_BACK] += 1
        graph = self._swap.graph
        heard = self._swap.path(self._path_name(), n)
        self._meters.write(heard, graph.steps, graph.strips, graph.tapped, graph.moving, graph.heard)
        self._swap.go_on(n, levelled)
        if not self._playing:
            self._fade_frames_left -= n
        elif self._head.loop is None and self._head.position >= self._frames + self.late:
            self._end()

    def _fill(self, sources: Sequence[NodeRunner], n: int) -> None:
        """Put the next frames of the song, and of the references that are heard, into sources."""
        for runner in sources:
            source = runner.node
            assert isinstance(source, Source)
            if source.sound in BESIDE:
                found = self._beside.at(source.sound)
                if found is None:
                    runner.out[:n] = 0.0
                else:
                    self._head.read_beside(found.samples, found.stretches, runner.out[:n])
            else:
                offset = round(source.offset * self.rate)
                self._head.read(self._samples[source.sound], runner.out[:n], offset=offset)

    def _start(self, fresh: LiveGraph, at: int) -> None:
        if self._playing:
            return
        if self._fade_frames_left > 0:  # it was stopped just before: what is heard fades out first, and all else waits
            self._to_start = fresh, at
            return
        self._to_start = None
        self._playing = True
        self._swap.begin(fresh)
        self._head.seek(at, fade=False)
        self._began, self._played = at, 0
        self._guard.clear()
        for fader in self._faders.values():
            fader.clear()
        for place in BESIDE:
            self._remember(place)
        self._aim_faders()

    def _pre_roll(self, graph: LiveGraph, start: int) -> None:
        """Run the second before the start through the graph, so that it begins as if it had been playing."""
        first = max(0, start - round(PREROLL_SECONDS * self.rate))
        graph.begin(first)
        for count, at in enumerate(range(first, start, MAX_BLOCK)):
            n = min(MAX_BLOCK, start - at)
            for runner in graph.sources:
                assert isinstance(runner.node, Source)
                if runner.node.sound in BESIDE:
                    runner.out[:n] = 0.0
                else:
                    self._from_start(runner.node, at, runner.out[:n])
            graph.process(n, FIRST_BLOCK + count)

    def _stop(self) -> None:
        if self._playing:
            self._playing = False
            self._fade_frames_left = self._faders[RESULT].frames + self._guard.latency
            self._aim_faders()

    def _end(self) -> None:
        """The song is over: nothing is left to fade."""
        self._playing = self.playing = False
        self._fade_frames_left = 0
        for fader in self._faders.values():
            fader.clear()
        self._head.seek(0, fade=False)

    def _set_monitoring(self, monitoring: Monitoring, parts: EarParts) -> None:
        self._hear_next = None
        path, beside = monitoring.path, self._beside
        has_place = beside.has_place(path) or self._faders[beside.other_place].silent
        if path in beside and self._playing and not has_place:
            self._hear_next = monitoring, parts
            return
        if monitoring.gains.get(RESULT) != self._monitoring.gains.get(RESULT):  # it is known how loud the result is
            self._faders[RESULT].scale(self._swap.settle_level())
        self._monitoring = monitoring
        self._parts = parts
        self._ears.change(parts)
        if path in beside and beside.move_in(path):
            self._remember(beside.place)
        self._aim_faders()

    def _remember(self, place: str) -> None:
        """Have what is now in a place for sounds beside the song lie in the graphs as though it had always been there: they
        hold it up for as long as the song is late."""
        found = self._beside.at(place)
        if found is None:
            return
        for graph in (self._swap.graph, self._swap.old):
            at = -graph.latency if graph is not None else 0
            while graph is not None and at < 0:
                block = self._recalled[: min(MAX_BLOCK, -at)]
                self._head.look_beside(found.samples, found.stretches, at, block)
                graph.recall(place, block, self._delayed[: len(block)])
                at += len(block)

    def _path_name(self) -> str:
        path = self._monitoring.path
        return self._beside.place if path in self._beside else path if path in PATHS else RESULT

    def _aim_faders(self) -> None:
        m = self._monitoring
        self._ceiling = min(
            1.0, gain_of(m.ceiling + (m.level + (DIM_DB if m.dim else 0.0) if m.ceiling < 0.0 else 0.0))
        )
        gain = gain_of(m.gains.get(m.path, 0.0) + m.level + (DIM_DB if m.dim else 0.0))
        heard = self._path_name()
        for name, fader in self._faders.items():
            fader.aim(np.array(monitor(m.view).rows) * gain if self._playing and name == heard else SILENCE)
