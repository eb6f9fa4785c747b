"""What was delivered: each file with its content, its time, its figures, and the state of the session that made it."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum
from pathlib import Path

import msgspec

from gluvo.errors import AudioFileError
from gluvo.progress import Progress, no_progress
from gluvo.session import versions
from gluvo.session.digests import digest_of
from gluvo.session.files import reason_of
from gluvo.session.media import place_of, relative_to
from gluvo.session.records import Deliverable, Delivered, DeliveredFile, Media, Session, Version
from gluvo.session.versions import State

MOST = 1000
"""Deliveries that a session keeps; the oldest go."""


class Lies(Enum):
    """How a file that was delivered is found."""

    THERE = "there"
    GONE = "gone"
    ANOTHER = "another"
    """Another file lies there."""

    @property
    def words(self) -> str:
        """What has become of the file."""
        return {"there": "as it was written", "gone": "gone", "another": "another file than was written"}[self.value]


def kept(
    session: Session, made: str, written: Sequence[tuple[Deliverable, Sequence[DeliveredFile]]], of: Session
) -> Session:
    """The session with what was just written from a state `of` it. `made`: ISO 8601, local."""
    there = _states(session.deliveries)
    new, held = list(session.deliveries), list(there)
    for row, files in written:
        if files:
            id = session.replace(deliveries=tuple(new)).fresh_id("delivered")
            new.append(Delivered(id=id, made=made, row=row, files=tuple(files), sections=of.sections))
            held.append(State(of.strips, of.target))
    new, held = new[-MOST:], held[-MOST:]
    states = versions.differing([Version(id=d.id, name="") for d in new], held)
    return session.replace(
        deliveries=tuple(msgspec.structs.replace(d, state=state) for d, state in zip(new, states, strict=True))
    )


def latest(session: Session, row: str) -> Delivered | None:
    """What was last delivered of a row."""
    return next((d for d in reversed(session.deliveries) if d.row.id == row), None)


def session_of(session: Session, delivered: Delivered) -> Session:
    """The session as it was when something was delivered: strips, target, sections and the row."""
    for other, state in zip(session.deliveries, _states(session.deliveries), strict=True):
        if other.id == delivered.id:
            rows = tuple(delivered.row if d.id == delivered.row.id else d for d in session.deliverables)
            return session.replace(
                strips=state.strips, target=state.target, sections=delivered.sections, deliverables=rows
            )
    return session


def changes_since(session: Session, delivered: Delivered) -> tuple[str, ...]:
    """What of the session is another now than when something was delivered, in a few words each; nothing, if the file would
    be the same."""
    before = session_of(session, delivered)
    told = [f"{d.where}: {d.what}" for d in versions.differences(before, session) if d.what != "name"]
    was, now = ({id: (start, end) for id, start, end in s.sound[1]} for s in (before, session))
    moved = any(was[id] != now[id] for id in was.keys() & now.keys())
    if moved or (delivered.row.scope != "song" and before.sections != session.sections):
        told.append("the sections")
    row = next((d for d in session.deliverables if d.id == delivered.row.id), None)
    if row is not None and _sounding(row) != _sounding(delivered.row):
        told.append("what the row says")
    return tuple(told)


def lies(file: DeliveredFile, folder: Path, progress: Progress | None = None) -> Lies:
    """Where a file is that was delivered: by its size, or by all of its content where there is a `progress` to tell."""
    path = place_of(file.media, folder)
    try:
        size = path.stat().st_size
        if size != file.media.size:
            return Lies.ANOTHER
        if progress is not None and digest_of(path, progress)[0] != file.media.sha256:
            return Lies.ANOTHER
    except FileNotFoundError:
        return Lies.GONE
    except (OSError, AudioFileError):
        return Lies.GONE
    return Lies.THERE


def verified(
    session: Session, folder: Path, progress: Progress = no_progress
) -> list[tuple[Delivered, DeliveredFile, Lies]]:
    """Every file that was last delivered of each place, read again."""
    last = {file.media.path: (d, file) for d in session.deliveries for file in d.files}
    found = []
    for n, (d, file) in enumerate(last.values()):
        inside = lambda share, n=n: progress((n + share) / len(last))  # noqa: E731
        found.append((d, file, lies(file, folder, inside)))
    return found


def recorded(path: Path, folder: Path, section: str, figures: dict[str, float]) -> DeliveredFile:
    """The record of a file that was written, for a session in `folder`. Raises `AudioFileError` if it cannot be read."""
    try:
        sha256, size = digest_of(path, no_progress)
    except OSError as error:
        raise AudioFileError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    return DeliveredFile(
        media=Media(path=relative_to(path, folder), size=size, sha256=sha256), section=section, figures=figures
    )


def _states(deliveries: Sequence[Delivered]) -> list[State]:
    return list(versions.states_of([d.state for d in deliveries]))


def _sounding(row: Deliverable) -> Deliverable:
    """A row without what only its file is called by."""
    return msgspec.structs.replace(row, name="", pattern="")
