"""AAC and what else libsndfile does not read, by PyAV, as though it were a file of libsndfile's."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from gluvo.errors import AudioFileError

SUFFIXES = (".m4a", ".aac", ".mp4")


class Decoded:
    """An audio file that is read from its beginning to its end."""

    def __init__(self, path: Path) -> None:
        """Raises `AudioFileError` if nothing of it can be decoded."""
        import av  # here, since it takes long to load and few files need it

        self._name, self._trouble = path.name, av.FFmpegError
        try:
            self._in = av.open(str(path))
        except (av.FFmpegError, OSError, ValueError) as error:
            raise AudioFileError(f"{path.name} cannot be read as audio ({_reason(error)}).") from None
        if not self._in.streams.audio:
            self._in.close()
            raise AudioFileError(f"{path.name} holds no audio.")
        stream: Any = self._in.streams.audio[0]
        self.samplerate, self.channels = int(stream.rate), int(stream.channels)
        self.frames = int(stream.duration * stream.time_base * stream.rate) if stream.duration else 0
        self._blocks = self._decoded()
        self._rest = np.zeros((0, self.channels), dtype=np.float32)

    def pieces(self, count: int) -> np.ndarray:
        """The next frames, ``(n, channels)`` float32; fewer at the end."""
        held, have = [self._rest], len(self._rest)
        while have < count and (block := next(self._blocks, None)) is not None:
            held.append(block)
            have += len(block)
        whole = np.concatenate(held)
        self._rest = whole[count:]
        return whole[:count]

    def _decoded(self) -> Iterator[np.ndarray]:
        try:
            for frame in self._in.decode(audio=0):
                data = frame.to_ndarray()
                if np.issubdtype(data.dtype, np.integer):
                    data = data / float(2 ** (8 * data.dtype.itemsize - 1))
                yield np.asarray(data if len(data) == self.channels else data.reshape(-1, self.channels).T, "f4").T
        except self._trouble as error:
            raise AudioFileError(f"{self._name} is damaged ({_reason(error)}).") from None

    def __enter__(self) -> Decoded:
        return self

    def __exit__(self, *_: object) -> None:
        self._in.close()


def _reason(error: BaseException) -> str:
    text = getattr(error, "strerror", None) or str(error)
    return text[:1].lower() + text[1:]
