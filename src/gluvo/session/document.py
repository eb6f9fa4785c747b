"""The open session: its history, its file, and who wants to know of changes. Runs without a window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from gluvo.session.media import place_of, relative_to
from gluvo.session.records import Media, Session, SessionEdit, Stem
from gluvo.session.store import Loaded, read_session, write_session
from gluvo.session.tree import check, looking_at_what_is_there


@dataclass(frozen=True)
class Entry:
    """A state of the session and the action that made it."""

    action: str
    session: Session
    together: str | None = None
    """Actions with the same key follow one another as one, such as the moves of a drag."""


class Document:
    """Holds the session. Every change makes a new value and is told to the listeners."""

    def __init__(
        self, session: Session, path: Path, kept: dict[str, Any] | None = None, *, saved: bool = False
    ) -> None:
        """`path` is where it will be saved, `saved` whether it is there already."""
        self._entries = [Entry("", session)]
        self._now = 0
        self._saved = session if saved else None
        self._session = session
        self.path = path
        self.kept = kept or {}
        self._listeners: list[Callable[[Session, Session], None]] = []

    @classmethod
    def open(cls, path: Path) -> Document:
        """Open a session file, or what was autosaved of it (see `autosave_of`)."""
        loaded: Loaded = read_session(path)
        return cls(loaded.session, path, loaded.kept, saved=True)

    @property
    def session(self) -> Session:
        return self._session

    @property
    def folder(self) -> Path:
        """What media paths are relative to."""
        return self.path.parent

    @property
    def changed(self) -> bool:
        """Whether there is anything unsaved. Where one looks and listens does not count."""
        return self._saved is None or self._session.replace(view=self._saved.view) != self._saved

    def listen(self, listener: Callable[[Session, Session], None]) -> None:
        """Call `listener(before, now)` after every change."""
        self._listeners.append(listener)

    def edit(self, action: str, edit: SessionEdit, together: str | None = None) -> None:
        """Change the session by a named action that can be undone. No change, no entry.

        Raises `SessionError`, and changes nothing, if that would make a tree that cannot be played.
        """
        session = edit(self._session)
        if session == self._session:
            return
        if session.strips is not self._session.strips:
            check(session)
        del self._entries[self._now + 1 :]
        last = self._entries[-1]
        if together is not None and last.together == together and self._now > 0:
            self._entries[-1] = Entry(last.action, session, together)
        else:
            self._entries.append(Entry(action, session, together))
            self._now += 1
        self._become(session)

    def amend(self, edit: SessionEdit) -> None:
        """Change the session as part of the last action, for what follows from it."""
        session = edit(self._session)
        entry = self._entries[self._now]
        self._entries[self._now] = Entry(entry.action, session, entry.together)
        self._become(session)

    def settle(self) -> None:
        """End a run of actions that count as one."""
        last = self._entries[self._now]
        self._entries[self._now] = Entry(last.action, last.session)

    def look(self, **changes: object) -> None:
        """Change the view; nothing to undo."""
        self._become(self._session.looking(**changes))

    @property
    def undo_name(self) -> str | None:
        return self._entries[self._now].action if self._now > 0 else None

    @property
    def redo_name(self) -> str | None:
        return self._entries[self._now + 1].action if self._now + 1 < len(self._entries) else None

    def undo(self) -> None:
        if self._now > 0:
            self._go(self._now - 1)

    def redo(self) -> None:
        if self._now + 1 < len(self._entries):
            self._go(self._now + 1)

    def save(self, path: Path | None = None) -> None:
        """Write the session, to another place if one is given; the autosaved copy is done with.

        Media stay where they are; the session refers to them from its new place.
        """
        path = path or self.path
        if path.parent != self.folder:
            old, new = self.folder, path.parent
            self._entries = [Entry(e.action, relocated(e.session, old, new), e.together) for e in self._entries]
        session = relocated(self._session, self.folder, path.parent)
        write_session(path, session, self.kept)
        self.discard_autosave()
        self.path = path
        self._saved = session
        self._become(session)

    def autosave(self) -> Path | None:
        """Keep a copy beside the session if anything is unsaved."""
        if not self.changed:
            return None
        write_session(autosave_of(self.path), self._session, self.kept)
        return autosave_of(self.path)

    def discard_autosave(self) -> None:
        """The copy is no longer needed."""
        autosave_of(self.path).unlink(missing_ok=True)

    def recover(self) -> None:
        """Go on from the autosaved copy, as one action that can be undone."""
        copy = read_session(autosave_of(self.path)).session
        self.edit("Recover unsaved work", lambda _: copy)

    def _go(self, index: int) -> None:
        self._now = index
        self._become(self._entries[index].session.replace(view=self._session.view))

    def _become(self, session: Session) -> None:
        session = looking_at_what_is_there(session)
        before, self._session = self._session, session
        if before != session:
            for listener in self._listeners:
                listener(before, session)


def relocated(session: Session, old: Path, new: Path) -> Session:
    """The same session, referring to its media from folder `new` instead of `old`."""
    if old == new:
        return session

    def moved(media: Media) -> Media:
        return msgspec.structs.replace(media, path=relative_to(place_of(media, old), new))

    return session.replace(
        strips=tuple(
            msgspec.structs.replace(s, media=moved(s.media)) if isinstance(s, Stem) else s for s in session.strips
        ),
        references=tuple(msgspec.structs.replace(r, media=moved(r.media)) for r in session.references),
    )


def autosave_of(path: Path) -> Path:
    """Where unsaved work on a session is kept."""
    return path.with_name(f".{path.name}.autosave")


def recoverable(path: Path) -> bool:
    """Whether a crash left unsaved work that is newer than the session."""
    copy = autosave_of(path)
    return copy.exists() and (not path.exists() or copy.stat().st_mtime_ns >= path.stat().st_mtime_ns)
