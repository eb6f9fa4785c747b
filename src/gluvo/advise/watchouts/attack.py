"""`attack`: hits lose what makes them hits."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.try_values import Kept, SettingPlace, tried_value
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, hit_evidence, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import Glue, Lane

LIMIT, ENOUGH = 0.82, 0.92
"""Punch after over before, and how much is enough."""
LEAST, HITS = 1.0, 5
"""dB at peaks from which on it is looked at, and hits that must be there."""
SLOWER = (3.0, 10.0, 30.0)
"""Factors of the attack that are tried."""


def places(scene: Scene) -> Iterable[Place]:
    return [place for place, step in scene.reducing() if isinstance(step, Glue) and not in_lane(scene, place)]


def in_lane(scene: Scene, place: Place) -> bool:
    """Whether a step stands in a lane: what is crushed there is meant to be, and lies under the rest."""
    strip = scene.session.strip(place.strip)
    return strip is not None and any(isinstance(c, Lane) for c in chains.containers_of(strip.chain, place.step))


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    found = scene.gluing(place, LEAST)
    if found is None:
        return
    step, before, after, span, reduced = found.step, found.before, found.after, found.span, found.reduced
    hits = scene.hits(before, after, span)
    if hits is None or len(hits.onsets) < HITS or hits.punch_kept > LIMIT:
        return
    kept, best, better = Kept("threshold", max(0.1, round(reduced.peaks, 2)), "peaks"), step, hits.punch_kept
    for factor in SLOWER:
        value = min(300.0, round(step.attack * factor, 2))
        tried = tried_value(scene.renderer, scene.session, SettingPlace(step.id, "attack"), value, span, kept)
        made = tried.session.item(step.id)
        if tried.hits is not None and isinstance(made, Glue) and tried.hits.punch_kept > better:
            best, better = made, tried.hits.punch_kept
        if better >= ENOUGH:
            break
    offer = None
    if best is not step:
        changes = {"attack": best.attack, "threshold": best.threshold}

        def edit(session: Session) -> Session:
            return with_changes(session, step.id, **changes)

        offer = Offer(f"Attack {best.attack:.3g} ms on {scene.name(place.strip)}", edit)
    would = (
        f"{best.attack:.3g} ms would keep {100 * better:.0f} %, at as much reduction."
        if offer
        else "No slower one keeps more."
    )
    yield WatchOut(
        "attack",
        place.strip,
        step.id,
        f"An attack of {step.attack:.3g} ms leaves {100 * hits.punch_kept:.0f} % of the punch of {scene.name(place.strip)}.",
        would,
        100.0 * hits.punch_kept,
        100.0 * LIMIT,
        "%",
        span,
        0.3 + 0.6 * share_of(LIMIT - hits.punch_kept, 0.0, 0.4),
        hit_evidence(hits),
        offer,
        "change",
    )


KIND = Kind(
    "attack",
    "reduction",
    "Hits lose their punch",
    "The first 10 ms of the mean hit over what follows it by 50 to 150 ms, after the step over before.",
    "A fifth less is heard at equal loudness; a tenth is not.",
    "own measure, see measure/hits.py",
    places,
    look,
)
