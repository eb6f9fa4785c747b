"""The latest input of a processor, from which filters with new settings are run in before they are heard.

States that belong to other settings would ring, and be louder than either end.
"""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel

HISTORY_SECONDS = 0.3
"""How much is kept."""


@kernel
def remember(x: Audio, past: Floats, place: int) -> int:
    """Put `x` (frames, 2) into a ring from a place on; where the next one goes."""
    size = past.shape[0]
    for i in range(x.shape[0]):
        past[place, 0], past[place, 1] = x[i, 0], x[i, 1]
        place += 1
        if place == size:
            place = 0
    return place


class InputHistory:
    """A ring of the last frames.

    >>> past = InputHistory(4)
    >>> past.remember(np.arange(10.0).reshape(5, 2))
    >>> lately = np.zeros((3, 2)); past.look(3, lately)
    >>> lately[:, 0].tolist()
    [4.0, 6.0, 8.0]
    """

    def __init__(self, frames: int) -> None:
        self._kept, self._place = np.zeros((frames, 2)), 0

    def remember(self, x: Audio) -> None:
        """Take in a block of any length."""
        self._place = remember(x, self._kept, self._place)

    def __len__(self) -> int:
        return len(self._kept)

    def look(self, ago: int, out: Audio) -> None:
        """What came in `ago` frames ago and after it, into `out`, which is no longer than that."""
        first = (self._place - ago) % len(self._kept)
        n = min(len(out), len(self._kept) - first)
        np.copyto(out[:n], self._kept[first : first + n])
        np.copyto(out[n:], self._kept[: len(out) - n])

    def adopt(self, other: InputHistory) -> None:
        """Go on where another one of the same length is."""
        if self._kept.shape == other._kept.shape:
            np.copyto(self._kept, other._kept)
            self._place = other._place
