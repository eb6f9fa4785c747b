"""A new session from audio files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from gluvo.errors import AudioFileError
from gluvo.measure.loudness import LOUDEST_SECONDS, loudest_span
from gluvo.measure.trace import Tracer
from gluvo.progress import Progress, no_progress
from gluvo.session.media import media_of, read_media
from gluvo.session.records import MIX, Bus, Deliverable, Reference, Section, Session, Stem, View
from gluvo.session.sections import proposed
from gluvo.session.sounds import blocks_of, header_of
from gluvo.session.store import checked
from gluvo.steps.settings import MOST_NAME


def new_session(
    files: Sequence[Path],
    references: Sequence[Path],
    folder: Path,
    name: str,
    top: Path | None = None,
    progress: Progress = no_progress,
    refused: list[str] | None = None,
) -> Session:
    """A session in `folder` for a mix, or for stems: a strip for each file.

    Where the stems lie in folders inside the folder `top`, each of those becomes a bus of that name. Every file is
    read, so that a bad one is refused here; none is kept in memory. The loudest quarter minute becomes the first
    section. `refused` gets a sentence for each bad file if there are good ones; without it, the first bad one is raised.
    """
    session = Session(name=name[:MOST_NAME])
    buses: dict[Path, str] = {top.resolve(): MIX} if top is not None else {}
    total = len(files) + len(references)
    good: list[Path] = []
    for n, path in enumerate(files):
        try:
            header = header_of(path)
            media = media_of(path, folder, lambda d, n=n: progress(0.7 * (n + d) / total))  # type: ignore[misc]
        except AudioFileError as error:
            _refuse(error, refused, last=path is files[-1] and not good)
            continue
        good.append(path)
        session = session.replace(rate=session.rate or header.rate)
        session, into = _bus_for(session, path.resolve().parent, buses)
        stem = Stem(
            id=session.fresh_id("stem"), name=path.stem[:MOST_NAME], into=into, media=media, mono=header.channels == 1
        )
        session = session.replace(strips=(*session.strips, stem))
    for n, path in enumerate(references):
        found = reference_of(path, folder, lambda d, n=n: progress(0.7 * (len(files) + n + d) / total))  # type: ignore[misc]
        session = with_reference(session, found)
    section = _loudest(good, session.rate, lambda d: progress(0.7 + 0.3 * d))
    session = session.replace(
        sections=(section,),
        deliverables=(Deliverable(id="deliverable-1", name="Streaming"),),
        view=View(page="buses" if len(files) > 1 else "shape", section=section.id, loop=True, position=section.start),
    )
    return checked(session)


def _refuse(error: AudioFileError, refused: list[str] | None, last: bool) -> None:
    """Note that a file is bad and go on without it; raise it if nothing else is left (`last`), or none are noted."""
    if refused is None or (last and not refused):
        raise error
    refused.append(str(error))
    if last:
        raise AudioFileError(f"None of the {len(refused)} files can be used. {refused[0]}")


def _bus_for(session: Session, folder: Path, buses: dict[Path, str]) -> tuple[Session, str]:
    """The bus of a folder, made with those around it if it is not there yet. Folders elsewhere go into the mix."""
    if folder in buses:
        return session, buses[folder]
    if not any(folder.is_relative_to(known) for known in buses):
        return session, MIX
    session, into = _bus_for(session, folder.parent, buses)
    bus = Bus(id=session.fresh_id("bus"), name=folder.name[:MOST_NAME], into=into)
    buses[folder] = bus.id
    return session.replace(strips=(*session.strips, bus)), bus.id


def _loudest(files: Sequence[Path], rate: int, progress: Progress) -> Section:
    """The loudest quarter minute of the sum of all files, read side by side piece by piece."""
    tracer, readers = Tracer(rate, between=False), [blocks_of(path, rate) for path in files]
    seconds = max(header.frames / header.rate for header in map(header_of, files))
    waiting: list[np.ndarray | None] = [np.zeros((0, 2), dtype=np.float32) for _ in readers]
    done = 0
    while True:
        for n, reader in enumerate(readers):
            rest = waiting[n]
            while rest is not None and not len(rest):
                piece = next(reader, None)
                rest = None if piece is None else piece
            waiting[n] = rest
        there = [rest for rest in waiting if rest is not None]
        if not there:
            break
        frames = min(len(rest) for rest in there)
        total = np.zeros((frames, 2))
        for n, rest in enumerate(waiting):
            if rest is not None:
                total += rest[:frames]
                waiting[n] = rest[frames:]
        tracer.push(total)
        done += frames
        progress(min(1.0, done / rate / seconds) if seconds else 0.5)
    trace = tracer.finish()
    length = min(LOUDEST_SECONDS, trace.seconds)
    start = loudest_span(trace, length) if length < trace.seconds else 0.0
    return Section(id="section-1", name="Loudest", start=round(start, 3), end=round(start + length, 3))


def stems_added(
    session: Session,
    files: Sequence[Path],
    folder: Path,
    progress: Progress = no_progress,
    refused: list[str] | None = None,
) -> Session:
    """The session with further stems, which flow into the mix bus. Bad files are refused; see `new_session`."""
    good = 0
    for n, path in enumerate(files):
        try:
            header = header_of(path)
            media = media_of(path, folder, lambda d, n=n: progress((n + d) / len(files)))  # type: ignore[misc]
        except AudioFileError as error:
            _refuse(error, refused, last=path is files[-1] and not good)
            continue
        good += 1
        stem = Stem(id=session.fresh_id("stem"), name=path.stem[:MOST_NAME], media=media, mono=header.channels == 1)
        session = session.replace(rate=session.rate or header.rate, strips=(*session.strips, stem))
    return checked(session)


def reference_of(path: Path, folder: Path, progress: Progress = no_progress) -> Reference:
    """The record of a reference track, with sections proposed; it is read, so that a bad file is refused."""
    media, trace = read_media(path, folder, progress)
    return Reference(id="", name=path.stem[:MOST_NAME], media=media, sections=proposed(Session(), trace))


def with_reference(session: Session, reference: Reference) -> Session:
    """The session with one more reference, which gets ids of its own."""
    made = msgspec.structs.replace(reference, id=session.fresh_id("reference"), sections=(), pairs=())
    session = session.replace(references=(*session.references, made))
    for section in reference.sections:
        own = msgspec.structs.replace(section, id=session.fresh_id("part"))
        made = msgspec.structs.replace(made, sections=(*made.sections, own))
        session = session.with_reference(made)
    return session
