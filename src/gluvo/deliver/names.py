"""What delivered files are called: patterns with fields, made safe for every file system."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping

from gluvo.errors import WriteError
from gluvo.session.files import fitting
from gluvo.session.records import Deliverable, Session

FIELDS: Mapping[str, str] = {
    "session": "the session's name",
    "song": "the title in the tags, or the session's name",
    "row": "the row's name",
    "artist": "as in the tags, and so are the next two",
    "album": "",
    "track": "its number, with two digits",
    "target": "the target's name",
    "section": "the section's name, for a file of one",
    "rate": "samples a second, such as 44.1k",
    "bits": "bits a sample, or the bit rate",
    "version": "the first number whose files are not there yet, from 1 on",
    "date": "the day, as year-month-day",
}
"""What can stand in a pattern, in braces, and what it becomes."""
OTHER_NAMES: Mapping[str, str] = {"title": "song", "name": "row", "depth": "bits"}
"""What fields were called before; patterns may still have them."""
LONGEST = 180
"""Characters of a name, without what the format adds."""
ROOM = 40
"""Bytes that are left for what the format, a number and the writing add."""
_UNSAFE = '/\\:*?"<>|'


def stem_of(
    session: Session,
    row: Deliverable,
    *,
    rate: int,
    target: str,
    depth: str,
    section: str = "",
    version: int = 1,
    today: datetime.date | None = None,
) -> str:
    """The name of a row's file, without its suffix.

    Raises `WriteError` where the pattern has a field that there is not, or leaves nothing of a name.
    """
    day = today or datetime.date.today()
    values = {
        "session": session.name,
        "song": session.tags.title or session.name,
        "row": row.name,
        "artist": session.tags.artist,
        "album": session.tags.album,
        "track": session.tags.track.partition("/")[0].zfill(2) if session.tags.track else "",
        "target": target,
        "section": section,
        "rate": f"{rate / 1000:g}k",
        "bits": depth,
        "version": str(version),
        "date": day.isoformat(),
    }

    def value(found: re.Match[str]) -> str:
        field = OTHER_NAMES.get(found[1], found[1])
        if field not in values:
            raise WriteError(
                f"The name pattern of {row.name} has a field {{{found[1]}}}, which there is not. "
                f"There are {', '.join(FIELDS)}."
            )
        return safe(values[field])

    pattern = row.pattern
    if section and "{section}" not in pattern:
        pattern += " - {section}"
    text = fitting(safe(re.sub(r"\{([^{}]*)\}", value, pattern))[:LONGEST], " " * ROOM).strip(" .")
    if not text:
        raise WriteError(f"The name pattern of {row.name} leaves no name for the file.")
    return text


def safe(text: str) -> str:
    """Without characters that a file system refuses: nothing of it can lead to another folder.

    >>> safe('a/../b: "c"')
    'a-..-b- -c-'
    """
    return "".join("-" if c in _UNSAFE or ord(c) < 32 or ord(c) == 127 else c for c in text)
