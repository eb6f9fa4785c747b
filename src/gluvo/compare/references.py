"""References by section: which of theirs is heard against which of the song's, and when."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from gluvo.compare.hearables import Stretch, TimeMap
from gluvo.measure.same_song import SameSong
from gluvo.session.records import Pair, Reference, Section, Session

Levels = Mapping[str, float]
"""LUFS of sections, by their ids."""
LEAST_SHARED = 0.5
"""Seconds of a section that must be there to be heard against it."""
OUT_OF_STEP = 0.002
"""Seconds by which the same song at another speed may lie beside the song: under what two players are apart."""


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


def aligned(sections: Sequence[Section], same: SameSong, length: float) -> dict[str, Section]:
    """For each of the song's sections the same stretch of a sound of `length` s that is the same song, as far as it reaches."""
    found = {}
    for s in sections:
        start, end = max(0.0, same.there(s.start)), min(length, same.there(s.end))
        if end - start > LEAST_SHARED:
            found[s.id] = msgspec.structs.replace(s, start=start, end=end)
    return found


def same_time_map(same: SameSong, length: float) -> TimeMap:
    """When a sound of `length` s that is the same song is heard: everywhere in step with it. Where its speed is off it
    keeps its own, and is set right as often as `OUT_OF_STEP` asks for."""
    first, last = (max(0.0, (place - same.seconds) / (1.0 + same.slower)) for place in (0.0, length))
    count = max(1, math.ceil(abs(same.slower) * (last - first) / (2.0 * OUT_OF_STEP)))
    edges = np.linspace(first, last, count + 1)
    stretches = []
    for start, end in itertools.pairwise(edges.tolist()):
        own = max(0.0, same.there((start + end) / 2.0) - (end - start) / 2.0)
        stretches.append(Stretch(start, min(end, start + length - own), own, min(length, own + end - start)))
    return TimeMap(tuple(stretches))


def same_words(name: str, same: SameSong) -> str:
    """What is told of a reference that is the same song."""
    later = abs(same.seconds)
    words = [
        f"begins {1000.0 * later:.1f} ms {'later' if same.seconds > 0.0 else 'earlier'}" if later else "begins together"
    ]
    if same.slower:
        words.append(f"runs {100.0 * abs(same.slower):.3f} % {'slower' if same.slower > 0.0 else 'faster'}")
    words += ["turned over"] if same.inverted else []
    words.append(f"{abs(same.gain):.1f} dB {'louder' if same.gain >= 0.0 else 'softer'}")
    if same.differs:
        places = ", ".join(f"{_minutes(s.start)}–{_minutes(s.end)}" for s in same.differs[:3])
        more = f" and {len(same.differs) - 3} more" if len(same.differs) > 3 else ""
        words.append(f"something else at {places}{more}")
    return f"{name} is the same song, and is heard in step with it: " + ", ".join(words) + "."


def _minutes(seconds: float) -> str:
    return f"{int(seconds // 60)}:{int(seconds % 60):02d}"


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
