"""The session file: UTF-8 JSON, written whole or not at all."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import msgspec

from gluvo.errors import SessionError
from gluvo.session.files import digest, read_whole, reason_of, replacing
from gluvo.session.migrations import brought_up
from gluvo.session.records import VERSION, Session
from gluvo.session.sounds import HIGHEST_RATE, LOWEST_RATE
from gluvo.session.tree import check
from gluvo.session.versions import states

SUFFIX = ".gluvo"
_converting = threading.Lock()
"""The library learns a type when it first meets it, and two threads that meet it at once end the process."""
MOST_BYTES = 64_000_000
"""No session is larger; a file that is, is something else."""


def _holds_belong_to_sections(raw: dict[str, Any]) -> dict[str, Any]:
    """Version 1 found held settings in the section that was looked at."""
    view = raw.get("view")
    section = view.get("section", "") if isinstance(view, dict) else ""

    def belonging(item: Any) -> Any:
        if not isinstance(item, dict):
            return item
        item = {**item, "steps": [belonging(i) for i in item["steps"]]} if isinstance(item.get("steps"), list) else item
        held = item.get("hold_aim") or item.get("hold_loudness", item.get("step") == "saturation")
        return {**item, "held_in": section} if held else item

    strips = raw.get("strips")
    if isinstance(strips, list):
        strips = [
            {**s, "chain": [belonging(i) for i in s["chain"]]}
            if isinstance(s, dict) and isinstance(s.get("chain"), list)
            else s
            for s in strips
        ]
        raw = {**raw, "strips": strips}
    return {**raw, "version": 2}


def _settings_have_new_names(raw: dict[str, Any]) -> dict[str, Any]:
    """Version 2 had other names for some settings."""
    return {**brought_up(raw), "version": 3}


MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    1: _holds_belong_to_sections,
    2: _settings_have_new_names,
}
"""From a version to the next one."""


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
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise SessionError(f"{path.name} is not a session file: it is not JSON ({error}).") from None
    except RecursionError:
        raise SessionError(f"{path.name} is not a session file: it is nested too deeply.") from None
    try:
        return replace(loaded_from(raw, path.name), digest=digest(text))
    except RecursionError:
        raise SessionError(f"{path.name} is nested too deeply.") from None


def loaded_from(raw: Any, name: str) -> Loaded:
    """A session from decoded JSON; `name` is used in errors."""
    if not isinstance(raw, dict) or raw.get("format") != "gluvo-session":
        raise SessionError(f"{name} is not a Gluvo session.")
    version = raw.get("version")
    if not isinstance(version, int) or version < 1:
        raise SessionError(f"{name} has no valid version number.")
    if version > VERSION:
        raise SessionError(
            f"{name} was made by a newer Gluvo (session version {version}, this one reads up to {VERSION}). "
            "Update Gluvo to open it."
        )
    while version < VERSION:
        raw = MIGRATIONS[version](raw)
        version += 1
    try:
        with _converting:
            session = msgspec.convert(raw, Session)
    except msgspec.ValidationError as error:
        raise SessionError(f"{name} has a value that makes no sense: {error}.") from None
    _check(session, name)
    return Loaded(session, unknown_in(raw, msgspec.to_builtins(session)))


def _check(session: Session, name: str) -> None:
    parts = (
        *session.references,
        *session.sections,
        *session.strips,
        *session.items,
        *session.deliverables,
        *session.limits,
        *session.versions,
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
    try:
        check(session)
    except SessionError as error:
        raise SessionError(f"{name}: {error}") from None


def session_bytes(session: Session, kept: dict[str, Any] | None = None) -> bytes:
    """The file's content: keys in the order of their declaration, unknown ones behind them, indented."""
    plain = merged(msgspec.to_builtins(session), kept or {})
    return msgspec.json.format(msgspec.json.encode(plain), indent=2) + b"\n"


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
        with _converting:
            msgspec.json.decode(msgspec.json.encode(session), type=Session)
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


def unknown_in(raw: Any, known: Any) -> dict[str, Any]:
    """Keys of `raw` that `known` lacks, at any depth. Parts of lists are found again by their id."""
    found: dict[str, Any] = {}
    for key, value in raw.items():
        if key not in known:
            found[key] = value
        elif isinstance(value, dict) and isinstance(known[key], dict):
            if inner := unknown_in(value, known[key]):
                found[key] = inner
        elif isinstance(value, list):
            pairs = ((v, k) for v, k in zip(value, known[key], strict=True) if isinstance(v, dict) and "id" in v)
            if inner := {v["id"]: rest for v, k in pairs if (rest := unknown_in(v, k))}:
                found[key] = inner
    return found


def merged(known: Any, kept: dict[str, Any]) -> Any:
    """`known` with the kept keys put back; those of parts that are gone are dropped."""
    result = dict(known)
    for key, value in kept.items():
        if key not in result:
            result[key] = value
        elif isinstance(result[key], dict):
            result[key] = merged(result[key], value)
        elif isinstance(result[key], (list, tuple)):
            result[key] = [merged(v, value[v["id"]]) if v.get("id") in value else v for v in result[key]]
    return result


def schema() -> dict[str, Any]:
    """The JSON Schema of a session file."""
    found = msgspec.json.schema(Session)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Gluvo session", **found}
