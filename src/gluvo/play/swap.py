"""One live graph taking over from another: in time, level and phase, with a crossfade."""

from __future__ import annotations

import numpy as np

from gluvo.compare.match import RESULT
from gluvo.dsp.input_history import HISTORY_SECONDS
from gluvo.dsp.kernel import Audio
from gluvo.play.fades import Levelling, best_lag, crossfade
from gluvo.play.graph import LiveGraph
from gluvo.render.machine import ROOM_SECONDS, NodeRunner
from gluvo.steps import MAX_BLOCK

SWAP_SECONDS = 0.030
"""At its steepest the fade is as steep as a straight one of 20 ms."""
COMPARE_SECONDS = 0.12
"""For how long an edit is levelled against what it took the place of, where nothing else is edited meanwhile."""
LIKE_SECONDS = 0.010
"""Over how much is looked how alike the song is to itself a little earlier."""


class GraphSwap:
    """The graph that plays, the one that it has taken over from, and the one that waits. Only the audio thread calls this."""

    def __init__(self, graph: LiveGraph, rate: int) -> None:
        self.graph = graph
        self.old: LiveGraph | None = None
        """What is faded out, or still compared with."""
        self._waiting: LiveGraph | None = None
        self._rate = rate
        self.frames = round(SWAP_SECONDS * rate)
        """Of the crossfade."""
        self._compare_frames = round(COMPARE_SECONDS * rate)
        self._at = 0
        """Frames since the new graph's sound comes out of it; negative while it does not yet."""
        self._levelling = Levelling(rate)
        self._faded, self._before, self._nothing = (np.zeros((MAX_BLOCK, 2)) for _ in range(3))

    def begin(self, graph: LiveGraph) -> None:
        """Play a graph, where nothing played before."""
        self.graph, self.old, self._waiting = graph, None, None
        self._levelling.settle()

    def wait(self, graph: LiveGraph) -> None:
        """Have a graph take over as soon as there is no fade on; the newest of several does."""
        self._waiting = graph

    def take_waiting(self, fade: bool) -> None:
        """Let what waits take over, if it can."""
        if self._waiting is None or (self.old is not None and self._at < self.frames):
            return
        new, self._waiting = self._waiting, None
        if fade:
            new.delay_by(self._pad(new.latency))
        new.take_over(self.graph)
        if fade:
            # The fade waits until what the new graph was given has come out of it.
            self.old, self._at = self.graph, -new.latency
            if new.session.view.solo == self.graph.session.view.solo:
                self._levelling.begin()
            else:  # what is heard alone is as loud as it is in the song
                self._levelling.leave()
        self.graph = new

    def settle_level(self) -> float:
        """It is known how loud the result is: level it no more; the factor that was at work."""
        return self._levelling.settle()

    @property
    def sources(self) -> list[NodeRunner]:
        """All that has to be filled: the graph's sources, and those that only the old one has."""
        found = list(self.graph.sources)
        if self.old is not None:
            found += [runner for runner in self.old.sources if self.graph.runners.get(runner.node.key) is not runner]
        return found

    def process(self, n: int, number: int, over: int, levelled: bool) -> None:
        """The next block of both, of number `number`; `levelled` where the result is played at the level of others."""
        self.graph.process(n, number, over)
        if self.old is not None:
            self.old.process(n, number, over)
            if levelled:
                self._levelling.compare(self.old.paths[RESULT][:n], self.graph.paths[RESULT][:n], self._at >= 0)

    def path(self, name: str, n: int) -> Audio:
        """A path's block; while one graph takes over from another, one fades into the other. It is overwritten by the next
        call."""
        new = self.graph.paths.get(name)
        block = self._faded[:n]
        block[:] = 0.0 if new is None else new[:n]
        if name == RESULT:
            self._levelling.apply(block)
        if self.old is not None and self._at < self.frames:
            old, before = self.old.paths.get(name), self._nothing[:n]
            if old is not None:
                before = self._before[:n]
                np.copyto(before, old[:n])
                if name == RESULT and self._levelling.before != 1.0:
                    before *= self._levelling.before
            crossfade(before, block, self._at, self.frames)
        return block

    def go_on(self, n: int, levelled: bool) -> None:
        """The block is done: the fade goes on."""
        if self.old is not None:
            self._at += n
            if self._at >= self.frames + (self._compare_frames if levelled else 0):
                self.old = None

    def _pad(self, latency: int) -> int:
        """By how many frames a graph is held up, so that it fades in as if nothing had become later or earlier.

        Where it would be no later, up to where what it takes the place of is. Else the song slips, and by so much that
        what fades out and what fades in are most alike: anything else would be heard as a notch.
        """
        room, lag = round(ROOM_SECONDS * self._rate), latency - self.graph.latency
        if -room <= lag <= 0:
            return -lag
        frames = min(abs(lag) + 2 * room + round(LIKE_SECONDS * self._rate), round(HISTORY_SECONDS * self._rate))
        if frames - abs(lag) - room < room:
            return 0
        self.graph.lately(RESULT, self._before[:frames])
        return int(best_lag(self._before[:frames], lag, room, max(1, self._rate // 48_000)) - lag)
