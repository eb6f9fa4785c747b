"""Audio at another level, made when it is read: a plain gain takes no room and hardly any time."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np

from gluvo.dsp.kernel import Floats, Singles, kernel
from gluvo.session.scratch import scratch


class Scaled:
    """Other audio, times a gain for either side. Slices of it are arrays, as slices of an array are."""

    def __init__(self, of: np.ndarray | Scaled, gains: tuple[float, float]) -> None:
        """`of`: ``(frames, 2)`` float32."""
        self._of, self._gains = of, np.array(gains)

    @property
    def nbytes(self) -> int:
        """Bytes of what it holds on to."""
        return int(self._of.nbytes)

    def __len__(self) -> int:
        return len(self._of)

    def __getitem__(self, frames: slice) -> np.ndarray:
        x = self._of[frames]
        made = np.empty(x.shape, dtype=np.float32)
        scale(x, self._gains, made)
        return made

    def stretch(self, frames: slice) -> Scaled:
        """A part of it, made when it is read, too."""
        return Scaled(stretch_of(self._of, frames), (float(self._gains[0]), float(self._gains[1])))

    @cached_property
    def _whole(self) -> np.ndarray:
        made = scratch((len(self), 2))
        scale(np.asarray(self._of), self._gains, made)
        return made

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> np.ndarray:
        return np.array(self._whole, dtype=dtype, copy=copy)


Sounding = np.ndarray | Scaled
"""Audio to be read by slices, ``(frames, 2)`` float32; `numpy.asarray` makes a whole array of it."""


def stretch_of(audio: Sounding, frames: slice) -> Sounding:
    """A part of some audio, not copied."""
    return audio.stretch(frames) if isinstance(audio, Scaled) else audio[frames]


@kernel
def scale(x: Singles, gains: Floats, out: Singles) -> None:
    """`x` (frames, 2) times a gain for either side, into `out`."""
    left, right = gains[0], gains[1]
    if left == right:  # one after the other, which the compiler makes vectors of
        flat, made = x.reshape(-1), out.reshape(-1)
        for i in range(flat.shape[0]):
            made[i] = left * flat[i]
        return
    for i in range(x.shape[0]):
        out[i, 0], out[i, 1] = left * x[i, 0], right * x[i, 1]
