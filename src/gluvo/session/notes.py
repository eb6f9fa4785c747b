"""Notes: for oneself and for the client, of the song, a section, a version, a place in time; and comments that come back as
a text file."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from gluvo.errors import SessionError
from gluvo.session.files import read_whole, reason_of
from gluvo.session.records import MOST_NOTE, MOST_NOTES, Note, Session
from gluvo.steps.settings import CONTROLS

MOST_BYTES = 4 << 20
"""No file of comments is larger."""
LINK = re.compile(r"https?://[^\s<>\"']+[^\s<>\"'.,;:!?)\]]")
TIMED = re.compile(
    r"^\s*(?:[-*•·]\s+)?[\[(]?(?P<start>(?:\d{1,2}:)?\d{1,3}:\d{2}(?:[.,]\d{1,3})?)"
    r"(?:\s*(?:-|–|—|to|bis)\s*(?P<end>(?:\d{1,2}:)?\d{1,3}:\d{2}(?:[.,]\d{1,3})?))?[\])]?\s*[-–—:]*\s*(?P<text>.*)$"
)
"""A line that begins with a time, or a stretch: ``1:12 voice too soft``, ``[0:58–1:04] …``, ``- 1:02:03.5: …``."""
UNREADABLE = re.compile(f"[{CONTROLS}]")


@dataclass(frozen=True)
class Comments:
    """What a file of comments says."""

    found: tuple[tuple[float | None, str], ...]
    """Seconds, or none where it says no time; and the words."""

    def past(self, seconds: float) -> int:
        """How many lie past the end of a song."""
        return sum(at is not None and at > seconds for at, _ in self.found)


def with_note(session: Session, text: str, made: str, **place: object) -> tuple[Session, Note]:
    """The session with a further note, and that. `place`: `at`, `section` or `version`, and `client`. `made`: ISO 8601,
    local. Raises `SessionError` where it is too long, or one too many."""
    if len(session.notes) >= MOST_NOTES:
        raise SessionError(f"A session holds {MOST_NOTES:,} notes. Remove some first.")
    note = msgspec.structs.replace(Note(id=session.fresh_id("note"), text=_fitting(text), made=made), **place)
    return session.replace(notes=(*session.notes, note)), note


def changed(session: Session, id: str, **changes: object) -> Session:
    """A note otherwise. Raises `SessionError` where its text is too long."""
    if "text" in changes:
        changes["text"] = _fitting(str(changes["text"]))
    return session.replace(
        notes=tuple(msgspec.structs.replace(n, **changes) if n.id == id else n for n in session.notes)
    )


def without(session: Session, id: str) -> Session:
    return session.replace(notes=tuple(n for n in session.notes if n.id != id))


def in_order(session: Session) -> tuple[Note, ...]:
    """Those of the song first, then by where they lie in it; those of versions last."""

    def place(note: Note) -> tuple[int, float]:
        if note.version:
            return 2, 0.0
        start = start_of(session, note)
        return (1, start) if start is not None else (0, 0.0)

    return tuple(sorted(session.notes, key=place))


def start_of(session: Session, note: Note) -> float | None:
    """Where in the song a note lies, s; None where it is of all of it."""
    section = session.section(note.section) if note.section else None
    return section.start if section is not None else note.at


def where(session: Session, note: Note) -> str:
    """What a note is of, in words."""
    if note.version:
        return next((v.name for v in session.versions if v.id == note.version), "a version that is gone")
    if note.section:
        section = session.section(note.section)
        return section.name if section is not None else "a section that is gone"
    return "the song" if note.at is None else clock(note.at)


def clock(seconds: float) -> str:
    """A place in a song as it is written in comments.

    >>> clock(72.0), clock(3723.5)
    ('1:12', '62:03.5')
    """
    tenths = round(seconds * 10)
    rest = f".{tenths % 10}" if tenths % 10 else ""
    return f"{tenths // 600}:{tenths // 10 % 60:02d}{rest}"


def comments_in(text: str) -> Comments:
    """The comments of a text: a line that begins with a time is one; other lines are one a paragraph, or go on with the timed
    one right before them if they are indented.

    >>> comments_in("Hello\\n\\n1:12 voice too soft\\n0:05-0:09: intro").found
    ((None, 'Hello'), (72.0, 'voice too soft'), (5.0, 'intro'))
    """
    found: list[tuple[float | None, str]] = []
    goes_on = False
    for line in text.splitlines():
        line = UNREADABLE.sub("", line.replace("\t", "    "))
        timed = TIMED.match(line)
        if timed is not None and timed["text"].strip():
            found.append((_seconds(timed["start"]), timed["text"].strip()))
            goes_on = True
        elif not line.strip():
            goes_on = False
        elif goes_on and found and (line[:1].isspace() or found[-1][0] is None):
            at, words = found[-1]
            found[-1] = at, f"{words}\n{line.strip()}"
        else:
            found.append((None, line.strip()))
            goes_on = True
    return Comments(tuple(found))


def read_comments(path: Path) -> Comments:
    """The comments of a text file. Raises `SessionError` if it cannot be read, or says nothing."""
    try:
        raw = read_whole(path, MOST_BYTES)
    except (OSError, ValueError, RuntimeError) as error:
        raise SessionError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    found = comments_in(_decoded(raw))
    if not found.found:
        raise SessionError(f"{path.name} says nothing: it needs lines such as “1:12 voice too soft”.")
    return found


def with_comments(session: Session, comments: Comments, seconds: float, made: str) -> tuple[Session, int]:
    """The session with comments as the client's notes, and how many; those past the end of the song, `seconds` long, are of all
    of it. What is there already, word for word, is not taken twice."""
    count = 0
    for at, words in comments.found:
        late = at is not None and at > seconds
        text = f"{clock(at)} {words}" if late and at is not None else words
        place = None if late else at
        if any(n.text == text and n.at == place and n.client for n in session.notes):
            continue
        session, _ = with_note(session, text, made, at=place, client=True)
        count += 1
    return session, count


def links(text: str) -> Sequence[str]:
    """The web addresses in a text."""
    return LINK.findall(text)


def _fitting(text: str) -> str:
    if len(text) > MOST_NOTE:
        raise SessionError(f"A note has at most {MOST_NOTE:,} characters, and this one {len(text):,}.")
    return UNREADABLE.sub("", text.replace("\r\n", "\n").replace("\r", "\n"))


def _seconds(text: str) -> float:
    seconds = 0.0
    for part in text.replace(",", ".").split(":"):
        seconds = 60.0 * seconds + float(part)
    return seconds


def _decoded(raw: bytes) -> str:
    """Text as it is most likely meant."""
    for encoding in ("utf-16",) if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else ("utf-8-sig", "cp1252"):
        try:
            return raw.decode(encoding)
        except UnicodeDecodeError:
            continue
    return raw.decode("latin-1")
