"""The audio of an open session, and what is found out about it before anything is rendered."""

from __future__ import annotations

import weakref
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from pathlib import Path

from gluvo.compare.hearables import Hearable
from gluvo.errors import AudioFileError, GluvoError
from gluvo.measure.figures import Figures
from gluvo.measure.flattops import FlatTop, flat_tops
from gluvo.measure.spectrum import Spectrum, spectrum
from gluvo.measure.trace import Trace, trace_of
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.session.media import Changed, Material, changed_file, place_of, read_material
from gluvo.session.records import Media, Session
from gluvo.session.sounds import Sound, read_sound


@dataclass(frozen=True, eq=False)
class ExtraSound:
    """A sound beside the song that was made here, such as an encoding of it. Its hearable maps the song's time to its own."""

    hearable: Hearable
    sound: Sound
    matched: bool = True
    """Whether it is played as loud as the rest, or as it is."""


@dataclass(frozen=True, eq=False)
class OpenAudio:
    """What was read from disk for a session, and what is missing of it."""

    material: Material | None = None
    """None where not one stem could be read."""
    references: dict[str, Sound] = field(default_factory=dict)
    missing: tuple[tuple[Media, str], ...] = ()
    """Media that could not be read, and why."""
    flat: dict[str, tuple[FlatTop, ...]] = field(default_factory=dict)
    """Flat tops of each stem."""
    changed: dict[str, Changed] = field(default_factory=dict)
    """Stems and references whose files are others than were brought in, by their ids."""
    spoilt: dict[str, str] = field(default_factory=dict)
    """What has become of files that were read and are gone or damaged now, by their paths in the session."""
    stamps: dict[str, object] = field(default_factory=dict)
    """How each file stood on disk when it was read, by its path in the session."""
    reference_media: dict[Media, str] = field(default_factory=dict)
    """Which reference each file was read for."""
    reference_figures: dict[str, Figures] = field(default_factory=dict)
    reference_tone: dict[str, Spectrum] = field(default_factory=dict)

    def has_song_of(self, other: OpenAudio) -> bool:
        """Whether the stems are the very same sounds, so that what plays them can go on."""
        mine, theirs = self.material, other.material
        if mine is None or theirs is None or (mine.rate, mine.frames) != (theirs.rate, theirs.frames):
            return False
        return mine.sounds.keys() == theirs.sounds.keys() and all(
            sound.samples is theirs.sounds[id].samples for id, sound in mine.sounds.items()
        )

    def flat_places(self, session: Session) -> list[tuple[float, float]]:
        """Where in the song the stems' flat tops begin, and how long they are, in seconds."""
        if self.material is None:
            return []
        offsets = {stem.id: stem.offset for stem in session.stems}
        rate = self.material.rate
        return sorted(
            (offsets.get(id, 0.0) + top.start / rate, top.length / rate)
            for id, tops in self.flat.items()
            for top in tops
        )


_measured: weakref.WeakKeyDictionary[Sound, Joint] = weakref.WeakKeyDictionary()


def known_joint(sound: Sound) -> Joint | None:
    """The joint of a sound, if it has been measured; for screens, which do not wait."""
    return _measured.get(sound)


def joint_of(sound: Sound, trace: Trace | None = None) -> Joint:
    """A sound that lies beside the song as a joint, so that it is measured once, when it is first asked for; or not at all, where
    its `trace` is known."""
    found = _measured.get(sound)
    if found is None:
        found = _measured[sound] = Joint(sound.samples, trace or trace_of(sound.samples, sound.rate))
    return found


def read_audio(session: Session, folder: Path, progress: Progress, known: OpenAudio) -> OpenAudio:
    """All audio of a session. What cannot be read is listed, not raised. Stems that are `known` are not read again."""
    stamps = {media.path: stamp_of(media, folder) for media in session.media}
    material = read_material(session, folder, lambda d: progress(0.8 * d), known.material)
    same_rate = known.material is not None and known.material.rate == material.rate
    kept = {media: known.references[id] for media, id in known.reference_media.items() if id in known.references}
    missing = [(s.media, material.missing[s.id]) for s in session.stems if s.id in material.missing]
    missing += [
        (i.recording, material.missing[i.id]) for i in session.all_items if i.recording and i.id in material.missing
    ]
    references: dict[str, Sound] = {}
    changed = dict(material.changed)
    for n, reference in enumerate(session.references):
        progress(0.8 + 0.2 * n / len(session.references))
        try:
            if (other := changed_file(reference.media, folder)) is not None:
                changed[reference.id] = other
                raise GluvoError(other.words)
            if same_rate and reference.media in kept:
                references[reference.id] = kept[reference.media]
            else:
                references[reference.id] = read_sound(place_of(reference.media, folder), material.rate)
        except GluvoError as error:
            missing.append((reference.media, str(error)))
    return OpenAudio(
        material if any(s.id in material.sounds for s in session.stems) else None,
        references,
        tuple(missing),
        changed=changed,
        stamps=stamps,
        reference_media={r.media: r.id for r in session.references},
    )


def stamp_of(media: Media, folder: Path) -> object:
    """What tells that a file may have been written again: its size and times; None where it is not there."""
    try:
        found = place_of(media, folder).stat()
    except (OSError, ValueError):
        return None
    return found.st_size, found.st_mtime_ns, found.st_ino


def changes_of(
    session: Session, folder: Path, media: Collection[Media], progress: Progress
) -> tuple[dict[str, Changed], dict[str, str]]:
    """Which of some files have become others than were brought in, by the ids of their stems and references; and what is
    wrong with those that are gone or can no longer be read, by their places. What plays of these plays on from memory."""
    found, spoilt = {}, {}
    owners = [(s.id, s.media) for s in session.stems] + [(r.id, r.media) for r in session.references]
    owners += [(i.id, i.recording) for i in session.all_items if i.recording is not None]
    for id, one in owners:
        if one in media:
            try:
                if (other := changed_file(one, folder, progress)) is not None:
                    found[id] = other
            except AudioFileError as error:
                spoilt[one.path] = str(error)
    return found, spoilt


def analysed(audio: OpenAudio, progress: Progress) -> OpenAudio:
    """The same, with what takes longer to find out."""
    figures, tone, flat = {}, {}, {}
    for key, sound in audio.references.items():
        progress(0.5)
        figures[key] = joint_of(sound).figures()
        tone[key] = spectrum(sound.samples, sound.rate, "mid", 3)
    for key, sound in audio.material.sounds.items() if audio.material is not None else ():
        progress(0.7)
        if audio.material is not None and key not in audio.material.recordings:
            flat[key] = flat_tops(sound.samples)
    return replace(audio, flat=flat, reference_figures=figures, reference_tone=tone)
