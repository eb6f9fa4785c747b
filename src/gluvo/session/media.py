"""The audio files of a session: read, and known again."""

from __future__ import annotations

import concurrent.futures
import contextlib
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec
import numpy as np

from gluvo.dsp.db import db_of
from gluvo.errors import AudioFileError
from gluvo.measure.loudness import integrated
from gluvo.measure.trace import Trace, Tracer
from gluvo.progress import CORES, Progress, no_progress
from gluvo.session.digests import digest_of
from gluvo.session.media_places import with_media
from gluvo.session.records import Media, Session, Stem
from gluvo.session.returns import aligned
from gluvo.session.sounds import AUDIO_SUFFIXES, Sound, blocks_of, header_of, read_sound


@dataclass(frozen=True)
class Changed:
    """A file that is not what was brought in."""

    media: Media
    """As it is now."""
    words: str
    """What has changed, in a sentence."""


@dataclass(frozen=True, eq=False)
class Material:
    """The audio of a session's stems, all at one rate."""

    rate: int
    sounds: dict[str, Sound]
    """By the id of the stem."""
    frames: int
    """How long the song is: to the end of the stem that ends last."""
    missing: dict[str, str] = field(default_factory=dict)
    """What is wrong with stems that could not be read, or have changed, by their id. They are silent."""
    media: dict[str, Media] = field(default_factory=dict)
    """The files that the sounds were read from."""
    changed: dict[str, Changed] = field(default_factory=dict)
    """The stems among the missing whose files are others than were brought in."""
    recordings: dict[str, str] = field(default_factory=dict)
    """Of the steps that play a recording, by their ids: how that was laid into the song. Their sounds are among the others."""

    @property
    def seconds(self) -> float:
        return self.frames / self.rate

    def other(self, session: Session) -> frozenset[str]:
        """The stems and steps, by their ids, whose sounds here are of other files than a session has there: it has changed,
        and they are not read yet."""
        stems = ((s.id, self.media.get(s.id), s.media) for s in session.stems)
        found = {id for id, here, there in stems if here is not None and here.sha256 != there.sha256}
        for item in session.all_items:
            key = self.recordings.get(item.id)
            if key is not None and not key.startswith(f"{item.recording_key}/"):
                found.add(item.id)
        return frozenset(found)

    def lacking(self, session: Session) -> dict[str, str]:
        """What is wrong with stems, and with steps that are on, whose sounds could not be read, by their ids."""
        heard = {s.id for s in session.stems} | {item.id for item in session.items if item.on}
        return {id: words for id, words in self.missing.items() if id in heard}

    def having(self, session: Session) -> frozenset[str]:
        """Those whose sounds are here."""
        return frozenset(self.sounds) - self.other(session)


def read_material(
    session: Session, folder: Path, told: Callable[[float], None] = lambda _: None, known: Material | None = None
) -> Material:
    """The audio of all stems that can be read; what cannot is listed, not raised. What is `known` is not read again.

    A file whose content is another than was brought in is listed as changed, and is silent until it is taken.
    """
    rate, sounds, missing, changed = session.rate, {}, {}, {}
    done = dict.fromkeys((stem.id for stem in session.stems), 0.0)

    def read(stem: Stem) -> None:
        """Read a stem. Several are read side by side, once the rate is known."""
        nonlocal rate

        def inside(share: float) -> None:
            done[stem.id] = share
            told(sum(done.values()) / len(done))

        inside(0.0)
        if known is not None and known.media.get(stem.id) == stem.media and (not rate or rate == known.rate):
            rate, sounds[stem.id] = known.rate, known.sounds[stem.id]
            return
        try:
            other = changed_file(stem.media, folder, inside)
            if other is not None:
                changed[stem.id] = other
                raise AudioFileError(other.words)
            sound = read_sound(place_of(stem.media, folder), rate or None, inside)
        except AudioFileError as error:
            missing[stem.id] = str(error)
            return
        rate = sound.rate
        sounds[stem.id] = sound
        inside(1.0)

    rest = list(session.stems)
    while rest and not rate:
        read(rest.pop(0))
    with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-reading") as pool:
        list(pool.map(read, rest))
    found = material_of(session, {s.id: sounds[s.id] for s in session.stems if s.id in sounds}, rate or 48_000, missing)
    return replace(_with_recordings(session, folder, found, known), changed=changed)


def _with_recordings(session: Session, folder: Path, found: Material, known: Material | None) -> Material:
    """The same, with what steps play of outside, each as long as the song; also those that are put away."""
    sounds, missing, keys = dict(found.sounds), dict(found.missing), dict[str, str]()
    for item in session.all_items:
        back = item.back
        if back is None:
            continue
        key = f"{item.recording_key}/{found.rate}/{found.frames}"
        try:
            if known is not None and known.recordings.get(item.id) == key and item.id in known.sounds:
                sounds[item.id] = known.sounds[item.id]
            else:
                if (other := changed_file(back.media, folder)) is not None:
                    raise AudioFileError(other.words)
                sounds[item.id] = aligned(back, place_of(back.media, folder), found.rate, found.frames)
            keys[item.id] = key
        except AudioFileError as error:
            missing[item.id] = str(error)
    return replace(found, sounds=sounds, missing=missing, recordings=keys)


