"""Sections: made, moved, and exchanged as CSV."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from pathlib import Path

import msgspec

from gluvo.errors import SessionError
from gluvo.measure.form import form_of, likeness_of, names_of
from gluvo.measure.trace import Trace
from gluvo.session.files import read_cell, read_whole, reason_of, replacing, safe_cell
from gluvo.session.records import Section, Session

SHORTEST = 0.05
"""Seconds."""
SAME = 0.06
"""Seconds by which two edges that are the same may differ: they snap to where the sound is still."""
TOUCHING = 0.002
"""Seconds between edges that move as one."""
HEADER = ("name", "start", "end")
MOST_BYTES = 4 << 20
"""No file of sections is larger."""


def same_span(section: Section, start: float, end: float) -> bool:
    """Whether a section is a stretch of the song, as far as edges that snap let it be."""
    return abs(section.start - start) < SAME and abs(section.end - end) < SAME


def with_section(session: Session, name: str, start: float, end: float) -> tuple[Session, Section]:
    """The session with a new section, and that."""
    start, end = sorted((max(0.0, start), max(0.0, end)))
    section = Section(
        id=session.fresh_id("section"), name=name, start=round(start, 4), end=round(max(end, start + SHORTEST), 4)
    )
    sections = sorted((*session.sections, section), key=lambda s: s.start)
    return session.replace(sections=tuple(sections)), section


def with_edge(session: Session, id: str, edge: str, at: float, length: float) -> Session:
    """A section's edge moved; see `edge_moved`."""
    return session.replace(sections=edge_moved(session.sections, id, edge, at, length))


def edge_moved(sections: tuple[Section, ...], id: str, edge: str, at: float, length: float) -> tuple[Section, ...]:
    """A section's `edge` (start or end) moved to a time; the edge of a neighbour that touches it goes along.

    No section gets shorter than `SHORTEST`, and none reaches past the song's `length`.
    """
    found = next((s for s in sections if s.id == id), None)
    if found is None:
        return sections
    old = found.start if edge == "start" else found.end
    other = "end" if edge == "start" else "start"
    moved = [(s, edge) for s in sections if s.id == id]
    moved += [(s, other) for s in sections if s.id != id and abs(getattr(s, other) - old) < TOUCHING]
    at = min(max(0.0, at), length)
    for section, which in moved:
        at = min(at, section.end - SHORTEST) if which == "start" else max(at, section.start + SHORTEST)
    at = round(at, 6)
    changed = {s.id: msgspec.structs.replace(s, **{which: at}) for s, which in moved}
    return tuple(changed.get(s.id, s) for s in sections)


def renamed(session: Session, id: str, name: str) -> Session:
    return session.replace(
        sections=tuple(msgspec.structs.replace(s, name=name) if s.id == id else s for s in session.sections)
    )


def without(sections: tuple[Section, ...], id: str) -> tuple[Section, ...]:
    return tuple(s for s in sections if s.id != id)


def proposed(session: Session, trace: Trace) -> tuple[Section, ...]:
    """Sections for a reference of the session: where its loudness or density changes, never more than eight."""
    parts = form_of(trace)
    made: list[Section] = []
    for part, name in zip(parts, names_of(parts, trace), strict=True):
        id = session.fresh_id("part")
        made.append(Section(id=id, name=name, start=round(part.start, 4), end=round(part.end, 4)))
        session = session.replace(sections=(*session.sections, made[-1]))  # so that the next id is another
    return tuple(made)


def proposed_for_song(session: Session, trace: Trace) -> tuple[Section, ...]:
    """Sections of the session's own song, where its loudness or density changes, named by what they are like, in place of those
    that it has."""
    parts = form_of(trace)
    names = likeness_of(parts, trace)
    return _in_place(session, [(name, part.start, part.end) for part, name in zip(parts, names, strict=True)])


def _in_place(session: Session, spans: Sequence[tuple[str, float, float]]) -> tuple[Section, ...]:
    """Sections in place of a session's own. One that is called as another was, and nothing else is, is still that one: what goes
    by it stays."""
    names = [name for name, _, _ in spans]
    known = {s.name: s.id for s in session.sections if sum(s.name == other.name for other in session.sections) == 1}
    made = session
    for name, start, end in spans:
        made, _ = with_section(made, name, start, end)
    new = [s for s in made.sections if session.section(s.id) is None]
    return tuple(
        msgspec.structs.replace(s, id=known[s.name]) if s.name in known and names.count(s.name) == 1 else s for s in new
    )


def write_csv(path: Path, session: Session) -> None:
    """Write the sections: a line for each with name, start and end in seconds. Raises `WriteError`."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(HEADER)
    writer.writerows((safe_cell(s.name), f"{s.start:.4f}", f"{s.end:.4f}") for s in session.sections)
    with replacing(path) as file:
        file.write(text.getvalue().encode())


def read_csv(path: Path, session: Session) -> tuple[Section, ...]:
    """The sections of a file, to be put in place of a session's own. Raises `SessionError` with what is wrong where."""
    try:
        rows = list(csv.reader(io.StringIO(read_whole(path, MOST_BYTES).decode("utf-8-sig"))))
    except OSError as error:
        raise SessionError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    except (UnicodeDecodeError, csv.Error):
        raise SessionError(f"{path.name} is not a CSV file.") from None
    if rows and tuple(cell.strip().lower() for cell in rows[0]) == HEADER:
        rows = rows[1:]
    found: list[tuple[str, float, float]] = []
    for number, row in enumerate((r for r in rows if r), start=1):
        try:
            name, start, end = read_cell(row[0].strip()), float(row[1]), float(row[2])
        except (IndexError, ValueError):
            raise SessionError(f"{path.name}: section {number} needs a name, a start and an end in seconds.") from None
        if not (math.isfinite(start) and math.isfinite(end) and 0.0 <= start < end):
            raise SessionError(f"{path.name}: the section “{name}” ends before it starts.")
        found.append((name or f"Section {number}", start, end))
    if not found:
        raise SessionError(f"{path.name} holds no sections.")
    return _in_place(session, found)
