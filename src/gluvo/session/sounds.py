"""Audio files as sounds: read, checked, converted, measured. Knows nothing of sessions."""

from __future__ import annotations

import concurrent.futures
import contextlib
import os
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from gluvo.dsp.delay import LOUDEST
from gluvo.errors import AudioFileError
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.flattops import FlatTopCounter
from gluvo.measure.trace import Tracer
from gluvo.progress import Progress, no_progress
from gluvo.session import decoding
from gluvo.session.containers import cut_short
from gluvo.session.files import open_ordinary, reason_of
from gluvo.session.scratch import Growing
from gluvo.session.sequential_reader import SequentialReader, hush_for

LOWEST_RATE, HIGHEST_RATE = 44_100, 192_000
"""Hz"""
PIECE = 1 << 18
"""Frames that are read at a time."""
LONGEST_SECONDS = 12 * 3600
PLAIN_FORMATS = ("WAV", "WAVEX", "RF64", "W64", "AIFF", "CAF")
"""Of libsndfile: those whose length is as long as the file is large."""
ENCODERS_PADDING = 4096
"""Frames of silence that encoders put around the sound, and decoders take away again."""
AUDIO_SUFFIXES = (
    ".wav",
    ".flac",
    ".aiff",
    ".aif",
    ".ogg",
    ".opus",
    ".mp3",
    ".w64",
    ".rf64",
    ".caf",
    *decoding.SUFFIXES,
)


@dataclass(frozen=True, eq=False)
class Sound:
    """Audio in memory: ``(frames, 2)`` float32."""

    samples: np.ndarray
    rate: int
    mono: bool = False
    """Whether the file has one channel, which is put on both sides."""

    @property
    def seconds(self) -> float:
        return len(self.samples) / self.rate


@dataclass(frozen=True)
class Header:
    """What a file says of itself before it is read."""

    rate: int
    channels: int
    frames: int
    """As it claims; 0 where it does not say, or claims more than can be true."""


def header_of(path: Path) -> Header:
    """The header of an audio file. Raises `AudioFileError` for anything that is not mono or stereo of 44.1–192 kHz."""
    with _opened(path) as (_, header):
        return header


def blocks_of(
    path: Path, rate: int | None = None, progress: Progress = no_progress
) -> Generator[np.ndarray, None, None]:
    """Read a file piece by piece: ``(n, channels)`` float32, at another `rate` if asked (soxr VHQ).

    Raises `AudioFileError` with one sentence for anything that is not whole, finite, mono or stereo audio of
    44.1–192 kHz; what is wrong inside is only known at its end.
    """
    name, read, bad, first_bad = path.name, 0, 0, 0
    with _opened(path) as (file, header):
        found = header.rate
        convert = (
            soxr.ResampleStream(found, rate, header.channels, "float32", "VHQ") if rate not in (None, found) else None
        )
        while True:
            try:
                with hush_for(path):
                    block = file.pieces(PIECE)
            except (soundfile.LibsndfileError, RuntimeError) as error:
                raise AudioFileError(f"{name} cannot be read as audio ({_reason(error)}).") from None
            if len(block):
                low, high = float(block.min()), float(block.max())
                if not (low > -LOUDEST and high < LOUDEST):  # also where they are not numbers
                    wrong = ~(np.abs(block) < LOUDEST).all(axis=1)
                    first_bad = first_bad if bad else read + int(np.argmax(wrong))
                    bad += int(wrong.sum())
                    block = np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0)
            read += len(block)
            if read > LONGEST_SECONDS * found:
                raise AudioFileError(f"{name} is longer than {LONGEST_SECONDS // 3600} hours.")
            last = len(block) < PIECE
            if last:
                _check_whole(path, header, read, bad, first_bad)
            progress(min(1.0, read / header.frames) if header.frames else 0.5)
            piece = block if convert is None else convert.resample_chunk(block, last=last)
            if len(piece):
                yield piece
            if last:
                return


