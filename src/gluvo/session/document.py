"""The open session: its history, its file, and listeners that are called after each change. Runs without a window."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, Unpack

import msgspec

from gluvo.errors import ChangedOutside, SessionError, WriteError
from gluvo.session.copies import LeftCopy, copies_left, discard, own_copy, sweep_histories
from gluvo.session.files import MOST_NAME, digest, read_whole, refuse_own, same_file
from gluvo.session.history import Entry, History, read_history, without_views, write_history
from gluvo.session.lock import Lock, is_held
from gluvo.session.media import place_of, relative_to
from gluvo.session.media_places import with_media
from gluvo.session.records import Media, Session, SessionEdit, View, ViewChanges
from gluvo.session.store import MOST_BYTES, Loaded, checked, checked_whole, read_session, session_bytes, write_bytes
from gluvo.session.tree import looking_at_what_is_there

BESIDE = 60
"""Bytes that the names of a session's history, lock and copies have besides its own."""
READ_ONLY = "This session is open in another window, so it cannot be changed here. Take it over, or save a copy."


class Document:
    """Holds the session. Every change makes a new value and is told to the listeners."""

    def __init__(
        self,
        session: Session,
        path: Path,
        kept: dict[str, Any] | None = None,
        *,
        saved: bool = False,
        lock: Lock | None = None,
    ) -> None:
        """`path` is where it will be saved, `saved` whether it is there already. `lock`: the right to write it; a
        document without one is nobody else's concern."""
        self._entries = [Entry("", session)]
        self._now = 0
        self._saved = session if saved else None
        self._session = session
        self._on_disk: str | None = None
        """The digest of the session file as it was last read or written here."""
        self.path = path
        self._folder = folder_of(path)
        self.kept = kept or {}
        self.lock = lock
        self.notes: list[str] = []
        """What whoever opened it should be told."""
        self._copy = own_copy(path)
        self._recovered: list[Path] = []
        """Copies that the work here goes on from; done with when it is saved."""
        self._writing = threading.RLock()
        self._listeners: list[Callable[[Session, Session], None]] = []
        self._lost: View | None = None
        """What was chosen when an undo took it away; looked at again when it is brought back."""

    @classmethod
    def open(cls, path: Path, lock: Lock | None = None) -> Document:
        """Open a session file, with its undo history. Without a `lock`, it is taken if no other window has it."""
        loaded: Loaded = read_session(path)
        document = cls(loaded.session, path, loaded.kept, saved=True, lock=lock or Lock(path))
        document._on_disk = loaded.digest
        try:
            history = read_history(path, loaded.digest)
        except SessionError as error:
            history = None
            document.notes.append(str(error))
        if history is not None and document._same_as(history.entries[history.now].session):
            document._entries = list(without_views(history.entries, history.view))
            document._now = history.now
            document._session = document._saved = looking_at_what_is_there(loaded.session.replace(view=history.view))
        return document

    @classmethod
    def new(cls, session: Session, path: Path) -> Document:
        """A session that has never been saved, and will be at `path`."""
        return cls(session, path, lock=Lock(path))

    @property
    def session(self) -> Session:
        return self._session

    @property
    def folder(self) -> Path:
        """What media paths are relative to: where the file itself lies, also if a link led to it."""
        return self._folder

    @property
    def ever_saved(self) -> bool:
        """Whether there is a file of it."""
        return self._saved is not None

    @property
    def changed(self) -> bool:
        """Whether there is anything unsaved. Where one looks and listens does not count."""
        return self._saved is None or not self._same_as(self._saved)

    @property
    def read_only(self) -> bool:
        """Whether another window works on the session."""
        return self.lock is not None and not self.lock.mine

    def take_over(self) -> None:
        """Become the window that works on the session. What is unsaved in the other one is for that one to keep."""
        if self.lock is not None:
            self.lock.take_over()

    def release(self) -> None:
        """Let other windows work on the session."""
        if self.lock is not None:
            self.lock.release()

    def listen(self, listener: Callable[[Session, Session], None]) -> None:
        """Call `listener(before, now)` after every change."""
        self._listeners.append(listener)

    # --- changes -------------------------------------------------------------------------------------------

    def edit(self, action: str, edit: SessionEdit, together: str | None = None) -> None:
        """Change the session by a named action that can be undone. No change, no entry.

        Raises `SessionError`, and changes nothing, if that would make a session that could not be played or read
        again, or if another window works on it.
        """
        session = edit(self._session)
        if session == self._session:
            return
        if self.read_only:
            raise SessionError(READ_ONLY)
        checked(session)
        self._lost = None
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
        if self.read_only:
            return
        session = edit(self._session)
        entry = self._entries[self._now]
        self._entries[self._now] = Entry(entry.action, session, entry.together)
        self._become(session)

    def keep(self, edit: SessionEdit) -> None:
        """Change what undo does not take back, such as the versions that are kept: in every state of the history alike.

        Raises `SessionError` as `edit` does.
        """
        session = edit(self._session)
        if session == self._session:
            return
        if self.read_only:
            raise SessionError(READ_ONLY)
        checked(session)
        self._entries = [Entry(e.action, edit(e.session), e.together) for e in self._entries]
        self._become(session)

    def settle(self) -> None:
        """End a run of actions that count as one."""
        last = self._entries[self._now]
        self._entries[self._now] = Entry(last.action, last.session)

    def look(self, **changes: Unpack[ViewChanges]) -> None:
        """Change the view; nothing to undo."""
        if {"strip", "step"} & set(changes):
            self._lost = None
        self._become(self._session.looking(**changes))

    @property
    def place_in_history(self) -> tuple[int, int]:
        """The present state's place in the history, and how many states there are: others after an edit, an undo or a redo,
        the same after an amendment."""
        return self._now, len(self._entries)

    @property
    def before(self) -> Session | None:
        """The session before the last action."""
        return self._entries[self._now - 1].session if self._now > 0 else None

    @property
    def undo_name(self) -> str | None:
        return self._entries[self._now].action if self._now > 0 else None

    @property
    def redo_name(self) -> str | None:
        return self._entries[self._now + 1].action if self._now + 1 < len(self._entries) else None

    def undo(self) -> None:
        if self._now > 0 and not self.read_only:
            self._go(self._now - 1)

    def redo(self) -> None:
        if self._now + 1 < len(self._entries) and not self.read_only:
            self._go(self._now + 1)

    # --- its file ------------------------------------------------------------------------------------------

    @property
    def changed_outside(self) -> bool:
        """Whether the session file is another than was last read or written here. One that is gone is not."""
        try:
            now = digest(read_whole(self.path, MOST_BYTES))
        except (OSError, ValueError):
            return False
        return now != self._on_disk

    def save(self, path: Path | None = None, *, replace: bool = False) -> None:
        """Write the session with its history, to another place if one is given; the copies of it are done with.

        Media stay where they are; the session refers to them from its new place. Raises `ChangedOutside` if the file
        is not the one that was read here, unless it is to be replaced; `SessionError` if another window works on
        it; `WriteError` if it cannot be written. Then nothing has changed.
        """
        self.write(path, replace=replace)()

    def write(self, path: Path | None = None, *, replace: bool = False) -> Callable[[], None]:
        """As `save`, but only what takes time, for a thread of its own; what is given back is to be called by whoever else
        works with the document, and makes it the saved one."""
        now, entries, at = self._session, tuple(self._entries), self._now
        elsewhere = path is not None and not same_file(path, self.path)
        path = path if path is not None and elsewhere else self.path
        if len(os.fsencode(path.name)) > MOST_NAME - BESIDE:
            raise WriteError(f"The name {path.name[:20]}… is too long: {MOST_NAME - BESIDE} bytes is the most.")
        refuse_own(path, (place_of(media, self.folder) for media in self.session.media))
        mine = self.lock is not None and elsewhere and self.lock.follow(path)
        if (elsewhere and not mine and is_held(path)) or (not elsewhere and self.read_only):
            raise SessionError(f"{path.name} is open in another window, so it was not written. Save a copy instead.")
        if not elsewhere and not replace and self.changed_outside:
            raise ChangedOutside(f"{path.name} has been changed outside of this window since it was opened.")
        old, new = self.folder, folder_of(path)
        moved = new != old.resolve()
        session = relocated(now, old, new) if moved else now
        entries = (
            tuple(Entry(e.action, relocated(e.session, old, new), e.together) for e in entries) if moved else entries
        )
        checked_whole(session)  # nothing is saved that could not be read again
        with self._writing:
            content = session_bytes(session, self.kept)
            write_bytes(path, content)
            of = digest(content)
            write_history(path, History(entries, at, session.view), of)
            for copy in (self._copy, *self._recovered):
                discard(copy)
            sweep_histories(path)
        lock = Lock(path) if elsewhere and not mine else self.lock

        def done() -> None:
            self._on_disk, self._saved = of, session
            self._recovered.clear()
            if moved:
                self._entries = [Entry(e.action, relocated(e.session, old, new), e.together) for e in self._entries]
            if elsewhere:
                if not mine:
                    self.release()
                self.path, self.lock, self._copy, self._folder = path, lock, own_copy(path), new
            self._become(relocated(self._session, old, new) if moved else self._session)

        return done

    def save_history(self) -> None:
        """Write the undo history, and where one is looking, beside the session; if what is saved is what is here.

        Raises `WriteError`.
        """
        if self._on_disk is None or self.changed or self.read_only or self.changed_outside:
            return
        write_history(self.path, History(tuple(self._entries), self._now, self._session.view), self._on_disk)

    # --- copies of unsaved work ----------------------------------------------------------------------------

    def autosave(self) -> Path | None:
        """Keep a copy beside the session if anything is unsaved. May be called from a thread of its own."""
        with self._writing:
            if not self.changed or self.read_only:
                return None
            now = History(tuple(self._entries), self._now, self._session.view)
            content = session_bytes(self._session, self.kept)
            write_bytes(self._copy, content)
            with contextlib.suppress(WriteError):  # the work itself is safe by now
                write_history(self._copy, now, digest(content))
            return self._copy

    def discard_autosave(self) -> None:
        """Give up what is unsaved here."""
        with self._writing:
            self._saved = self._session
            for copy in (self._copy, *self._recovered):
                discard(copy)

    def copies_left(self) -> list[LeftCopy]:
        """Copies of unsaved work that a window which is gone left of this session, the newest first."""
        if self.read_only:
            return []
        return [left for left in copies_left(self.path, self._saved) if left.path != self._copy]

    def recover(self, copy: LeftCopy) -> None:
        """Go on from a copy of unsaved work, as one action that can be undone.

        The copy itself stays until what came of it is saved or given up.
        """
        if copy.session is None:
            raise SessionError(f"The unsaved work cannot be read. {copy.problem}")
        session = copy.session
        if not self._with_history_of(copy):
            self.edit("Recover unsaved work", lambda now: session.replace(view=now.view))
        self._recovered.append(copy.path)

    def go_on_from(self, copy: LeftCopy) -> None:
        """Note that the session here is what a copy of unsaved work held."""
        self._with_history_of(copy)
        self._recovered.append(copy.path)

    def _with_history_of(self, copy: LeftCopy) -> bool:
        """Go on from a copy of unsaved work with the undo history that was kept with it, if there is one that can be read."""
        if self.read_only or copy.session is None:
            return False
        try:
            found = read_history(copy.path, copy.digest)
        except SessionError:
            return False
        wanted = copy.session.replace(view=self._session.view)
        if found is None or found.entries[found.now].session.replace(view=wanted.view) != wanted:
            return False
        self._entries, self._now = list(without_views(found.entries, wanted.view)), found.now
        self._become(wanted)
        return True

    def take_theirs(self) -> None:
        """Go on from what somebody else has written into the session file, as one action that can be undone."""
        loaded = read_session(self.path)
        self.edit("Take what is on disk", lambda now: loaded.session.replace(view=now.view))
        self.kept, self._on_disk, self._saved = loaded.kept, loaded.digest, loaded.session

    def _same_as(self, other: Session) -> bool:
        return self._session.replace(view=other.view) == other

    def _go(self, index: int) -> None:
        """Go to a state of the history. What it has not is no longer chosen: where the chosen strip is gone, what was chosen
        when the later of the two states was made is looked at again; and what was chosen now, if it is brought back."""
        later, session, view = (
            self._entries[max(index, self._now)].session,
            self._entries[index].session,
            self._session.view,
        )
        lost, self._lost = self._lost, None
        if not _is_there(session, view):
            self._lost = view
            if session.strip(view.strip) is None and _is_there(session, later.view):
                view = msgspec.structs.replace(view, strip=later.view.strip, step=later.view.step, band=later.view.band)
        elif lost is not None and _is_there(session, lost):
            view = msgspec.structs.replace(view, strip=lost.strip, step=lost.step, band=lost.band)
        elif lost is not None:
            self._lost = lost
        self._now = index
        self._become(session.replace(view=view))

    def _become(self, session: Session) -> None:
        session = looking_at_what_is_there(session, self._session)
        before, self._session = self._session, session
        if before != session:
            for listener in self._listeners:
                listener(before, session)


def _is_there(session: Session, view: View) -> bool:
    """Whether a session has the strip and the step that a view has chosen."""
    return session.strip(view.strip) is not None and (not view.step or session.item(view.step) is not None)


def folder_of(path: Path) -> Path:
    """The folder that a session's media are relative to."""
    return path.resolve().parent if path.is_symlink() else path.absolute().parent.resolve()


def relocated(session: Session, old: Path, new: Path) -> Session:
    """The same session, referring to its media from folder `new` instead of `old`."""
    if old == new:
        return session

    def moved(media: Media) -> Media:
        if not place_of(media, old).exists() and place_of(media, new).exists():
            return media  # the folder was moved as a whole
        return msgspec.structs.replace(media, path=relative_to(place_of(media, old), new))

    cover = session.tags.cover
    if cover and (old / cover).exists():
        cover = relative_to(old / cover, new)
    return with_media(session, moved).replace(tags=msgspec.structs.replace(session.tags, cover=cover))