def material_with(known: Material, session: Session, folder: Path, told: Callable[[float], None]) -> Material:
    """The audio of another state of a session, whose stems may have other files; what is `known` is not read again. Raises
    `AudioFileError` for what is not there any more or has changed."""
    there = {stem.id: stem.media for stem in session.stems if stem.id not in known.missing}
    if all(known.media.get(id) == media for id, media in there.items()):
        return known
    found = read_material(session, folder, told, known)
    if lost := {id: words for id, words in found.lacking(session).items() if id not in known.missing}:
        raise AudioFileError(next(iter(lost.values())))
    return found


def material_of(
    session: Session, sounds: Mapping[str, Sound], rate: int, missing: Mapping[str, str] | None = None
) -> Material:
    """The material of a session whose sounds have been read."""
    ends = [round(s.offset * rate) + len(sounds[s.id].samples) for s in session.stems if s.id in sounds]
    media = {s.id: s.media for s in session.stems if s.id in sounds}
    return Material(rate, dict(sounds), max(ends, default=0), dict(missing or {}), media)


def media_of(path: Path, folder: Path, progress: Progress = no_progress) -> Media:
    """The record of an audio file, for a session in `folder`: its place, content, length, peak and loudness."""
    return read_media(path, folder, progress)[0]


def read_media(path: Path, folder: Path, progress: Progress = no_progress) -> tuple[Media, Trace]:
    """The record of an audio file, for a session in `folder`, and what was measured of it, true peaks left out."""
    digest, size = digest_of(path, lambda d: progress(0.3 * d))
    header, tracer = header_of(path), None
    for block in blocks_of(path, None, lambda d: progress(0.3 + 0.7 * d)):
        tracer = tracer or Tracer(header.rate, between=False)
        tracer.push(block if block.shape[1] == 2 else np.repeat(block, 2, axis=1))
    assert tracer is not None
    trace = tracer.finish()
    place = relative_to(path, folder)
    try:
        place.encode()
    except UnicodeEncodeError:
        raise AudioFileError(
            "The name of that file or its folder is not valid text (UTF-8). Rename it first."
        ) from None
    media = Media(
        path=place,
        size=size,
        sha256=digest,
        seconds=round(trace.seconds, 4),
        peak=round(db_of(float(trace.sample_peak.max(initial=0.0))), 2),
        loudness=round(integrated(trace), 2),
    )
    return media, trace


def changed_file(media: Media, folder: Path, progress: Progress = no_progress) -> Changed | None:
    """What the file of a record is now, if it is not what was brought in. Raises `AudioFileError` if it is not there."""
    path = place_of(media, folder)
    digest, size = digest_of(path, progress)
    if (digest, size) == (media.sha256, media.size):
        return None
    now = msgspec.structs.replace(media_of(path, folder), path=media.path)
    return Changed(now, f"{path.name} has changed since it was brought in: {_differences(media, now)}.")


def _differences(old: Media, new: Media) -> str:
    """How a file sounds otherwise than it did, in words."""
    words = []
    if old.seconds is not None and new.seconds is not None and abs(longer := new.seconds - old.seconds) > 0.0005:
        words.append(f"{abs(longer):.3f} s {'longer' if longer > 0 else 'shorter'}")
    for before, now, unit, what in ((old.peak, new.peak, "dB", "peak"), (old.loudness, new.loudness, "LU", "loudness")):
        if before is not None and now is not None and abs(change := now - before) >= 0.01:
            words.append(f"{what} {'+' if change > 0 else '−'}{abs(change):.2f} {unit}")
    if old.seconds is None:
        return "its content is another"
    return ", ".join(words) or "its content is another, though as long and as loud"


def taken(session: Session, changed: Mapping[str, Changed]) -> Session:
    """The session with changed files taken as they now are, by the ids of their stems and references."""
    files = {s.media: changed[s.id].media for s in session.stems if s.id in changed}
    files |= {r.media: changed[r.id].media for r in session.references if r.id in changed}
    files |= {i.recording: changed[i.id].media for i in session.all_items if i.recording and i.id in changed}
    now = with_media(session.replace(versions=(), deliveries=()), lambda media: files.get(media, media))
    return now.replace(versions=session.versions, deliveries=session.deliveries)


def relative_to(path: Path, folder: Path) -> str:
    """Relative if the file lies in the session's folder or below, absolute elsewhere."""
    path, folder = path.resolve(), folder.resolve()
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else path.as_posix()


def place_of(media: Media, folder: Path) -> Path:
    """Where a media file should be."""
    return Path(os.path.normpath(folder / media.path))


def outside_folder(session: Session) -> list[str]:
    """The media of a session that lie outside its folder, and so stay behind when it is moved."""
    paths = dict.fromkeys(m.path for m in session.media)
    return [path for path in paths if Path(path).is_absolute() or ".." in Path(path).parts]


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