def _check_whole(path: Path, header: Header, read: int, bad: int, first_bad: int) -> None:
    if not read:
        raise AudioFileError(f"{path.name} holds no sound: it has 0 frames.")
    if path.suffix.lower() in decoding.SUFFIXES:
        short = read < header.frames - ENCODERS_PADDING
    else:
        with hush_for(path):
            short = read < header.frames or cut_short(path)
    if short:
        raise AudioFileError(f"{path.name} is cut short: its end is missing. Bring in a whole copy.")
    if bad:
        raise AudioFileError(
            f"{path.name} has {bad} damaged samples (not a number, or infinite), the first at "
            f"{first_bad / header.rate:.2f} s."
        )


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[tuple[SequentialReader | decoding.Decoded, Header]]:
    name = path.name
    try:
        with open_ordinary(path) as opened:
            if os.fstat(opened.fileno()).st_size == 0:
                raise AudioFileError(f"{name} is empty.")
        av_writer = path.suffix.lower() in decoding.SUFFIXES
        with hush_for(path):
            file: SequentialReader | decoding.Decoded = (
                decoding.Decoded(path) if av_writer else SequentialReader(str(path))
            )
    except FileNotFoundError:
        raise AudioFileError(f"{name} was not found in {path.absolute().parent}.") from None
    except IsADirectoryError:
        raise AudioFileError(f"{name} is a folder, not an audio file.") from None
    except PermissionError:
        raise AudioFileError(f"{name} may not be read: its permissions forbid it.") from None
    except UnicodeEncodeError:
        raise AudioFileError(f"The name {name} is not valid text (UTF-8). Rename the file first.") from None
    except (soundfile.LibsndfileError, OSError, ValueError, RuntimeError) as error:
        raise AudioFileError(f"{name} cannot be read as audio ({_reason(error)}).") from None
    with file:
        if file.channels > 2:
            raise AudioFileError(f"{name} has {file.channels} channels; Gluvo takes mono and stereo.")
        rate = file.samplerate
        if not LOWEST_RATE <= rate <= HIGHEST_RATE or rate % 100:
            raise AudioFileError(f"{name} is at {rate / 1000:g} kHz; Gluvo takes 44.1 to 192 kHz.")
        if isinstance(file, SequentialReader) and file.format in PLAIN_FORMATS and file.frames > LONGEST_SECONDS * rate:
            raise AudioFileError(f"{name} is longer than {LONGEST_SECONDS // 3600} hours.")
        claimed = file.frames if 0 < file.frames <= LONGEST_SECONDS * rate else 0
        yield file, Header(rate, file.channels, claimed)


def read_sound(path: Path, rate: int | None = None, progress: Progress = no_progress) -> Sound:
    """Read a file as stereo; mono is put on both sides. At another `rate` if asked (soxr VHQ). See `blocks_of`."""
    header = header_of(path)
    try:
        kept = Growing()
        for block in blocks_of(path, rate, progress):
            kept.add(block if block.shape[1] == 2 else np.repeat(block, 2, axis=1))
        return Sound(kept.array(), rate or header.rate, mono=header.channels == 1)
    except OSError as error:
        raise AudioFileError(f"There is no room for the sound of {path.name} ({reason_of(error)}).") from None


def _ahead(blocks: Generator[np.ndarray, None, None]) -> Iterator[np.ndarray]:
    """The same blocks, the next one being read on a thread of its own while one is worked on."""
    with contextlib.closing(blocks), concurrent.futures.ThreadPoolExecutor(1, "gluvo-reading") as reading:
        coming = reading.submit(next, blocks, None)
        while (block := coming.result()) is not None:
            coming = reading.submit(next, blocks, None)
            yield block


def measured_file(
    path: Path, progress: Progress = no_progress, flat: FlatTopCounter | None = None
) -> tuple[Figures, int]:
    """The figures of a file and its rate, without keeping it in memory; its flat tops are counted if that is asked for."""
    header, tracer = header_of(path), None
    for block in _ahead(blocks_of(path, None, progress)):
        tracer = tracer or Tracer(header.rate)
        both = block if block.shape[1] == 2 else np.repeat(block, 2, axis=1)
        tracer.push(both)
        if flat is not None:
            flat.push(both)
    if flat is not None:
        flat.push(np.zeros((0, 2)), last=True)
    assert tracer is not None  # a file without sound is refused
    return figures_of(tracer.finish()), header.rate


def resampled(samples: np.ndarray, rate: int, to: int) -> np.ndarray:
    """At another rate (soxr VHQ); the type is kept."""
    return np.asarray(soxr.resample(samples, rate, to, quality="VHQ"))


def _reason(error: Exception) -> str:
    if isinstance(error, OSError):
        return reason_of(error)
    text = str(error).split(": ")[-1].strip().rstrip(".")
    return text[:1].lower() + text[1:]
