"""The usual set of files of a song, as rows that are ordinary ones afterwards."""

from __future__ import annotations

from typing import Final

import msgspec

from gluvo.advise.watchouts.base import is_voice
from gluvo.session.records import MIX, Bus, Deliverable, Session
from gluvo.session.song_parts import held_by
from gluvo.session.tree import children

MASTER, INSTRUMENTAL, A_CAPPELLA = "Master", "Instrumental", "A cappella"
FLOATS: Final = "32f"


def usual_set(session: Session) -> tuple[Deliverable, ...]:
    """The rows that the usual set has and a session has not: the master; without voices and only they, if any strips are
    called as voices are; and a file for each strip that flows into the mix bus, if there are several. All of them through
    the mix chain, so that the last ones add up to the master. Parts are 32 bit floats: without the rest of the song they may pass
    full scale."""
    into = children(session, MIX)
    voices = _voices(session)
    rows = [Deliverable(id="", name=MASTER)]
    if voices and held_by(session, voices) != {stem.id for stem in session.stems}:
        rows.append(Deliverable(id="", name=INSTRUMENTAL, of="without", strips=voices, bits=FLOATS))
        rows.append(Deliverable(id="", name=A_CAPPELLA, of="only", strips=voices, bits=FLOATS))
    if len(into) > 1:
        rows += [
            Deliverable(id="", name=strip.name or "unnamed", of="only", strips=(strip.id,), bits=FLOATS)
            for strip in into
        ]
    there = {(d.of, frozenset(d.strips), d.through) for d in session.deliverables if d.scope == "song"}
    new: list[Deliverable] = []
    for row in rows:
        if (row.of, frozenset(row.strips), True) not in there:
            made = session.replace(deliverables=(*session.deliverables, *new))
            new.append(_named(made, row))
    return tuple(new)


def _voices(session: Session, bus: str = MIX) -> tuple[str, ...]:
    """The strips that are called as voices are, buses before what flows into them."""
    found: list[str] = []
    for strip in children(session, bus):
        if is_voice(strip.name):
            found.append(strip.id)
        elif isinstance(strip, Bus):
            found += _voices(session, strip.id)
    return tuple(found)


def _named(session: Session, row: Deliverable) -> Deliverable:
    """A row with an id of its own, and a name that no other has."""
    taken = {d.name.lower() for d in session.deliverables}
    names = (row.name if n == 1 else f"{row.name} {n}" for n in range(1, len(taken) + 2))
    name = next(name for name in names if name.lower() not in taken)
    return msgspec.structs.replace(row, id=session.fresh_id("deliverable"), name=name)
