"""`drift`: a compressor takes more, or less, than what its threshold was found for."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.measure.overview import REDUCED_BY
from gluvo.measure.trace import Span
from gluvo.session.records import Session
from gluvo.steps import Glue

LIMIT, PART = 1.0, 0.4
"""dB, and the part of what it was found for, by which it must have moved."""


def places(scene: Scene) -> Iterable[Place]:
    return [p for p, s in scene.reducing() if isinstance(s, Glue) and s.threshold_for > 0.0 and not s.hold_aim]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Glue) or sides is None:
        return
    section = scene.session.section(step.held_in)
    reduced = sides[1].reduced(Span(section.start, section.end) if section is not None else None)
    if reduced is None:
        return
    now, was = reduced.of(step.aim_by), step.threshold_for
    moved = now - was
    if abs(moved) < max(LIMIT, PART * was):
        return
    name, by = scene.name(place.strip), REDUCED_BY[step.aim_by]

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, aim=was, hold_aim=True)

    yield WatchOut(
        "drift",
        place.strip,
        step.id,
        f"The compressor of {name} takes {now:.1f} dB {by}; its threshold was found for {was:.1f}.",
        "What comes into it has changed since. Held, its threshold would have moved along.",
        abs(moved),
        LIMIT,
        "dB",
        scene.loud_of(sides[0]),
        0.2 + 0.4 * share_of(abs(moved), LIMIT, 8.0),
        Evidence(np.arange(2.0), np.array([was, now]), "bars", f"dB {by}", names=("found for", "now")),
        Offer(f"{was:.1f} dB {by} on {name}, held", edit),
        "change",
    )


KIND = Kind(
    "drift",
    "reduction",
    "Drifted",
    "Reduction now, in the section in which the threshold was found and as it was asked for then, less what it was found for; of "
    "thresholds that are neither held nor set by hand.",
    "A decibel, and two fifths of what was wanted, is another setting than the one that was chosen.",
    "own measure, see measure/overview.py",
    places,
    look,
)
