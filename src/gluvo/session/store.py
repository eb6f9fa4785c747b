"""The session file: UTF-8 JSON, written whole or not at all."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import msgspec

from gluvo.errors import SessionError
from gluvo.session import alternatives
from gluvo.session.codec import Decoded, Format, round_trip
from gluvo.session.files import digest, read_whole, reason_of, replacing
from gluvo.session.records import Session
from gluvo.session.sounds import HIGHEST_RATE, LOWEST_RATE
from gluvo.session.tree import check
from gluvo.session.versions import states, states_of

SUFFIX = ".gluvo"
MOST_BYTES = 64_000_000
"""No session is larger; a file that is, is something else."""

FORMAT = Format("gluvo-session", Session, "session", SessionError)


@dataclass(frozen=True)
class Loaded:
    """A session as read, with what the file held besides."""

    session: Session
    kept: dict[str, Any] = field(default_factory=dict)
    """Keys that this version does not know; they are written again."""
    digest: str = ""
    """Of the file's content."""


def read_session(path: Path) -> Loaded:
    """Read and check a session file. Raises `SessionError` with what is wrong and where."""
    try:
        text = read_whole(path, MOST_BYTES)
    except FileNotFoundError:
        raise SessionError(f"{path.name} was not found in {path.absolute().parent}.") from None
    except (OSError, ValueError, RuntimeError) as error:
        raise SessionError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    return replace(_loaded(FORMAT.decoded(text, path.name), path.name), digest=digest(text))


def loaded_from(raw: Any, name: str) -> Loaded:
    """A session from decoded JSON; `name` is used in errors."""
    return _loaded(FORMAT.converted(raw, name), name)


def _loaded(found: Decoded[Session], name: str) -> Loaded:
    try:
        _check(found.record, name)
    except RecursionError:
        raise SessionError(f"{name} is nested too deeply.") from None
    return Loaded(found.record, found.unknown)


def _check(session: Session, name: str) -> None:
    parts = (
        *session.references,
        *session.sections,
        *session.strips,
        *session.prints,
        *session.items,
        *session.deliverables,
        *session.limits,
        *session.versions,
        *session.deliveries,
        *session.notes,
        *session.trials,
    )
    ids = [part.id for part in parts]
    if "" in ids or len(set(ids)) != len(ids):
        raise SessionError(f"{name} has two parts with the same id, or one without.")
    if session.rate and not LOWEST_RATE <= session.rate <= HIGHEST_RATE:
        raise SessionError(f"{name} runs at {session.rate / 1000:g} kHz; Gluvo works at 44.1 to 192 kHz.")
    for section in session.sections:
        if section.end <= section.start:
            raise SessionError(f"{name}: the section “{section.name}” ends before it starts.")
    for limit in session.limits:
        freqs = [freq for freq, _ in limit.points]
        if freqs[0] <= 0.0 or any(b <= a for a, b in itertools.pairwise(freqs)):
            raise SessionError(f"{name}: the points of “{limit.name}” are not in rising order of frequency.")
    whole = states(session)
    for version in session.versions:
        try:
            check(session.replace(strips=next(whole).strips))
        except (KeyError, SessionError) as error:
            raise SessionError(f"{name}: the version “{version.name}” is not whole ({error}).") from None
    delivered = states_of([d.state for d in session.deliveries])
    for one in session.deliveries:
        try:
            check(session.replace(strips=next(delivered).strips))
        except (KeyError, SessionError) as error:
            raise SessionError(f"{name}: what was delivered of “{one.row.name}” is not whole ({error}).") from None
    try:
        check(session)
    except SessionError as error:
        raise SessionError(f"{name}: {error}") from None
    for strip in session.strips:
        for of in (several.of or strip.id for several in strip.alternatives):
            for other in alternatives.each(session, of):
                ids = [item.id for item in other.items]
                if len(set(ids)) != len(ids):
                    raise SessionError(
                        f"{name}: an alternative in “{strip.name}” has a step that is in a chain already."
                    )


def session_bytes(session: Session, kept: dict[str, Any] | None = None) -> bytes:
    """The file's content: keys in the order of their declaration, unknown ones behind them, indented."""
    return FORMAT.encoded(session, kept)


def write_session(path: Path, session: Session, kept: dict[str, Any] | None = None) -> None:
    """Write a session. Raises `WriteError`; the old file stays as it was then."""
    write_bytes(path, session_bytes(session, kept))


def write_bytes(path: Path, content: bytes) -> None:
    """Write a file whole or not at all. Raises `WriteError`."""
    with replacing(path) as file:
        file.write(content)


def checked(session: Session) -> Session:
    """The session, if it could be written and read again. Raises `SessionError` with what is wrong with it.

    The one door that every session comes through, from a file or by an edit.
    """
    try:
        round_trip(session)
    except UnicodeEncodeError:
        raise SessionError("A name in it is not valid text (UTF-8). Rename the file or folder first.") from None
    except msgspec.ValidationError as error:
        raise SessionError(f"That is beyond what a session holds: {error}.") from None
    check(session)
    return session


def checked_whole(session: Session) -> Session:
    """As `checked`, and all that is asked of a file, too: for states that come from elsewhere than from an edit."""
    _check(checked(session), "The session")
    return session


def schema() -> dict[str, Any]:
    """The JSON Schema of a session file."""
    found = msgspec.json.schema(Session)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Gluvo session", **found}
