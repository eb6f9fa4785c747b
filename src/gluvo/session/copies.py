"""Copies of unsaved work: each window writes its own, and none is taken away before its work is safe or given up."""

from __future__ import annotations

import contextlib
import glob
import secrets
from dataclasses import dataclass
from pathlib import Path

from gluvo.errors import SessionError
from gluvo.session.history import HISTORY, history_of
from gluvo.session.lock import is_held
from gluvo.session.records import Session
from gluvo.session.store import read_session

SUFFIX = ".autosave"


def own_copy(path: Path) -> Path:
    """A place for one window's copy of its unsaved work on the session at `path`; no other window has the same."""
    path = path.resolve()
    return path.with_name(f".{path.name}.{secrets.token_hex(4)}{SUFFIX}")


@dataclass(frozen=True)
class LeftCopy:
    """A copy of unsaved work that no window looks after any more."""

    path: Path
    session: Session | None
    """None where it cannot be read."""
    problem: str = ""
    """Why it cannot be read."""
    digest: str = ""
    """Of the copy's content."""


def discard(copy: Path) -> None:
    """A copy is no longer needed. Where it cannot be taken away, it stays."""
    with contextlib.suppress(OSError):
        copy.unlink(missing_ok=True)
        history_of(copy).unlink(missing_ok=True)


def sweep_histories(path: Path) -> None:
    """Take away undo histories of copies of the session at `path` that are gone: a kill may leave the one without the other.
    For the window that holds its lock."""
    path = path.resolve()
    with contextlib.suppress(OSError):
        for history in path.parent.glob(f"..{glob.escape(path.name)}.*{SUFFIX}{HISTORY}"):
            if not history.with_name(history.name.removeprefix(".").removesuffix(HISTORY)).exists():
                history.unlink(missing_ok=True)


def copies_left(path: Path, saved: Session | None) -> list[LeftCopy]:
    """The copies of unsaved work on the session at `path`, the newest first. For the window that holds its lock.

    They are told by what they hold, not by their times: copies of nothing but what is `saved` are taken away.
    """
    path = path.resolve()
    sweep_histories(path)
    found: list[tuple[int, LeftCopy]] = []
    for place, changed in _copies_in(path.parent):
        if session_name(place) != path.name:
            continue
        try:
            loaded = read_session(place)
            session = loaded.session
        except SessionError as error:
            found.append((changed, LeftCopy(place, None, str(error))))
            continue
        if saved is not None and session.replace(view=saved.view) == saved:
            discard(place)
        else:
            found.append((changed, LeftCopy(place, session, digest=loaded.digest)))
    return [left for _, left in sorted(found, key=lambda pair: -pair[0])]


def unsaved_near(folder: Path) -> list[Path]:
    """The sessions in a folder of which unsaved work was left and no window looks after, ever saved or not."""
    found = {folder / session_name(place): None for place, _ in _copies_in(folder)}
    return [path for path in found if not is_held(path)]


def session_name(copy: Path) -> str:
    """The name of the session file that a copy belongs to."""
    name = copy.name.removeprefix(".").removesuffix(SUFFIX)
    stem, _, token = name.rpartition(".")
    return stem if len(token) == 8 and stem else name


def _copies_in(folder: Path) -> list[tuple[Path, int]]:
    """The copies in a folder and when they were written."""
    try:
        return [
            (p, p.stat().st_mtime_ns)
            for p in sorted(folder.iterdir())
            if p.name.startswith(".") and p.name.endswith(SUFFIX)
        ]
    except OSError:
        return []
