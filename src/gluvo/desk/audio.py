"""The audio of an open session, and what is found out about it before anything is rendered."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

from gluvo.errors import GluvoError
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.flattops import FlatTop, flat_tops
from gluvo.measure.spectrum import Spectrum, spectrum
from gluvo.measure.trace import trace_of
from gluvo.render.chain import Progress
from gluvo.session.media import Sound, place_of, read_sound, read_sum
from gluvo.session.records import Media, Session


@dataclass(frozen=True, eq=False)
class Audio:
    """What was read from disk for a session, and what is missing of it."""

    song: Sound | None = None
    references: dict[str, Sound] = field(default_factory=dict)
    missing: tuple[tuple[Media, str], ...] = ()
    """Media that could not be read, and why."""
    flat: tuple[FlatTop, ...] = ()
    reference_figures: dict[str, Figures] = field(default_factory=dict)
    reference_tone: dict[str, Spectrum] = field(default_factory=dict)


def read_audio(session: Session, folder: Path, progress: Progress) -> Audio:
    """All audio of a session. What cannot be read is listed, not raised."""
    missing: list[tuple[Media, str]] = []
    song: Sound | None = None
    for media in session.sources:
        try:
            read_sound(place_of(media, folder)) if len(session.sources) > 1 else None
            progress(0.2)
        except GluvoError as error:
            missing.append((media, str(error)))
    if session.sources and not missing:
        try:
            song = read_sum([place_of(media, folder) for media in session.sources])
        except GluvoError as error:
            missing.append((session.sources[0], str(error)))
    references: dict[str, Sound] = {}
    for n, reference in enumerate(session.references):
        progress(0.4 + 0.4 * n / len(session.references))
        try:
            references[reference.id] = read_sound(place_of(reference.media, folder), song.rate if song else None)
        except GluvoError as error:
            missing.append((reference.media, str(error)))
    return Audio(song, references, tuple(missing))


def analysed(audio: Audio, progress: Progress) -> Audio:
    """The same, with what takes longer to find out."""
    flat = flat_tops(audio.song.samples) if audio.song is not None else ()
    figures, tone = {}, {}
    for key, sound in audio.references.items():
        progress(0.5)
        figures[key] = figures_of(trace_of(sound.samples, sound.rate))
        tone[key] = spectrum(sound.samples, sound.rate, "mid", 3)
    return replace(audio, flat=flat, reference_figures=figures, reference_tone=tone)
