"""What is recorded while the program runs: files of their own beside the session, never over another one."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import numpy as np
import soundfile

from gluvo.deliver.names import safe
from gluvo.deliver.writers import write_floats
from gluvo.errors import WriteError
from gluvo.session.files import fitting, placing, reason_of


def kept_recording(audio: np.ndarray, rate: int, folder: Path, name: str) -> Path:
    """A recording (frames, 2) as a WAV of 32-bit floats in a folder, which is made if need be, called by a name and the time.
    Raises `WriteError`."""
    called = safe(f"{name} {datetime.now():%Y-%m-%d %H.%M.%S}")
    path = folder / f"{fitting(called, '.wav')}.wav"
    try:
        path.parent.mkdir(exist_ok=True)
        with placing(path, over=False) as new:
            write_floats(new.file, audio, rate)
    except (OSError, soundfile.LibsndfileError) as error:
        raise WriteError(f"{path.name} could not be written ({reason_of(error)}).") from None
    return new.path
