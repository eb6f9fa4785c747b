"""References by section: which of theirs is heard against which of the song's, and when."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from gluvo.compare.hearables import Stretch, TimeMap
from gluvo.session.records import Pair, Reference, Section, Session

Levels = Mapping[str, float]
"""LUFS of sections, by their ids."""


def partner(
    section: Section, sections: Sequence[Section], levels: Levels, reference: Reference, own: Levels
) -> Section | None:
    """The reference's section that is heard against one of the song's `sections`: the one it is paired with, else the
    one of the same rank in the order of loudness (`levels`, `own`). None where the reference has none."""
    chosen = next((pair.own for pair in reference.pairs if pair.section == section.id), "")
    if (paired := reference.section(chosen)) is not None:
        return paired
    theirs = sorted(reference.sections, key=lambda s: own.get(s.id, 0.0))
    if not theirs:
        return None
    ours = sorted(sections, key=lambda s: levels.get(s.id, 0.0))
    rank = ours.index(section) / (len(ours) - 1) if len(ours) > 1 else 1.0  # a single one is the one that matters
    return theirs[round(rank * (len(theirs) - 1))]


def partners(session: Session, levels: Levels, reference: Reference, own: Levels) -> dict[str, Section]:
    """The reference's section for each of the song's, by the id of the song's."""
    found = {s.id: partner(s, session.sections, levels, reference, own) for s in session.sections}
    return {id: section for id, section in found.items() if section is not None}


def time_map(sections: Sequence[Section], partners: Mapping[str, Section], chosen: str = "") -> TimeMap:
    """When a reference is heard: in each of the song's sections its partner, from its beginning. The `chosen` one goes on
    for as long as its partner, which is looped with its own length."""
    first = sorted(sections, key=lambda s: s.id != chosen)
    return TimeMap(
        tuple(
            Stretch(s.start, max(s.end, s.start + own.end - own.start) if s.id == chosen else s.end, own.start, own.end)
            for s in first
            if (own := partners.get(s.id)) is not None
        )
    )


def paired(session: Session, reference: str, section: str, own: str) -> Session:
    """A section of the song paired with one of a reference; with none where `own` is empty."""
    found = session.reference(reference)
    if found is None:
        return session
    pairs = tuple(pair for pair in found.pairs if pair.section != section)
    if own:
        pairs = (*pairs, Pair(section=section, own=own))
    return session.with_reference(msgspec.structs.replace(found, pairs=pairs))


def with_sections(session: Session, reference: str, sections: Sequence[Section]) -> Session:
    """A reference with other sections; pairs of those that are gone go, too."""
    found = session.reference(reference)
    if found is None:
        return session
    there = {section.id for section in sections}
    pairs = tuple(pair for pair in found.pairs if pair.own in there)
    return session.with_reference(msgspec.structs.replace(found, sections=tuple(sections), pairs=pairs))
