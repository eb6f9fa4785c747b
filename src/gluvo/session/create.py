"""A new session from audio files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from gluvo.measure.loudness import loudest_span
from gluvo.measure.trace import trace_of
from gluvo.session.media import Material, material_of, media_of, read_sound
from gluvo.session.records import MIX, Bus, Deliverable, Reference, Section, Session, Stem, View

LOUDEST_SECONDS = 15.0


def new_session(
    files: Sequence[Path], references: Sequence[Path], folder: Path, name: str, top: Path | None = None
) -> Session:
    """A session in `folder` for a mix, or for stems: a strip for each file.

    Where the stems lie in folders inside the folder `top`, each of those becomes a bus of that name. Every file is
    read, so that a bad one is refused here. The loudest quarter minute becomes the first section.
    """
    session, sounds = Session(name=name), {}
    buses: dict[Path, str] = {top.resolve(): MIX} if top is not None else {}
    for path in files:
        sound = read_sound(path, session.rate or None)
        session = session.replace(rate=sound.rate)
        session, into = _bus_for(session, path.resolve().parent, buses)
        stem = Stem(
            id=session.fresh_id("stem"), name=path.stem, into=into, media=media_of(path, folder), mono=sound.mono
        )
        sounds[stem.id] = sound
        session = session.replace(strips=(*session.strips, stem))
    found = [reference_of(path, folder, n) for n, path in enumerate(references, start=1)]
    section = _loudest(material_of(session, sounds, session.rate))
    return session.replace(
        references=tuple(found),
        sections=(section,),
        deliverables=(Deliverable(id="deliverable-1", name="Streaming"),),
        view=View(page="buses" if len(files) > 1 else "shape", section=section.id, loop=True, position=section.start),
    )


def _bus_for(session: Session, folder: Path, buses: dict[Path, str]) -> tuple[Session, str]:
    """The bus of a folder, made with those around it if it is not there yet. Folders elsewhere go into the mix."""
    if folder in buses:
        return session, buses[folder]
    if not any(folder.is_relative_to(known) for known in buses):
        return session, MIX
    session, into = _bus_for(session, folder.parent, buses)
    bus = Bus(id=session.fresh_id("bus"), name=folder.name, into=into)
    buses[folder] = bus.id
    return session.replace(strips=(*session.strips, bus)), bus.id


def _loudest(material: Material) -> Section:
    total = np.zeros((material.frames, 2), dtype=np.float32)
    for sound in material.sounds.values():
        total[: len(sound.samples)] += sound.samples
    length = min(LOUDEST_SECONDS, material.seconds)
    start = loudest_span(trace_of(total, material.rate), length) if length < material.seconds else 0.0
    return Section(id="section-1", name="Loudest", start=round(start, 3), end=round(start + length, 3))


def stems_added(session: Session, files: Sequence[Path], folder: Path) -> Session:
    """The session with further stems, which flow into the mix bus. Bad files are refused."""
    for path in files:
        sound = read_sound(path)
        stem = Stem(id=session.fresh_id("stem"), name=path.stem, media=media_of(path, folder), mono=sound.mono)
        session = session.replace(rate=session.rate or sound.rate, strips=(*session.strips, stem))
    return session


def with_media(stem: Stem, path: Path, folder: Path) -> Stem:
    """The stem with another file."""
    return msgspec.structs.replace(stem, media=media_of(path, folder), mono=read_sound(path).mono)


def reference_of(path: Path, folder: Path, number: int) -> Reference:
    """The record of a reference track; it is read, so that a bad file is refused."""
    read_sound(path)
    return Reference(id=f"reference-{number}", name=path.stem, media=media_of(path, folder))
