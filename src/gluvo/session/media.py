"""Audio files: read, checked, and known again."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import soundfile
import soxr

from gluvo.errors import AudioFileError
from gluvo.session.records import Media, Session
from gluvo.session.scratch import scratch

LOUDEST = 1e6
"""±120 dBFS; no sample of a sound file is beyond."""
LOWEST_RATE, HIGHEST_RATE = 44_100, 192_000
AUDIO_SUFFIXES = (".wav", ".flac", ".aiff", ".aif", ".ogg", ".opus", ".mp3", ".w64", ".rf64", ".caf")


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
        with soundfile.SoundFile(str(path)) as file:
            found, channels = file.samplerate, file.channels
            room = (
                scratch((file.frames, channels), shared=True) if channels <= 2 else np.zeros((0, channels), np.float32)
            )
            samples = file.read(dtype="float32", always_2d=True, out=room)
    except FileNotFoundError:
        raise AudioFileError(f"{name} was not found in {path.parent}.") from None
    except PermissionError:
        raise AudioFileError(f"{name} may not be read: its permissions forbid it.") from None
    except (soundfile.LibsndfileError, OSError, RuntimeError) as error:
        raise AudioFileError(f"{name} cannot be read as audio ({_reason(error)}).") from None
    if channels > 2:
        raise AudioFileError(f"{name} has {channels} channels; Gluvo takes mono and stereo.")
    if not LOWEST_RATE <= found <= HIGHEST_RATE or found % 100:
        raise AudioFileError(f"{name} is at {found / 1000:g} kHz; Gluvo takes 44.1 to 192 kHz.")
    if not len(samples):
        raise AudioFileError(f"{name} holds no sound: it has 0 frames.")
    if len(samples) < info.frames or _cut_short(info.extra_info):
        raise AudioFileError(f"{name} is cut short: its end is missing. Bring in a whole copy.")
    low, high = float(samples.min()), float(samples.max())
    if not (low > -LOUDEST and high < LOUDEST):  # also where they are not numbers
        bad = ~(np.abs(samples) < LOUDEST).all(axis=1)
        where = int(np.argmax(bad)) / found
        raise AudioFileError(
            f"{name} has {int(bad.sum())} damaged samples (not a number, or infinite), the first at {where:.2f} s."
        )
    if rate is not None and rate != found:
        samples, found = resampled(samples, found, rate), rate
    if channels == 1:
        both = scratch((len(samples), 2), shared=True)
        both[:] = samples
        samples = both
    return Sound(samples, found, mono=channels == 1)


def resampled(samples: np.ndarray, rate: int, to: int) -> np.ndarray:
    """At another rate (soxr VHQ); the type is kept."""
    return np.asarray(soxr.resample(samples, rate, to, quality="VHQ"))


@dataclass(frozen=True, eq=False)
class Material:
    """The audio of a session's stems, all at one rate."""

    rate: int
    sounds: dict[str, Sound]
    """By the id of the stem."""
    frames: int
    """How long the song is: to the end of the stem that ends last."""
    missing: dict[str, str] = field(default_factory=dict)
    """What is wrong with stems that could not be read, by their id. They are silent."""
    media: dict[str, Media] = field(default_factory=dict)
    """The files that the sounds were read from."""

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def read_material(
    session: Session, folder: Path, told: Callable[[float], None] = lambda _: None, known: Material | None = None
) -> Material:
    """The audio of all stems that can be read; what cannot is listed, not raised. What is `known` is not read again."""
    rate, sounds, missing = session.rate, {}, {}
    for n, stem in enumerate(session.stems):
        told(n / len(session.stems))
        if known is not None and known.media.get(stem.id) == stem.media and (not rate or rate == known.rate):
            rate, sounds[stem.id] = known.rate, known.sounds[stem.id]
            continue
        try:
            sound = read_sound(place_of(stem.media, folder), rate or None)
        except AudioFileError as error:
            missing[stem.id] = str(error)
            continue
        rate = sound.rate
        sounds[stem.id] = sound
    return material_of(session, sounds, rate or 48_000, missing)


def material_of(
    session: Session, sounds: Mapping[str, Sound], rate: int, missing: Mapping[str, str] | None = None
) -> Material:
    """The material of a session whose sounds have been read."""
    ends = [round(s.offset * rate) + len(sounds[s.id].samples) for s in session.stems if s.id in sounds]
    media = {s.id: s.media for s in session.stems if s.id in sounds}
    return Material(rate, dict(sounds), max(ends, default=0), dict(missing or {}), media)


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
    return [m.path for m in session.media if Path(m.path).is_absolute() or ".." in Path(m.path).parts]


def audio_files(folder: Path) -> list[Path]:
    """The audio files in a folder and the folders in it, by name, those of a folder together.

    Raises `AudioFileError` if there is none, or it cannot be read.
    """
    try:
        inside = sorted(folder.iterdir())
        found = [p for p in inside if p.suffix.lower() in AUDIO_SUFFIXES and not p.name.startswith(".")]
        for inner in inside:
            if inner.is_dir() and not inner.is_symlink() and not inner.name.startswith("."):
                with contextlib.suppress(AudioFileError):
                    found += audio_files(inner)
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
