"""Where the sound is read from: position, loop and seek, without a click."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio, kernel

FADE_SECONDS = 0.010
POSITION, TAIL, FADE_LEFT, LOOP_START, LOOP_END = range(5)


@kernel
def read_block(samples, offset, plan, fade, wraps, out):  # type: ignore[no-untyped-def]
    """Read the next frames of `samples` (frames, 2) by a plan (see `Playhead`) into `out`; the plan goes on.

    The samples begin `offset` frames into the song. Jumps are crossfaded: what would have come next fades out under
    what comes now. Outside the samples there is silence, or the beginning again if it `wraps`.
    """
    length = samples.shape[0]
    position, tail, left, start, end = plan[0], plan[1], plan[2], plan[3], plan[4]
    for i in range(out.shape[0]):
        if end > start and position == end:
            tail, left, position = position, fade, start
        p = position % length if wraps else position - offset
        inside = 0 <= p < length
        a = float(samples[p, 0]) if inside else 0.0
        b = float(samples[p, 1]) if inside else 0.0
        if left > 0:
            q = tail % length if wraps else tail - offset
            inside = 0 <= q < length
            old_a = float(samples[q, 0]) if inside else 0.0
            old_b = float(samples[q, 1]) if inside else 0.0
            share = left / (fade + 1.0)
            a += share * (old_a - a)
            b += share * (old_b - b)
            tail += 1
            left -= 1
        out[i, 0], out[i, 1] = a, b
        position += 1
    plan[0], plan[1], plan[2] = position, tail, left


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

    def read(self, samples: np.ndarray, out: Audio, wraps: bool = False, offset: int = 0) -> None:
        """Read a track, which begins `offset` frames into the song, for the next block; without going on."""
        np.copyto(self._next, self._plan)
        read_block(samples, offset, self._next, self._fade, wraps, out)

    def go_on(self) -> None:
        """Go on by the block that was last read."""
        np.copyto(self._plan, self._next)
