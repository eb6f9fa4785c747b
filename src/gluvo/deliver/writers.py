"""Audio written block by block into an open file, by the libraries that know each format."""

from __future__ import annotations

import contextlib
import errno
import io
import os
from collections.abc import Callable
from typing import IO, Any, Protocol

import numpy as np
import soundfile

BLOCK = 1 << 16
"""Frames that an encoder is given at a time."""


FOUR_GB = 2**32 - 2**20
"""Bytes of audio for which a file with sizes of 32 bits has room, beside its header and tags."""
RF64 = "auto"
"""When WAV becomes RF64: once it is too long for plain WAV."""


class Writer(Protocol):
    """Takes stereo audio, block by block: whole numbers, left-justified in int32, or float32."""

    def write(self, block: np.ndarray) -> None: ...

    def close(self) -> None:
        """All has been written; the file is complete."""

    def abandon(self) -> None:
        """What was written is not wanted; nothing of it goes wrong any more."""


class Watched(io.RawIOBase):
    """A file that keeps what the system said when a write failed: libraries swallow it, or say something else."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self.trouble: OSError | None = None

    def write(self, data: Any) -> int:
        try:
            written = self._file.write(data)
            return len(data) if written is None else written
        except OSError as error:
            self.trouble = self.trouble or error
        except ValueError:  # what was given up is closed already
            pass
        return len(data)  # the library need not know: it is told of by `check`

    def read(self, size: int = -1) -> bytes:
        return self._file.read(size)

    def readinto(self, into: Any) -> int:
        data = self._file.read(len(into))
        into[: len(data)] = data
        return len(data)

    def seek(self, place: int, whence: int = 0) -> int:
        try:
            return self._file.seek(place, whence)
        except OSError as error:  # what was held back could not be written
            self.trouble = self.trouble or error
            return 0

    def tell(self) -> int:
        try:
            return self._file.tell()
        except OSError as error:
            self.trouble = self.trouble or error
            return 0

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def writable(self) -> bool:
        return True

    def flush(self) -> None:
        try:
            self._file.flush()
        except (OSError, ValueError) as error:
            self.trouble = self.trouble or (error if isinstance(error, OSError) else None)

    def close(self) -> None:
        """The file belongs to whoever opened it."""

    def check(self) -> None:
        """Raises what the system said, if anything has failed."""
        self.flush()
        if self.trouble is not None:
            raise self.trouble


class SoundFileWriter:
    """By libsndfile."""

    def __init__(self, file: IO[bytes], rate: int, kind: str, subtype: str, **further: Any) -> None:
        self._watched = Watched(file)
        self._file = soundfile.SoundFile(self._watched, "w", rate, 2, subtype=subtype, format=kind, **further)

    def write(self, block: np.ndarray) -> None:
        for at in range(0, len(block), BLOCK):
            try:
                self._file.write(block[at : at + BLOCK])
            except (soundfile.LibsndfileError, RuntimeError) as error:
                self._watched.check()
                raise OSError(errno.EIO, f"the encoder stopped: {error}") from None
            self._watched.check()

    def close(self) -> None:
        self._file.close()
        self._watched.check()

    def abandon(self) -> None:
        with contextlib.suppress(soundfile.LibsndfileError, OSError, RuntimeError):
            self._file.close()


class AvWriter:
    """By the libraries behind PyAV."""

    def __init__(
        self,
        file: IO[bytes],
        rate: int,
        container: str,
        codec: str,
        *,
        bit_rate: int = 0,
        metadata: dict[str, str] | None = None,
        options: dict[str, str] | None = None,
        codec_options: dict[str, str] | None = None,
    ) -> None:
        import av  # here, since it takes long to load

        self._av, self._watched = av, Watched(file)
        self._out: Any = av.open(
            self._watched, "w", format=container, options={"fflags": "+bitexact", **(options or {})}
        )
        self._out.metadata.update(metadata or {})
        stream: Any = self._out.add_stream(codec, rate=rate, options=codec_options or {})
        stream.layout = "stereo"
        if bit_rate:
            stream.bit_rate = bit_rate * 1000
        self._stream = stream
        self._rate, self._at = rate, 0
        self._codec = codec

    def write(self, block: np.ndarray) -> None:
        for at in range(0, len(block), BLOCK):
            piece = np.ascontiguousarray(block[at : at + BLOCK])
            if self._codec == "pcm_s16le":
                piece = (piece >> 16).astype(np.int16)
            kind = {"int16": "s16", "int32": "s32", "float32": "flt"}[piece.dtype.name]
            frame = self._av.AudioFrame.from_ndarray(piece.reshape(1, -1), format=kind, layout="stereo")
            frame.sample_rate, frame.pts = self._rate, self._at
            self._at += len(piece)
            self._mux(frame)
            self._watched.check()

    def _mux(self, frame: object) -> None:
        try:
            self._out.mux(self._stream.encode(frame))
        except self._av.FFmpegError as error:
            self._watched.check()
            raise OSError(errno.EIO, f"the encoder stopped: {error.strerror}") from None

    def close(self) -> None:
        self._mux(None)
        self._out.close()
        self._watched.check()

    def abandon(self) -> None:
        with contextlib.suppress(self._av.FFmpegError, OSError, ValueError):
            self._out.close()


Open = Callable[[IO[bytes], int, str, int], Writer]
"""A writer into an open file, of a rate in Hz, a depth, and a bit rate in kbit/s."""


def soundfile_writer(kind: str, subtypes: dict[str, str]) -> Open:
    return lambda file, rate, depth, _bit_rate: SoundFileWriter(file, rate, kind, subtypes[depth])


def vorbis_writer(file: IO[bytes], rate: int, _depth: str, bit_rate: int) -> Writer:
    """Ogg Vorbis, whose encoder takes a quality: the one that makes about the bit rate."""
    quality = float(np.interp(bit_rate, (64, 96, 128, 160, 192, 256, 320), (0.0, 0.2, 0.4, 0.5, 0.6, 0.8, 0.9)))
    return SoundFileWriter(file, rate, "OGG", "VORBIS", compression_level=1.0 - quality)


def av_writer(container: str, codec: str, **further: Any) -> Open:
    return lambda file, rate, _depth, bit_rate: AvWriter(file, rate, container, codec, bit_rate=bit_rate, **further)


def broadcast_wav(file: IO[bytes], rate: int, depth: str, _bit_rate: int) -> Writer:
    """WAV with a broadcast chunk (EBU Tech 3285), and as RF64 (EBU Tech 3306) once it is too long for plain WAV."""
    codec = {"16": "pcm_s16le", "24": "pcm_s24le", "32f": "pcm_f32le"}[depth]
    options = {"write_bext": "1", "rf64": RF64}
    history = f"A=PCM,F={rate},W={depth},M=stereo,T=Gluvo"
    history += "" if len(history) % 2 else " "  # else the chunk is padded, over which libsndfile stumbles in RF64
    metadata = {"originator": "Gluvo", "coding_history": history}
    return AvWriter(file, rate, "wav", codec, metadata=metadata, options=options)


def write_floats(file: IO[bytes], audio: np.ndarray, rate: int) -> None:
    """Audio (frames, 2) as a WAV of 32-bit floats, or as RF64 if it is too long for that."""
    kind = "WAV" if 4 * audio.size <= FOUR_GB else "RF64"
    soundfile.write(file, audio, rate, "FLOAT", format=kind)


def size_of(file: IO[bytes]) -> int:
    """Bytes of an open file."""
    return os.fstat(file.fileno()).st_size
