"""The engine: pulls blocks from the song through the live graph to a device, on a thread of its own."""

from __future__ import annotations

import contextlib
import logging
import os
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from gluvo.compare.hearables import IN_THE_SONG, TimeMap
from gluvo.compare.match import RESULT
from gluvo.compare.monitor import monitor
from gluvo.dsp.db import gain_of
from gluvo.dsp.input_history import HISTORY_SECONDS
from gluvo.dsp.kernel import Audio
from gluvo.errors import DeviceError
from gluvo.play.device import BLOCK, Device
from gluvo.play.fades import Fader, Guard, Levelling, best_lag, crossfade
from gluvo.play.graph import BESIDE, LiveGraph
from gluvo.play.meters import DROPOUTS, HELD_BACK, PLAYING, POSITION, TAKEN, Board, Meters
from gluvo.play.playhead import Playhead
from gluvo.play.road import RoadPart
from gluvo.render.machine import LONG_AGO, ROOM_SECONDS, NodeRunner, filler
from gluvo.render.plan import Source
from gluvo.session.media import Material
from gluvo.session.records import RoadTest, Session
from gluvo.session.sounds import Sound
from gluvo.steps import MAX_BLOCK

log = logging.getLogger(__name__)

SWAP_SECONDS = 0.030
"""At its steepest the fade is as steep as a straight one of 20 ms."""
COMPARE_SECONDS = 0.12
"""For how long an edit is levelled against what it took the place of, where nothing else is edited meanwhile."""
LIKE_SECONDS = 0.010
"""Over how much is looked how alike the song is to itself a little earlier."""
PREROLL_SECONDS = 1.0
PREFETCH_SECONDS, PAGE_FRAMES = 3.0, 512
DIM_DB = -20.0
PRIORITY = 5
"""Of the audio thread among real-time threads: under those of the sound server."""
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
        """`beside`: what can be heard besides the song, by its id; see `keep`. Readings go to `board`."""
        self.rate = material.rate
        self._frames = material.frames
        self._have = frozenset(material.sounds)
        self._from_start = filler(material)
        # plain arrays: kernels take a mapped one by a slower way
        self._samples = {key: np.asarray(sound.samples) for key, sound in material.sounds.items()}
        self._beside: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        """What can be heard besides the song, by its id: samples, and the stretches of its time."""
        self._leaving: dict[str, int] = {}
        """What of it is let go, and in how many frames."""
        self._graph = LiveGraph(session, self._have, self.rate)
        self._latest = self._graph
        """The graph that was made last, for the requesting thread."""
        self._old: LiveGraph | None = None
        self._swap_at = 0
        self._swap_frames = round(SWAP_SECONDS * self.rate)
        self._compare_frames = round(COMPARE_SECONDS * self.rate)
        self._waiting: LiveGraph | None = None
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
        self._hear_next: tuple[Monitoring, RoadPart | None] | None = None
        """What is to be heard as soon as a place for it is silent."""
        self._slots = ["" for _ in BESIDE]
        """The reference in each of the graph's places for them."""
        self._slot = 0
        self._faders = {name: Fader(self.rate) for name in PATHS}
        self._fade_frames_left = 0
        self._road: RoadPart | None = None
        self._road_before: RoadPart | None = None
        self._road_asked: RoadPart | None = None
        """The one that was asked for last, for the requesting thread."""
        self._driven = np.zeros((MAX_BLOCK, 2))
        self._road_at = self._swap_frames
        """How far the fade from the road test before has come, in frames."""
        self._levelling = Levelling(self.rate)
        self._guard = Guard(self.rate)
        self._ceiling = 1.0
        self._out = np.zeros((MAX_BLOCK, 2))
        self._faded, self._before, self._nothing = (np.zeros((MAX_BLOCK, 2)) for _ in range(3))
        self._block = np.zeros((BLOCK, 2), dtype=np.float32)
        self.board = board or Board()
        self._meters = Meters(self.rate, self.board)
        self._device: Device | None = None
        self._thread: threading.Thread | None = None
        self._closing = False
        self._mark = int(self.board.state[TAKEN])
        self.failed = ""
        """Why the audio thread has ended; empty while it has not."""
        self.broken = False
        """Whether that was a fault of its own, and not the device's."""
        for id, sound in beside.items():
            self._beside[id] = self._ready(sound, TimeMap())

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
        before = self._road_asked
        if monitoring.road.kind == "off":
            road = None
        elif (
            before is not None
            and before.settings == monitoring.road
            and abs(before.loudness - monitoring.loudness) < 0.5
        ):
            road = before
        else:
            road = RoadPart(monitoring.road, monitoring.loudness, self.rate)
        self._road_asked = road
        self._requests.append(lambda: self._set_monitoring(monitoring, road))

    def keep(self, id: str, sound: Sound, time: TimeMap) -> None:
        """Have something to be heard besides the song from now on, or in place of what has that id. It must be at the
        material's rate."""
        ready = self._ready(sound, time)

        def take_in() -> None:
            before, self._beside[id] = self._beside.get(id), ready
            self._leaving.pop(id, None)
            if before is not None and id in self._slots:  # it may be heard: the new one fades in over it
                former = f"{id} before"
                self._beside[former], self._slots[self._slots.index(id)] = before, former
                self._leaving[former] = 3 * self._faders[RESULT].frames
                if self._monitoring.path == id:
                    self._set_monitoring(self._monitoring, self._road)

        self._requests.append(take_in)

    def drop(self, id: str) -> None:
        """Let something that could be heard go; who hears it hears the result from now on."""

        def let_go() -> None:
            if self._monitoring.path == id:
                self._set_monitoring(replace(self._monitoring, path=RESULT), self._road)
            self._leaving[id] = 3 * self._faders[RESULT].frames  # it may be waited for, and fade out, until then

        self._requests.append(let_go)

    def _ready(self, sound: Sound, time: TimeMap) -> tuple[np.ndarray, np.ndarray]:
        places = [(s.start, s.end, s.own_start, s.own_end) for s in time.stretches]
        return np.asarray(sound.samples), np.round(np.array(places).reshape(-1, 4) * self.rate).astype(np.int64)

    def change(self, session: Session) -> None:
        """Take over an edited session: prepared here, swapped in at a block's edge with a crossfade of 30 ms."""
        graph = self._latest = LiveGraph(session, self._have, self.rate, self._latest)

        def swap() -> None:
            self._waiting = graph

        self._requests.append(swap)

    def mark(self, count: int) -> None:
        """Tell on the board, as `TAKEN`, once all that was asked for until now is in the place and state told there."""

        def told() -> None:
            self._mark = count

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
            for samples in (*self._samples.values(), *(samples for samples, _ in list(self._beside.values()))):
                for at in range(start, start + round(PREFETCH_SECONDS * self.rate), 64 * PAGE_FRAMES):
                    samples[at : at + 64 * PAGE_FRAMES : PAGE_FRAMES, 0].sum()
                    if wanted():
                        return
                time.sleep(0.001)

    # --- state, for any thread -----------------------------------------------------------------------------

    @property
    def late(self) -> int:
        """Frames by which what is heard is late against what is read."""
        return self._graph.latency + self._guard.latency

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
        if not self._playing and self._fade_frames_left <= 0:
            self._let_go(n)
            self._take_waiting(fade=False)
            return
        self._let_go(n)
        self._take_waiting(fade=True)
        if self._hear_next is not None:
            self._set_monitoring(*self._hear_next)
        graph, old = self._graph, self._old
        over = self._head.position - self._frames if self._head.loop is None else -LONG_AGO
        self._fill(graph.sources, n)
        if old is not None:
            self._fill([part for part in old.sources if graph.parts.get(part.node.key) is not part], n)
        self._head.go_on(n)
        self._played += n
        self._blocks += 1
        graph.process(n, self._blocks, over)
        if old is not None:
            old.process(n, self._blocks, over)
            if self._monitoring.gains:
                self._levelling.compare(old.paths[RESULT][:n], graph.paths[RESULT][:n], self._swap_at >= 0)
        for name, fader in self._faders.items():
            if not fader.silent:
                fader.mix(self._path(name, n), out)
        self._drive(out, n)
        if self._guard.run(out, self._ceiling) and self._road is None:  # with one, it is not what a file would have
            self.board.state[HELD_BACK] += 1
        heard = self._path(self._path_name(), n)
        self._meters.write(heard, graph.steps, graph.strips, graph.tapped, graph.moving)
        if old is not None:
            self._swap_at += n
            compared = self._compare_frames if self._monitoring.gains else 0
            if self._swap_at >= self._swap_frames + compared:
                self._old = None
        if not self._playing:
            self._fade_frames_left -= n
        elif self._head.loop is None and self._head.position >= self._frames + self.late:
            self._end()

    def _drive(self, out: Audio, n: int) -> None:
        """Through the road test, if there is one; one fades into the other."""
        if self._road_at < self._swap_frames:
            before, faded = self._road_before, self._driven[:n]
            np.copyto(faded, out)
            if before is not None:
                before.process(faded)
            if self._road is not None:
                self._road.process(out)
            crossfade(faded, out, self._road_at, self._swap_frames)
            self._road_at += n
        elif self._road is not None:
            self._road.process(out)

    def _let_go(self, n: int) -> None:
        """Let go of what was dropped, once it has faded out."""
        for id in tuple(self._leaving):
            self._leaving[id] -= n
            if self._leaving[id] < 0:
                del self._leaving[id]
                self._beside.pop(id, None)

    def _path(self, name: str, n: int) -> Audio:
        """A path's block; while one graph takes over from another, one fades into the other."""
        new = self._graph.paths.get(name)
        block = self._faded[:n]
        block[:] = 0.0 if new is None else new[:n]
        if name == RESULT:
            self._levelling.apply(block)
        if self._old is not None and self._swap_at < self._swap_frames:
            old, before = self._old.paths.get(name), self._nothing[:n]
            if old is not None:
                before = self._before[:n]
                np.copyto(before, old[:n])
                if name == RESULT and self._levelling.before != 1.0:
                    before *= self._levelling.before
            crossfade(before, block, self._swap_at, self._swap_frames)
        return block

    def _fill(self, sources: Sequence[NodeRunner], n: int) -> None:
        """Put the next frames of the song, and of the references that are heard, into sources."""
        for part in sources:
            source = part.node
            assert isinstance(source, Source)
            if source.sound in BESIDE:
                found = self._beside.get(self._slots[BESIDE.index(source.sound)])
                if found is None:
                    part.out[:n] = 0.0
                else:
                    self._head.read_beside(*found, part.out[:n])
            else:
                offset = round(source.offset * self.rate)
                self._head.read(self._samples[source.sound], part.out[:n], offset=offset)

    def _take_waiting(self, fade: bool) -> None:
        if self._waiting is None or (self._old is not None and self._swap_at < self._swap_frames):
            return
        new, self._waiting = self._waiting, None
        if fade:
            new.hold_up(self._pad(new.latency))
        new.take_over(self._graph)
        if fade:
            # The fade waits until what the new graph was given has come out of it.
            self._old, self._swap_at = self._graph, -new.latency
            self._levelling.begin()
        self._graph = new

    def _pad(self, latency: int) -> int:
        """By how many frames a graph is held up, so that it fades in as if nothing had become later or earlier.

        Where it would be no later, up to where what it takes the place of is. Else the song slips, and by so much that
        what fades out and what fades in are most alike: anything else would be heard as a notch.
        """
        room, lag = round(ROOM_SECONDS * self.rate), latency - self._graph.latency
        if -room <= lag <= 0:
            return -lag
        frames = min(abs(lag) + 2 * room + round(LIKE_SECONDS * self.rate), round(HISTORY_SECONDS * self.rate))
        if frames - abs(lag) - room < room:
            return 0
        self._graph.lately(RESULT, self._before[:frames])
        return int(best_lag(self._before[:frames], lag, room, max(1, self.rate // 48_000)) - lag)

    def _start(self, fresh: LiveGraph, at: int) -> None:
        if self._playing:
            return
        if self._fade_frames_left > 0:  # it was stopped just before: what is heard fades out first, and all else waits
            self._to_start = fresh, at
            return
        self._to_start = None
        self._playing = True
        self._waiting = None
        self._graph, self._old = fresh, None
        self._head.seek(at, fade=False)
        self._began, self._played = at, 0
        self._guard.clear()
        self._levelling.settle()
        for fader in self._faders.values():
            fader.clear()
        for slot in range(len(BESIDE)):
            self._remember(slot)
        self._aim_faders()

    def _pre_roll(self, graph: LiveGraph, start: int) -> None:
        """Run the second before the start through the graph, so that it begins as if it had been playing."""
        first = max(0, start - round(PREROLL_SECONDS * self.rate))
        graph.begin(first)
        for count, at in enumerate(range(first, start, MAX_BLOCK)):
            n = min(MAX_BLOCK, start - at)
            for part in graph.sources:
                assert isinstance(part.node, Source)
                if part.node.sound in BESIDE:
                    part.out[:n] = 0.0
                else:
                    self._from_start(part.node, at, part.out[:n])
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

    def _set_monitoring(self, monitoring: Monitoring, road: RoadPart | None = None) -> None:
        self._hear_next = None
        if monitoring.path in self._beside and self._playing and not self._place_for(monitoring.path):
            self._hear_next = monitoring, road
            return
        if monitoring.gains.get(RESULT) != self._monitoring.gains.get(RESULT):  # it is known how loud the result is
            self._faders[RESULT].scale(self._levelling.settle())
        self._monitoring = monitoring
        if road is not self._road:
            self._road_before, self._road = self._road, road
            self._road_at = 0
        if monitoring.path in self._beside and monitoring.path != self._slots[self._slot]:
            self._slot = 1 - self._slot  # into the place that is not heard, so that one fades into the other
            if self._slots[self._slot] != monitoring.path:
                self._slots[self._slot] = monitoring.path
                self._remember(self._slot)
        self._aim_faders()

    def _place_for(self, path: str) -> bool:
        """Whether something beside the song has a place, or there is one from which nothing is heard any more."""
        return path in self._slots or self._faders[BESIDE[1 - self._slot]].silent

    def _remember(self, slot: int) -> None:
        """Have what is now in a place for sounds beside the song lie in the graphs as though it had always been there: they
        hold it up for as long as the song is late."""
        found = self._beside.get(self._slots[slot])
        if found is None:
            return
        for graph in (self._graph, self._old):
            at = -graph.latency if graph is not None else 0
            while graph is not None and at < 0:
                block = self._faded[: min(MAX_BLOCK, -at)]
                self._head.look_beside(*found, at, block)
                graph.recall(BESIDE[slot], block, self._driven[: len(block)])
                at += len(block)

    def _path_name(self) -> str:
        path = self._monitoring.path
        return BESIDE[self._slot] if path in self._beside else path if path in PATHS else RESULT

    def _aim_faders(self) -> None:
        m = self._monitoring
        self._ceiling = min(
            1.0, gain_of(m.ceiling + (m.level + (DIM_DB if m.dim else 0.0) if m.ceiling < 0.0 else 0.0))
        )
        gain = gain_of(m.gains.get(m.path, 0.0) + m.level + (DIM_DB if m.dim else 0.0))
        heard = self._path_name()
        for name, fader in self._faders.items():
            fader.aim(np.array(monitor(m.view).rows) * gain if self._playing and name == heard else SILENCE)

    # --- the device ----------------------------------------------------------------------------------------

    def start(self, device: Device) -> None:
        """Play to a device from now on, on a thread of its own."""
        self._device = device
        self._closing, self.failed, self.broken = False, "", False
        self._thread = threading.Thread(target=self._run, name="gluvo-audio", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop the thread and close the device."""
        self._closing = True
        if self._thread is not None:
            self._thread.join(timeout=2.0)
            self._thread = None
        if self._device is not None:
            self._device.close()
            self._device = None

    def _run(self) -> None:
        device = self._device
        assert device is not None
        with contextlib.suppress(OSError, AttributeError):  # it is granted to few, and works without on an idle machine
            os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, os.sched_param(PRIORITY))
        out, state = self._out[:BLOCK], self.board.state
        sounding = False
        try:
            while not self._closing:
                self.pull(out)
                before, sounding = sounding, self._playing or self._fade_frames_left > 0
                np.copyto(self._block, out, casting="same_kind")
                if device.write(self._block) and (before or sounding):
                    state[DROPOUTS] += 1
                state[POSITION], state[PLAYING] = self.position, self.playing
                state[TAKEN] = self._mark  # last, so that who sees it sees that place
        except DeviceError as error:
            self.failed = str(error)
        except Exception as error:  # the process goes on, and sees to it
            log.exception("the audio thread has failed")
            self.failed, self.broken = repr(error), True
