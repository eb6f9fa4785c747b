"""`pumping`: the level has not come back when the next hit falls."""

from __future__ import annotations

import math
from collections.abc import Iterable

from gluvo.advise.watchouts.attack import places
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.session.records import MIX, Session
from gluvo.steps import Glue

LIMIT, SHARE = 2.0, 0.28
"""dB that the reduction moves with the hits, and the share of its movement that follows the beat."""
HITS = 6
"""That there must be in the loudest stretch."""
QUICKEST, PART = 30.0, 0.3
"""ms of the shortest release that is offered, and the part of the hits' spacing that it is."""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Glue) or sides is None:
        return
    before, after = sides
    span = scene.loud_of(before)
    hits = scene.hits(before, after, span)
    if hits is None or len(hits.onsets) < HITS:
        return
    # what is compressed alone follows its own notes, as it should; the mix has others that go along
    share = max(hits.pumping, hits.following) if place.strip == MIX else hits.pumping
    if share < SHARE:
        return
    inside = (hits.times >= 0.0) & (hits.times <= max(0.1, hits.spacing))
    depth = float(hits.reduction[inside].max(initial=0.0) - hits.reduction[inside].min(initial=100.0))
    left = float(hits.reduction[inside][-1] / max(1e-6, hits.reduction[inside].max()))
    effective = depth * share
    if effective < LIMIT:
        return
    release = max(QUICKEST, round(1000.0 * hits.spacing * PART, -1))
    offer = None
    if release < 0.7 * step.release and left > 0.2:

        def edit(session: Session) -> Session:
            return with_changes(session, step.id, release=release, auto_release=0.0)

        offer = Offer(f"Release {release:.0f} ms on {scene.name(place.strip)}", edit)
    else:
        aim = max(0.5, round(0.4 * depth, 1))

        def edit(session: Session) -> Session:
            return with_changes(session, step.id, aim=aim, aim_by="peaks", hold_aim=True)

        offer = Offer(f"{aim:.1f} dB at peaks on {scene.name(place.strip)}, held", edit)
    when = "not before the next hit" if math.isinf(hits.recovery) else f"after {1000 * hits.recovery:.0f} ms"
    yield WatchOut(
        "pumping",
        place.strip,
        step.id,
        f"{scene.name(place.strip)} pumps: {depth:.1f} dB go up and down with the beat.",
        f"Hits fall every {1000 * hits.spacing:.0f} ms; the reduction is back {when}. {100 * share:.0f} % follow them.",
        effective,
        LIMIT,
        "dB",
        span,
        0.3 + 0.6 * share_of(effective, LIMIT, 10.0),
        Evidence(hits.times * 1000.0, -hits.reduction, "hit", "dB taken", mark=1000.0 * hits.spacing),
        offer,
        "change",
    )


KIND = Kind(
    "pumping",
    "reduction",
    "Pumping",
    "How far the reduction moves between hits, times the share of its movement at the rate of the hits and its multiples, or "
    "that goes with the time since the last hit, where they are not regular (of the mix).",
    "Two dB on every beat are heard as a swell; less is heard as movement.",
    "own measure, see measure/hits.py",
    places,
    look,
)
