"""Audio files: read, checked, and known again."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from gluvo.errors import AudioFileError
from gluvo.session.records import Media, Session

LOWEST_RATE, HIGHEST_RATE = 44_100, 192_000
AUDIO_SUFFIXES = (".wav", ".flac", ".aiff", ".aif", ".ogg", ".opus", ".mp3", ".w64", ".rf64", ".caf")


@dataclass(frozen=True, eq=False)
class Sound:
    """Audio in memory: ``(frames, 2)`` float32."""

    samples: np.ndarray
    rate: int

    @property
    def seconds(self) -> float:
        return len(self.samples) / self.rate


def read_sound(path: Path, rate: int | None = None) -> Sound:
    """Read a file as stereo; mono is put on both sides. At another `rate` if asked (soxr VHQ).

    Raises `AudioFileError` with one sentence for anything that is not mono or stereo audio of 44.1–192 kHz.
    """
    name = path.name
    if path.is_dir():
        raise AudioFileError(f"{name} is a folder, not an audio file.")
    try:
        if path.stat().st_size == 0:
            raise AudioFileError(f"{name} is empty.")
        info = soundfile.info(str(path), verbose=True)
        samples, found = soundfile.read(str(path), dtype="float32", always_2d=True)
    except FileNotFoundError:
        raise AudioFileError(f"{name} was not found in {path.parent}.") from None
    except PermissionError:
        raise AudioFileError(f"{name} may not be read: its permissions forbid it.") from None
    except (soundfile.LibsndfileError, OSError, RuntimeError) as error:
        raise AudioFileError(f"{name} cannot be read as audio ({_reason(error)}).") from None
    channels = samples.shape[1]
    if channels > 2:
        raise AudioFileError(f"{name} has {channels} channels; Gluvo takes mono and stereo.")
    if not LOWEST_RATE <= found <= HIGHEST_RATE or found % 100:
        raise AudioFileError(f"{name} is at {found / 1000:g} kHz; Gluvo takes 44.1 to 192 kHz.")
    if not len(samples):
        raise AudioFileError(f"{name} holds no sound: it has 0 frames.")
    if len(samples) < info.frames or _cut_short(info.extra_info):
        raise AudioFileError(f"{name} is cut short: its end is missing. Bring in a whole copy.")
    if not np.isfinite(samples).all():
        bad = ~np.isfinite(samples).all(axis=1)
        where = int(np.argmax(bad)) / found
        raise AudioFileError(
            f"{name} has {int(bad.sum())} damaged samples (not a number or infinite), the first at {where:.2f} s."
        )
    if channels == 1:
        samples = np.repeat(samples, 2, axis=1)
    if rate is not None and rate != found:
        samples, found = resampled(samples, found, rate), rate
    return Sound(np.ascontiguousarray(samples, dtype=np.float32), found)


def resampled(samples: np.ndarray, rate: int, to: int) -> np.ndarray:
    """At another rate (soxr VHQ); the type is kept."""
    return np.asarray(soxr.resample(samples, rate, to, quality="VHQ"))


def read_sum(paths: Sequence[Path]) -> Sound:
    """Files summed from a common start; other rates are converted to the first one's."""
    first = read_sound(paths[0])
    others = [read_sound(path, first.rate) for path in paths[1:]]
    total = np.zeros((max(len(s.samples) for s in (first, *others)), 2), dtype=np.float32)
    for sound in (first, *others):
        total[: len(sound.samples)] += sound.samples
    return Sound(total, first.rate)


def media_of(path: Path, folder: Path) -> Media:
    """The record of a file, for a session in `folder`."""
    try:
        with path.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        size = path.stat().st_size
    except FileNotFoundError:
        raise AudioFileError(f"{path.name} was not found in {path.parent}.") from None
    except OSError as error:
        raise AudioFileError(f"{path.name} cannot be read ({error.strerror}).") from None
    return Media(path=relative_to(path, folder), size=size, sha256=digest)


def relative_to(path: Path, folder: Path) -> str:
    """Relative if the file lies in the session's folder or below, absolute elsewhere."""
    path, folder = path.resolve(), folder.resolve()
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else path.as_posix()


def place_of(media: Media, folder: Path) -> Path:
    """Where a media file should be."""
    return Path(os.path.normpath(folder / media.path))


def outside_folder(session: Session) -> list[str]:
    """The media of a session that lie outside its folder, and so stay behind when it is moved."""
    media = (*session.sources, *(r.media for r in session.references))
    return [m.path for m in media if Path(m.path).is_absolute() or ".." in Path(m.path).parts]


def audio_files(folder: Path) -> list[Path]:
    """The audio files in a folder, by name. Raises `AudioFileError` if there is none, or it cannot be read."""
    try:
        found = sorted(p for p in folder.iterdir() if p.suffix.lower() in AUDIO_SUFFIXES)
    except OSError as error:
        raise AudioFileError(f"The folder {folder} cannot be read ({error.strerror}).") from None
    if not found:
        raise AudioFileError(f"The folder {folder} holds no audio files.")
    return found


def _cut_short(log: str) -> bool:
    """libsndfile says so in its log when a chunk claims more than the file has."""
    return any("should be" in line for line in log.splitlines() if line.strip().lower().startswith("data"))


def _reason(error: Exception) -> str:
    text = str(error).split(": ")[-1].strip().rstrip(".")
    return text[:1].lower() + text[1:]
