"""What came back from outside the computer, laid into the song."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from gluvo.dsp.warping import read_at
from gluvo.session.sounds import Sound, read_sound
from gluvo.steps.recorded import Return


def aligned(back: Return, path: Path, rate: int, frames: int) -> Sound:
    """A return as long as the song, in step with what was sent: its delay and the drift of its clock made good. Level and
    polarity stay as they came; they are the step's. Raises `AudioFileError` if it cannot be read."""
    came = read_sound(path, rate)
    if back.drift == 0.0 and (back.begins * rate).is_integer():
        return Sound(_plainly(came, round(back.begins * rate), frames), rate, mono=came.mono)
    return Sound(read_at(came.samples, back.begins * rate, 1.0 + back.drift * 1e-6, frames), rate, mono=came.mono)


def _plainly(came: Sound, first: int, frames: int) -> np.ndarray:
    """So many frames from a whole one on, as they are."""
    out = np.zeros((frames, 2), dtype=np.float32)
    a, b = max(0, first), min(len(came.samples), first + frames)
    if b > a:
        out[a - first : b - first] = came.samples[a:b]
    return out
