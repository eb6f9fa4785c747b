"""A new session from audio files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from gluvo.measure.loudness import loudest_span
from gluvo.measure.trace import trace_of
from gluvo.session.media import media_of, read_sound, read_sum
from gluvo.session.records import Deliverable, Reference, Section, Session, View

LOUDEST_SECONDS = 15.0


def new_session(files: Sequence[Path], references: Sequence[Path], folder: Path, name: str) -> Session:
    """A session in `folder` for a mix (or stems to be summed), with an empty chain.

    Every file is read, so that a bad one is refused here. The loudest quarter minute becomes the first section.
    """
    sound = read_sum(files)
    found = [reference_of(path, folder, n) for n, path in enumerate(references, start=1)]
    length = min(LOUDEST_SECONDS, sound.seconds)
    start = loudest_span(trace_of(sound.samples, sound.rate), length) if length < sound.seconds else 0.0
    section = Section(id="section-1", name="Loudest", start=round(start, 3), end=round(start + length, 3))
    return Session(
        name=name,
        sources=tuple(media_of(path, folder) for path in files),
        references=tuple(found),
        sections=(section,),
        deliverables=(Deliverable(id="deliverable-1", name="Streaming"),),
        view=View(section=section.id, loop=True, position=section.start),
    )


def reference_of(path: Path, folder: Path, number: int) -> Reference:
    """The record of a reference track; it is read, so that a bad file is refused."""
    read_sound(path)
    return Reference(id=f"reference-{number}", name=path.stem, media=media_of(path, folder))
