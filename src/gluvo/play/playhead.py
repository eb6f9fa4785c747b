"""Where the sound is read from: position, loop and seek, without a click."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio, Ints, Singles, kernel

FADE_SECONDS = 0.010
POSITION, TAIL, FADE_LEFT, LOOP_START, LOOP_END = range(5)


NOWHERE = np.zeros((0, 4), dtype=np.int64)
"""No stretches: the song's time is the sound's own."""


@kernel
def _own(position: int, length: int, stretches: Ints) -> tuple[int, int, int]:
    """Where in a sound of its own time a place of the song lies; how many frames ago the sound jumped there, and where it
    would have gone on from; −1 where it has not."""
    for k in range(stretches.shape[0]):
        start, end, first, last = stretches[k, 0], stretches[k, 1], stretches[k, 2], stretches[k, 3]
        if start <= position < end and last > first:
            since = (position - start) % (last - first)
            went_round = position - start >= last - first
            came = last if went_round else start % length
            for j in range(0 if went_round else stretches.shape[0]):  # what was played right before it
                if stretches[j, 0] <= start - 1 < stretches[j, 1] and stretches[j, 3] > stretches[j, 2]:
                    came = stretches[j, 2] + (start - 1 - stretches[j, 0]) % (stretches[j, 3] - stretches[j, 2]) + 1
            return first + since, since, came
    since, came = -1, 0
    for k in range(stretches.shape[0]):
        first, last = stretches[k, 2], stretches[k, 3]
        gone = position - stretches[k, 1]
        if gone >= 0 and last > first and (since < 0 or gone < since):
            since, came = gone, first + (stretches[k, 1] - 1 - stretches[k, 0]) % (last - first) + 1
    return position % length, since, came


@kernel
def read_block(samples: Singles, offset: int, plan: Ints, fade: int, beside: bool, stretches: Ints, out: Audio) -> None:
    """Read the next frames of `samples` (frames, 2) by a plan (see `Playhead`) into `out`; the plan goes on.

    The samples begin `offset` frames into the song, and outside of them there is silence; or, if they lie `beside` the
    song, they have a time of their own: `stretches` are rows of start and end in the song, start and end in the sound, in
    frames (see `compare.hearables.TimeMap`), and elsewhere the sound goes round. Jumps are crossfaded: what would have
    come next fades out under what comes now; where nothing would have come, since a loop ends where the samples do, they
    fade out before it.
    """
    length = samples.shape[0]
    position, tail, left, start, end = plan[0], plan[1], plan[2], plan[3], plan[4]
    n = out.shape[0]
    stops = not beside and end > start and end <= length + offset < end + fade  # nothing follows to be faded out
    near = end > start and position <= end and end - fade < position + n
    if not beside and left == 0 and not near:  # no jump: nearly always
        first, last = min(n, max(0, offset - position)), max(0, min(n, length + offset - position))
        out[:first] = 0.0
        out[max(first, last) :] = 0.0
        for i in range(first, last):
            out[i, 0] = samples[position - offset + i, 0]
            out[i, 1] = samples[position - offset + i, 1]
        plan[0] = position + n
        return
    for i in range(n):
        if end > start and position == end:
            tail, left, position = position, fade, start
        a, b = _sample(samples, length, position, offset, fade, beside, stretches)
        if stops and end - fade <= position < end:
            share = _smooth((end - position) / (fade + 1.0))
            a, b = share * a, share * b
        if left > 0:
            old_a, old_b = 0.0, 0.0
            if not (stops and tail >= end):
                old_a, old_b = _sample(samples, length, tail, offset, fade, beside, stretches)
            share = _smooth(left / (fade + 1.0))
            a += share * (old_a - a)
            b += share * (old_b - b)
            tail += 1
            left -= 1
        out[i, 0], out[i, 1] = a, b
        position += 1
    plan[0], plan[1], plan[2] = position, tail, left


@kernel
def _smooth(share: float) -> float:
    """A fade without corners, 3 s² − 2 s³."""
    return share * share * (3.0 - 2.0 * share)


@kernel
def pass_by(plan: Ints, fade: int, frames: int) -> None:
    """Let the plan go on by so many frames without reading anything."""
    for _ in range(frames):
        if plan[4] > plan[3] and plan[0] == plan[4]:
            plan[1], plan[2], plan[0] = plan[0], fade, plan[3]
        if plan[2] > 0:
            plan[1] += 1
            plan[2] -= 1
        plan[0] += 1


@kernel
def _sample(
    samples: Singles, length: int, position: int, offset: int, fade: int, beside: bool, stretches: Ints
) -> tuple[float, float]:
    if not beside:
        p = position - offset
        if 0 <= p < length:
            return float(samples[p, 0]), float(samples[p, 1])
        return 0.0, 0.0
    p, since, came = _own(position, length, stretches)
    p %= length
    a, b = float(samples[p, 0]), float(samples[p, 1])
    if 0 <= since < fade:
        q = (came + since) % length
        share = _smooth((fade - since) / (fade + 1.0))
        a += share * (float(samples[q, 0]) - a)
        b += share * (float(samples[q, 1]) - b)
    return a, b


class Playhead:
    """Reads several tracks in step."""

    def __init__(self, rate: int) -> None:
        self._fade = round(FADE_SECONDS * rate)
        self._plan = np.zeros(5, dtype=np.int64)
        self._next = np.zeros(5, dtype=np.int64)

    @property
    def position(self) -> int:
        """The next frame to be read."""
        return int(self._plan[POSITION])

    @property
    def loop(self) -> tuple[int, int] | None:
        start, end = int(self._plan[LOOP_START]), int(self._plan[LOOP_END])
        return (start, end) if end > start else None

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Loop between two frames, or not at all. A position past the end plays on to where it was going."""
        self._plan[LOOP_START], self._plan[LOOP_END] = loop or (0, 0)

    def seek(self, frame: int, fade: bool = True) -> None:
        """Go on at a frame, crossfaded if sound is on."""
        if fade:
            self._plan[TAIL] = self._plan[POSITION]
            self._plan[FADE_LEFT] = self._fade
        else:
            self._plan[FADE_LEFT] = 0
        self._plan[POSITION] = frame

    def read(self, samples: np.ndarray, out: Audio, offset: int = 0) -> None:
        """Read a track, which begins `offset` frames into the song, for the next block; without going on."""
        np.copyto(self._next, self._plan)
        read_block(samples, offset, self._next, self._fade, False, NOWHERE, out)

    def read_beside(self, samples: np.ndarray, stretches: np.ndarray, out: Audio) -> None:
        """Read a sound that has a time of its own for the next block; see `read_block`."""
        np.copyto(self._next, self._plan)
        read_block(samples, 0, self._next, self._fade, True, stretches, out)

    def look_beside(self, samples: np.ndarray, stretches: np.ndarray, at: int, out: Audio) -> None:
        """Read a sound that has a time of its own from `at` frames after the next one on, as though nothing had jumped."""
        self._next[:] = 0
        self._next[POSITION] = self._plan[POSITION] + at
        read_block(samples, 0, self._next, self._fade, True, stretches, out)

    def go_on(self, frames: int) -> None:
        """Go on by a block, whatever was read of it."""
        pass_by(self._plan, self._fade, frames)
