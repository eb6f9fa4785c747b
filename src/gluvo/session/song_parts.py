"""What of the song a file holds: all of it, or some of its strips."""

from __future__ import annotations

from collections.abc import Collection

from gluvo.session.records import MIX, Deliverable, Session
from gluvo.session.tree import below


def strips_of(session: Session, row: Deliverable) -> tuple[str, ...] | None:
    """The ids of the strips that a row's file holds, with all that flows into them; None for all of the song.

    Strips that are gone are passed over: of a row that is without them, all is left; of one that is only they, nothing.
    """
    if row.of == "mix":
        return None
    there = tuple(id for id in row.strips if session.strip(id) is not None and id != MIX)
    if row.of == "only":
        return there
    out = {id for one in there for id in below(session, one)}
    return tuple(stem.id for stem in session.stems if stem.id not in out)


def held_by(session: Session, strips: Collection[str]) -> frozenset[str]:
    """The stems that some strips come down to."""
    inside = {id for one in strips for id in below(session, one)}
    return frozenset(stem.id for stem in session.stems if stem.id in inside)


def in_words(session: Session, row: Deliverable) -> str:
    """What of the song a row's file holds, in words; empty for all of it."""
    if row.of == "mix":
        return ""
    names = [strip.name for id in row.strips if (strip := session.strip(id)) is not None]
    told = ", ".join(names) or "no strip"
    return f"{'without' if row.of == 'without' else 'only'} {told}" + ("" if row.through else ", before the mix chain")


def muted(session: Session) -> tuple[str, ...]:
    """The names of the strips that are muted, and so in no file."""
    return tuple(strip.name for strip in session.strips if strip.mute and strip.id != MIX)
