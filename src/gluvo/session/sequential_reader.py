"""Audio files that libsndfile reads, from their beginning to their end.

Of three bytes a sample, the most common kind there is, the library makes numbers five times as slowly as a kernel does.
It is asked for the bytes instead; this is the one file that leans on how its binding calls it, and where that is not as
expected the library's own way is taken, with the same result.
"""

from __future__ import annotations

import contextlib
import os
import threading
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from gluvo.dsp.kernel import Singles, kernel

RAW = getattr(getattr(soundfile, "_snd", None), "sf_read_raw", None)
"""The library's function for bytes, if there is one."""
LITTLE_ENDIAN = ("WAV", "WAVEX", "RF64", "W64")
BYTES = 3


class _Hush:
    """The library that decodes MP3 tells what it thinks of a file on the error output, past everybody: while something of it
    runs, that goes nowhere. What is wrong with a file is told in a sentence of ours."""

    def __init__(self) -> None:
        self._lock, self._count, self._kept = threading.Lock(), 0, -1

    def __enter__(self) -> None:
        with self._lock:
            self._count += 1
            if self._count == 1:
                with contextlib.suppress(OSError):
                    self._kept = os.dup(2)
                    nowhere = os.open(os.devnull, os.O_WRONLY)
                    os.dup2(nowhere, 2)
                    os.close(nowhere)

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self._count -= 1
            if self._count == 0 and self._kept >= 0:
                os.dup2(self._kept, 2)
                os.close(self._kept)
                self._kept = -1


hushed = _Hush()


def hush_for(path: Path) -> contextlib.AbstractContextManager[None]:
    """What a file is to be opened and read in; see `_Hush`."""
    return hushed if path.suffix.lower() in (".mp3", ".mp2") else contextlib.nullcontext()


class SequentialReader(soundfile.SoundFile):  # type: ignore[misc]  # the library has no types
    """A file that is read from its beginning to its end. Told that it can seek, the library does so after every piece,
    which fails where the length is not known."""

    def seekable(self) -> bool:
        return False

    def pieces(self, count: int) -> np.ndarray:
        """The next frames, ``(n, channels)`` float32; fewer at the end."""
        handle = getattr(self, "_file", None)
        packed = self.subtype == "PCM_24" and self.format in LITTLE_ENDIAN and self.endian in ("FILE", "LITTLE")
        if not packed or RAW is None or handle is None:
            made: np.ndarray = self.read(count, dtype="float32", always_2d=True)
            return made
        width = BYTES * self.channels
        raw = np.empty(count * width, dtype=np.uint8)
        got = int(RAW(handle, soundfile._ffi.cast("void *", raw.ctypes.data), len(raw))) // width
        if code := self._errorcode:
            raise soundfile.LibsndfileError(code)
        block = np.empty((got, self.channels), dtype=np.float32)
        unpack(raw, block.reshape(-1))
        return block


@kernel
def unpack(raw: NDArray[np.uint8], out: Singles) -> None:
    """Samples of three bytes, the lowest first, as numbers: full scale is ±1, which float32 holds exactly."""
    for i in range(out.shape[0]):
        bits = np.int64(raw[3 * i + 2]) << 24 | np.int64(raw[3 * i + 1]) << 16 | np.int64(raw[3 * i]) << 8
        out[i] = np.float32(np.int32(bits)) * np.float32(2.0**-31)  # the highest bit is the sign
