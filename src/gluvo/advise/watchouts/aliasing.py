"""`aliasing`: what is bent too coarsely folds back."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec.structs import replace

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, around, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.measure.spectrum import octaves, tone_of
from gluvo.render.chain import run_chain
from gluvo.session.records import Session
from gluvo.steps import Clipper, Saturation

LIMIT = -52.0
"""dB of what folds back against the sound."""
SECONDS, FINEST, FINER = 4.0, 16, (2, 4, 8)
"""That are rendered again, as finely as it goes; and what is tried in between."""


def places(scene: Scene) -> Iterable[Place]:
    found = []
    for strip in scene.session.strips:
        for item in scene.session.items:
            there = (
                isinstance(item, Saturation | Clipper)
                and item.oversampling < FINEST
                and scene.sides(item.id) is not None
            )
            if there and scene.owner(item.id) == strip.id:
                found.append(Place(strip.id, item.id, (scene.render.plan.after[item.id].key,)))
    return found


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Saturation | Clipper) or sides is None:
        return
    loud = scene.loud_of(sides[0])
    span = around((loud.start + loud.end) / 2.0, min(SECONDS, loud.seconds), scene.seconds)
    x = sides[0].heard_in(span).astype(np.float64)
    if len(x) < scene.rate // 2 or float(np.abs(x).max()) <= 0.0:
        return
    fine = run_chain([replace(step, oversampling=FINEST)], x, scene.rate)
    as_set = run_chain([step], x, scene.rate)
    share = _folded(as_set, fine)
    if share < LIMIT:
        return
    finer = next(
        (
            k
            for k in FINER
            if k > step.oversampling
            and _folded(run_chain([replace(step, oversampling=k)], x, scene.rate), fine) < LIMIT
        ),
        FINEST,
    )
    name = scene.name(place.strip)
    centres = octaves(scene.rate, 40.0, 6)
    there, more = (
        tone_of(v.astype(np.float32), scene.rate).smoothed("mid", 3.0, centres) for v in (as_set, as_set - fine)
    )

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, oversampling=finer)

    yield WatchOut(
        "aliasing",
        place.strip,
        step.id,
        f"The {step.title} of {name} folds back at {step.oversampling} ×: {-share:.0f} dB under the sound, off its harmonics.",
        "What is new over half the rate comes back lower down, out of tune. Bent more finely it does not.",
        share,
        LIMIT,
        "dB",
        span,
        0.2 + 0.5 * share_of(share, LIMIT, -24.0),
        Evidence(centres, more, "frequency", "dB", beside=there),
        Offer(f"{finer} × on {name}", edit),
        "change",
    )


def _folded(x: np.ndarray, fine: np.ndarray) -> float:
    """What of a sound is not in the finest one, dB against it."""
    return 10.0 * float(np.log10(max(float(((x - fine) ** 2).sum()), 1e-20) / max(float((fine**2).sum()), 1e-20)))


KIND = Kind(
    "aliasing",
    "tone",
    "Folds back",
    "The difference between a Saturation or Clipper as it is set and at 16 ×, over four seconds of the loudest stretch, against "
    "the sound.",
    "Under −52 dB it lies under the music's own spectrum nearly everywhere.",
    "own measure, by rendering twice",
    places,
    look,
)
