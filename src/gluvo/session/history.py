"""The undo history of a session, kept beside it: what each action changed, and nothing twice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from gluvo.errors import GluvoError, SessionError
from gluvo.session.codec import Format
from gluvo.session.files import read_whole, reason_of, replacing
from gluvo.session.migrations import VERSION
from gluvo.session.records import AnyStrip, Session, View
from gluvo.session.store import checked_whole

MOST_ENTRIES = 200
HISTORY = ".history"
MOST_READ = 64_000_000
"""Bytes: no history is longer; a file that is, is something else."""
MOST_BYTES = 4_000_000
"""A longer history loses its oldest actions."""


@dataclass(frozen=True)
class Entry:
    """A state of the session and the action that made it."""

    action: str
    session: Session
    together: str | None = None
    """Actions with the same key follow one another as one, such as the moves of a drag."""


@dataclass(frozen=True)
class History:
    """All states that can be gone back or forward to, which of them is the present one, and where one was looking."""

    entries: tuple[Entry, ...]
    now: int
    view: View


class _Kept(msgspec.Struct, kw_only=True):
    """An entry as it is written: only what differs from the entry before it."""

    action: str = ""
    changes: dict[str, Any] = {}
    order: list[str] = []
    """The ids of all strips in their order."""
    strips: list[AnyStrip] = []
    """Those that differ."""


class _File(msgspec.Struct, kw_only=True):
    format: str = "gluvo-history"
    version: int = VERSION
    of: str = ""
    """The SHA-256 of the session file that it goes with."""
    now: int = 0
    view: View = View()
    entries: list[_Kept] = []


FORMAT = Format("gluvo-history", _File, "undo history", SessionError, versions=(2, 3), unversioned=1)


def history_of(path: Path) -> Path:
    """Where the history of a session is kept."""
    path = path.resolve()
    return path.with_name(f".{path.name}{HISTORY}")


def write_history(path: Path, history: History, of: str) -> None:
    """Keep the history of the session at `path`, whose file's digest is `of`. Raises `WriteError`."""
    content = history_bytes(history, of)
    with replacing(history_of(path)) as file:
        file.write(content)


def history_bytes(history: History, of: str) -> bytes:
    """The file's content. It keeps at most `MOST_ENTRIES` and about `MOST_BYTES`, the newest of them."""
    first = max(0, history.now - MOST_ENTRIES + 1)
    entries, now = history.entries[first : first + MOST_ENTRIES], history.now - first
    while True:
        kept = [_difference(before, entry) for before, entry in zip((None, *entries), entries, strict=False)]
        content = FORMAT.encoded(_File(of=of, now=now, view=history.view, entries=kept), indent=None)
        if len(content) <= MOST_BYTES or len(entries) < 2:
            return content
        half = max(1, len(entries) // 2)
        drop = min(half, now)
        entries, now = (entries[drop:], now - drop) if drop else (entries[:half], now)


def read_history(path: Path, of: str) -> History | None:
    """The history that was kept of the session at `path`; None if there is none, or it goes with another content.

    Raises `SessionError` if it cannot be read.
    """
    try:
        content = read_whole(history_of(path), MOST_READ)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise SessionError(f"The undo history cannot be read ({reason_of(error)}).") from None
    try:
        file = FORMAT.decoded(content, "The undo history").record
        if file.of != of:
            return None
        entries: list[Entry] = []
        for kept in file.entries:
            state = _applied(entries[-1].session if entries else Session(), kept)
            entries.append(Entry(kept.action, checked_whole(state)))
        if not 0 <= file.now < len(entries):
            raise ValueError("no present state")
    except (msgspec.MsgspecError, ValueError, KeyError, GluvoError, RecursionError, UnicodeDecodeError):
        raise SessionError("The undo history is damaged, so it starts anew.") from None
    return History(tuple(entries), file.now, file.view)


def _difference(before: Entry | None, entry: Entry) -> _Kept:
    old, new = (before.session if before is not None else Session()), entry.session
    changes = {
        name: value
        for name in new.__struct_fields__
        if name not in ("strips", "view") and (value := getattr(new, name)) != getattr(old, name)
    }
    known = {strip.id: strip for strip in old.strips}
    strips = [s for s in new.strips if known.get(s.id) is not s and known.get(s.id) != s]
    return _Kept(action=entry.action, changes=changes, order=[s.id for s in new.strips], strips=strips)


def _applied(old: Session, kept: _Kept) -> Session:
    hints: dict[str, Any] = {f.name: f.type for f in msgspec.structs.fields(Session)}
    changes = {name: msgspec.convert(value, hints[name]) for name, value in kept.changes.items()}
    strips = {strip.id: strip for strip in (*old.strips, *kept.strips)}
    return old.replace(strips=tuple(strips[id] for id in kept.order), **changes)


def without_views(entries: Sequence[Entry], view: View) -> tuple[Entry, ...]:
    """Entries that all look at the same place, since looking is no action."""
    return tuple(Entry(e.action, e.session.replace(view=view), e.together) for e in entries)
