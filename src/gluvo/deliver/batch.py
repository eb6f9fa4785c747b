"""Several songs at once: sessions delivered as their lists say, files mastered like a session, an album's loudness."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from gluvo.advise.hold import held_session
from gluvo.advise.loudness_target import NO_LIMITER, ReachCost, driven, reach_target
from gluvo.deliver.names import ROOM
from gluvo.deliver.targets import loudness_of
from gluvo.deliver.write import Outcome, places, prepared, write_rows
from gluvo.errors import GluvoError, WriteError
from gluvo.measure.figures import Figures
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.session.create import new_session
from gluvo.session.files import fitting, placing, reason_of, refuse_own
from gluvo.session.media import Material, place_of, read_material
from gluvo.session.records import MIX, Deliverable, Session, Target
from gluvo.session.store import SUFFIX, read_session, session_bytes
from gluvo.steps.ceiling import last_limiter

USUAL_RATE = 48_000
"""Hz that names are made with where the session has not said its rate yet."""


@dataclass(frozen=True)
class Delivered:
    """A row of a session that was delivered."""

    row: Deliverable
    target: Target
    outcome: Outcome
    explained: str
    """Why its target could not be met; nothing if it was, or was not looked for."""


@dataclass(frozen=True)
class Mastered:
    """A file that was mastered like a session."""

    session: Path
    target: Target
    came: Figures
    """Of the file as it came."""
    went: Figures
    """Of the master."""
    cost: ReachCost
    explained: str
    rows: tuple[Delivered, ...]


def opened(path: Path, progress: Progress = no_progress) -> tuple[Session, Material]:
    """A session and its audio. Raises `GluvoError` if a part of it is missing."""
    session = read_session(path).session
    if not session.stems:
        raise GluvoError(f"{path.name} has no audio.")
    return session, read_material(session, path.resolve().parent, progress)


def rows_of(path: Path, session: Session, only: Collection[str]) -> list[Deliverable]:
    """The deliverables of a session whose names are in `only`, if any are; all otherwise. Raises `GluvoError` where there
    is none."""
    rows = [d for d in session.deliverables if not only or d.name.lower() in {name.lower() for name in only}]
    if not rows:
        there = ", ".join(d.name for d in session.deliverables) or "none"
        raise GluvoError(f"{path.name} has no deliverable of that name; there are {there}.")
    return rows


def refuse_clashes(
    songs: Sequence[tuple[Path, Session]], folder: Path, *, only: Collection[str] = (), force: bool = False
) -> None:
    """Raises `GluvoError` if what is to be written of some songs, all rows together, would become one file, would be
    written over a file that one of them needs, or without `force` over one that is there. Needs no audio."""
    becomes: dict[str, str] = {}
    needed = [path for path, _ in songs]
    needed += [place_of(media, path.resolve().parent) for path, session in songs for media in session.media]
    names = [path.name for path, _ in songs]
    for path, session in songs:
        shown = path.name if names.count(path.name) == 1 else path
        for row in rows_of(path, session, only):
            whose = f"“{row.name}” of {shown}"
            for place in places(session, row, session.rate or USUAL_RATE, folder):
                other = becomes.setdefault(str(place).lower(), whose)
                if other is not whose:
                    raise WriteError(f"{other} and {whose} would become one file, {place.name}. Nothing was written.")
                refuse_own(place, needed)
                if place.exists() and not force:
                    raise WriteError(
                        f"{place.name} exists already. Choose another folder, or write over it with --force."
                    )


def _made(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"{folder} cannot be made ({reason_of(error)}).") from None


def deliver_session(
    path: Path,
    session: Session,
    material: Material,
    folder: Path,
    *,
    only: Collection[str] = (),
    force: bool = False,
    renderer: Renderer | None = None,
    progress: Progress = no_progress,
    placed: Callable[[Path], object] | None = None,
) -> tuple[Delivered, ...]:
    """Write a session's deliverables (those whose names are in `only`, if any are) into a folder; see `write_rows` for
    `placed`.

    Raises `GluvoError` where nothing can be written: no such row, one file of two rows, files that are there without
    `force`, or the session's own.
    """
    session = session.replace(rate=session.rate or material.rate)
    rows = rows_of(path, session, only)
    refuse_clashes([(path, session)], folder, only=only, force=force)
    _made(folder)
    renderer = renderer or Renderer(material)
    ready = []
    for n, d in enumerate(rows):
        share = 0.3 * n / len(rows)
        row = prepared(
            renderer,
            session,
            d,
            folder,
            progress=lambda x, share=share: progress(share + 0.3 * x / len(rows)),  # type: ignore[misc]
        )
        ready.append(replace(row, over=frozenset(p for p, _ in row.paths if force)))
    outcomes = write_rows(material, ready, path.resolve().parent, lambda x: progress(0.3 + 0.7 * x), placed=placed)
    return tuple(Delivered(row.deliverable, row.target, outcomes[row.deliverable.id], row.explained) for row in ready)


def mastering(file: Path, like: Session, target: Target, folder: Path) -> tuple[Path, Session]:
    """Where the session of a file that is mastered like another one is kept, and what is known of it before the file is
    read: its list, its target and its tags."""
    name = fitting(file.stem, " " * ROOM)
    tags = msgspec.structs.replace(like.tags, title=file.stem[:200], isrc="", track="")
    known = Session(name=name[:200]).replace(
        target=target, deliverables=like.deliverables or Session().deliverables, tags=tags
    )
    return folder / f"{name}{SUFFIX}", known


def master_like(
    file: Path,
    like: Session,
    kept: Path,
    target: Target,
    folder: Path,
    *,
    force: bool = False,
    progress: Progress = no_progress,
    placed: Callable[[Path], object] | None = None,
) -> Mastered:
    """A session for a file with the mix chain of another, its held settings found for this file, brought to a target and
    delivered as the other's list says. The session is kept beside the files, once they are written.

    `kept`: the file of the other session, which is never written over. Raises `GluvoError` if the file cannot be read, the
    chain has no limiter, or something is there already; then nothing is left.
    """
    place, known = mastering(file, like, target, folder)
    refuse_own(place, [kept, file])
    if place.exists() and not force:
        raise WriteError(f"{place.name} exists already. Choose another folder, or write over it with --force.")
    if last_limiter(like.mix.chain) is None:
        raise GluvoError(NO_LIMITER)
    made = new_session([file], [], folder.resolve(), known.name, None, lambda d: progress(0.1 * d))
    mix = msgspec.structs.replace(like.mix, id=MIX)
    chain = tuple(msgspec.structs.replace(item, held_in="") for item in mix.chain)  # its sections are not this song's
    strips = tuple(msgspec.structs.replace(s, chain=chain, fader=mix.fader) if s.id == MIX else s for s in made.strips)
    rows = like.deliverables or made.deliverables
    made = made.replace(strips=strips, target=target, deliverables=rows, tags=known.tags)
    refuse_clashes([(place, made)], folder, force=force)
    _made(folder)
    material = read_material(made, folder.resolve(), lambda d: progress(0.1 + 0.1 * d))
    for trouble in material.lacking(made).values():
        raise GluvoError(trouble)
    renderer = Renderer(material)
    made = held_session(renderer, made, lambda d: progress(0.2 + 0.1 * d))
    reached = reach_target(renderer, made, None, lambda d: progress(0.3 + 0.3 * d))
    made = driven(made, reached.step, reached.drive, reached.ceiling)
    plan = renderer.plan(made)
    came, went = renderer.joint(plan.untouched).figures(), renderer.joint(plan.result).figures()
    found = deliver_session(
        place,
        made,
        material,
        folder,
        force=force,
        renderer=renderer,
        progress=lambda d: progress(0.6 + 0.4 * d),
        placed=placed,
    )
    with placing(place, over=force) as part:
        part.file.write(session_bytes(made))
    return Mastered(part.path, target, came, went, reached.cost, reached.why_not, found)


@dataclass(frozen=True, kw_only=True)
class Song:
    """A session and its audio."""

    path: Path
    session: Session
    renderer: Renderer | None = None
    """Has its audio and what was rendered of it."""


@dataclass(frozen=True, kw_only=True)
class Track(Song):
    """A song of an album: how loud its result is."""

    figures: Figures


def song_of(path: Path, progress: Progress = no_progress) -> Song:
    """A session with its audio. Raises `GluvoError` if it cannot be read, or a part of it is missing."""
    session, material = opened(path, progress)
    for trouble in material.lacking(session).values():
        raise GluvoError(f"{path.name}: {trouble}")
    return Song(path=path, session=session, renderer=Renderer(material))


def track_of(path: Path, progress: Progress = no_progress) -> Track:
    """A session as a song of an album, measured. Raises as `song_of`."""
    song = song_of(path, lambda d: progress(0.5 * d))
    assert song.renderer is not None
    result = song.renderer.joint(song.renderer.plan(song.session).result, None, lambda d: progress(0.5 + 0.5 * d))
    return Track(path=path, session=song.session, renderer=song.renderer, figures=result.figures())


def deliver_track(
    track: Song,
    aim: Target | None,
    folder: Path,
    *,
    only: Collection[str] = (),
    force: bool = False,
    progress: Progress = no_progress,
    placed: Callable[[Path], object] | None = None,
) -> tuple[Delivered, ...]:
    """Deliver a song of an album; `aim`: the target of the rows that have none of their own, None for the session's."""
    session, renderer = track.session, track.renderer
    assert renderer is not None
    if aim is not None:
        rows = tuple(msgspec.structs.replace(d, target=d.target or aim) for d in session.deliverables)
        session = session.replace(deliverables=rows)
    return deliver_session(
        track.path,
        session,
        renderer.material,
        folder,
        only=only,
        force=force,
        renderer=renderer,
        progress=progress,
        placed=placed,
    )


def album_targets(tracks: Sequence[Track], target: Target, keep_differences: bool) -> tuple[Target, ...]:
    """What each track is to be brought to: all to the target, or moved together so that the loudest meets it.

    >>> album_targets((), Target(name="T"), True)
    ()
    """
    if not keep_differences:
        return tuple(target for _ in tracks)
    levels = [loudness_of(track.figures, target) for track in tracks]
    loudest = max(levels, default=0.0)
    return tuple(
        msgspec.structs.replace(target, loudness=max(-40.0, target.loudness + level - loudest)) for level in levels
    )


def spread(levels: Sequence[float]) -> float:
    """How far the loudest and the softest lie apart, LU."""
    return max(levels) - min(levels) if levels else 0.0
