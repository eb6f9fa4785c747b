"""Prints: the states of a stem's audio, such as a first rough mix and the one that came after it.

The stem has the audio of one of them; the session keeps all. Versions and deliveries hold strips, and so remember theirs.
"""

from __future__ import annotations

import msgspec

from gluvo.errors import SessionError
from gluvo.session.records import Media, Print, Session, Stem
from gluvo.steps.settings import MOST_NAME

MOST = 100
"""Prints of one stem."""


def of(session: Session, stem: str) -> tuple[Print, ...]:
    """The prints of a stem, the oldest first; the one that it has is as the stem has it now. None where only one was ever
    brought in."""
    strip = session.strip(stem)
    if not isinstance(strip, Stem):
        return ()
    found = (p for p in session.prints if p.stem == stem)
    return tuple(_as_in(p, strip) if p.media.sha256 == strip.media.sha256 else p for p in found)


def in_place(session: Session, stem: Stem) -> Print | None:
    """The print that a stem has, if it has several."""
    return next((p for p in of(session, stem.id) if p.media.sha256 == stem.media.sha256), None)


def found(session: Session, id: str) -> Print | None:
    """A print of a stem that is there, by its id."""
    listed = next((p for p in session.prints if p.id == id), None)
    return None if listed is None else next((p for p in of(session, listed.stem) if p.id == id), None)


def name_of(session: Session, stem: Stem) -> str:
    """What the audio that a stem has is called: its print, or its file."""
    there = in_place(session, stem)
    return there.name if there is not None else stem.media.path.rsplit("/", 1)[-1]


def with_print(
    session: Session, stem: str, name: str, media: Media, offset: float, mono: bool, made: str
) -> tuple[Session, Print]:
    """The session with a further print of a stem, which the stem has from now on, and that. The one that it had becomes its
    first, if there was none. `made`: ISO 8601, local. Raises `SessionError` where it cannot be."""
    strip = session.strip(stem)
    if not isinstance(strip, Stem):
        raise SessionError("Only stems have prints; choose one, or the mix that was brought in.")
    there = of(session, stem)
    if media.sha256 == strip.media.sha256 or any(p.media.sha256 == media.sha256 for p in there):
        same = next((p.name for p in there if p.media.sha256 == media.sha256), "what is there")
        raise SessionError(f"{media.path.rsplit('/', 1)[-1]} is the very same audio as {same}.")
    if len(there) >= MOST:
        raise SessionError(f"{strip.name} has {MOST} prints already. Remove one first.")
    if not there:
        own = strip.media.path.rsplit("/", 1)[-1].rsplit(".", 1)[0][:MOST_NAME]
        first = Print(
            id=session.fresh_id("print"),
            stem=stem,
            name=own,
            media=strip.media,
            offset=strip.offset,
            mono=strip.mono,
        )
        session = session.replace(prints=(*session.prints, first))
    new = Print(
        id=session.fresh_id("print"),
        stem=stem,
        name=_free(name[:MOST_NAME] or "Print", {p.name for p in of(session, stem)}),
        media=media,
        offset=offset,
        mono=mono,
        made=made,
    )
    return choosing(session.replace(prints=(*session.prints, new)), new.id), new


def choosing(session: Session, id: str) -> Session:
    """The session with another print in its stem's place; where the present one begins is remembered."""
    wanted = found(session, id)
    strip = session.strip(wanted.stem) if wanted is not None else None
    if wanted is None or not isinstance(strip, Stem):
        return session
    kept = tuple(_as_in(p, strip) if _is_in(p, strip) else p for p in session.prints)
    stem = msgspec.structs.replace(strip, media=wanted.media, offset=wanted.offset, mono=wanted.mono)
    return session.replace(prints=kept).with_strip(stem)


def after(session: Session, stem: str) -> Print | None:
    """The print that comes after the one that a stem has, round and round; None where there is no other."""
    there, strip = of(session, stem), session.strip(stem)
    if len(there) < 2 or not isinstance(strip, Stem):
        return None
    now = next((n for n, p in enumerate(there) if _is_in(p, strip)), -1)
    return there[(now + 1) % len(there)]


def renamed(session: Session, id: str, name: str) -> Session:
    """A print of another name."""
    name = name.strip()[:MOST_NAME]
    if not name:
        return session
    return session.replace(
        prints=tuple(msgspec.structs.replace(p, name=name) if p.id == id else p for p in session.prints)
    )


def without(session: Session, id: str) -> Session:
    """The session without a print; its file stays. Raises `SessionError` for the one that the stem has."""
    gone = found(session, id)
    strip = session.strip(gone.stem) if gone is not None else None
    if gone is not None and isinstance(strip, Stem) and _is_in(gone, strip):
        raise SessionError(f"{gone.name} is what {strip.name} has now. Use another print first.")
    return session.replace(prints=tuple(p for p in session.prints if p.id != id))


def _is_in(one: Print, stem: Stem) -> bool:
    return one.stem == stem.id and one.media.sha256 == stem.media.sha256


def _as_in(one: Print, stem: Stem) -> Print:
    """A print as its stem has it now."""
    return msgspec.structs.replace(one, media=stem.media, offset=stem.offset, mono=stem.mono)


def _free(name: str, taken: set[str]) -> str:
    return name if name not in taken else next(new for n in range(2, MOST + 2) if (new := f"{name} {n}") not in taken)
