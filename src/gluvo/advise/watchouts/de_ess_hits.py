"""`de-ess-hits`: a De-esser that works on drums."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, is_heard, is_voice, of_time, share_of
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.measure.trace import Span
from gluvo.steps import DeEsser

LIMIT, EVENTS = 0.5, 6
"""Share of its events that begin with a hit of another strip; events that must be there."""
WORKS, WITHIN = 1.0, 0.015
"""dB that are an event, and s about a hit."""


def places(scene: Scene) -> Iterable[Place]:
    stems = {p.strip for p in scene.stems()}
    return [p for p, s in scene.reducing() if isinstance(s, DeEsser) and p.strip not in stems]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    sides = scene.sides(place.step)
    if sides is None or sides[1].reduction is None:
        return
    curve, rate = sides[1].reduction.curve, scene.rate / REDUCTION_HOP
    on = curve >= WORKS
    begins = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8)])) > 0) / rate
    if len(begins) < EVENTS:
        return
    hits = [
        scene.onsets(joint, None)
        for p in scene.stem_ends()
        if not is_voice(scene.name(p.strip))
        and is_heard(joint := scene.end(p.strip))
        and _is_hits(joint.figures().crest)
    ]
    known = np.sort(np.concatenate(hits)) if hits else np.zeros(0)
    if not len(known):
        return
    near = np.abs(known[np.clip(np.searchsorted(known, begins), 1, len(known) - 1)] - begins)
    near = np.minimum(near, np.abs(known[np.clip(np.searchsorted(known, begins) - 1, 0, len(known) - 1)] - begins))
    share = float((near < WITHIN).mean())
    by_chance = min(1.0, 2.0 * WITHIN * len(known) / max(1e-9, scene.seconds))
    if share < LIMIT or share < by_chance + 0.3:
        return
    name = scene.name(place.strip)
    worst = float(begins[int(np.argmax([curve[int(b * rate) : int(b * rate) + 40].max() for b in begins]))])
    yield WatchOut(
        "de-ess-hits",
        place.strip,
        place.step,
        f"{100 * share:.0f} % of what the De-esser of {name} takes begins with a hit, and is no ess.",
        "It takes cymbals and snares along; on the voice's own strip it hears the voice alone.",
        100.0 * share,
        100.0 * LIMIT,
        "%",
        scene.span_at(worst, 4.0),
        0.25 + 0.4 * share_of(share, LIMIT, 1.0),
        of_time(-curve[:: max(1, len(curve) // 600)], Span(0.0, scene.seconds), "dB taken"),
        None,
        "change",
    )


def _is_hits(crest: float) -> bool:
    """Whether a stem is made of hits, by its crest in dB."""
    return crest > 14.0


KIND = Kind(
    "de-ess-hits",
    "tone",
    "De-esses hits",
    "Share of a De-esser's events of 1 dB or more, on a bus, that begin within 15 ms of a hit of a stem that is no voice "
    "and has a crest over 14 dB.",
    "An ess falls on a hit now and then; half of them do not.",
    "own measure",
    places,
    look,
)
