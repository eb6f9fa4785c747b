"""`sibilance`: esses that stand over the voice."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, is_voice, share_of
from gluvo.advise.watchouts.edits import with_last
from gluvo.dsp.sibilance import sibilants
from gluvo.measure.evidence import Evidence
from gluvo.measure.sharpness import HOP, sharpness
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import DeEsser

LIMIT, OFTEN = 0.0, 6.0
"""dB against the voice that an event must reach, and events a minute of singing from which on it is told."""
SHORTEST = 0.03
"""s"""


def places(scene: Scene) -> Iterable[Place]:
    return [place for place in scene.stem_ends() if is_voice(scene.name(place.strip))]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint, strip = scene.end(place.strip), scene.session.strip(place.strip)
    if not is_heard(joint) or strip is None:
        return
    if any(isinstance(item, DeEsser) for item in chains.flat_on(strip.chain)):
        return
    over = sharpness(joint.heard_in(None), scene.rate)
    runs = [(a, b) for a, b in sibilants(np.maximum(over - LIMIT, 0.0), HOP, 1e-9) if (b - a) * HOP >= SHORTEST]
    sung = max(5.0, float((over > -150.0).sum()) * HOP)
    often = 60.0 * len(runs) / sung
    if often < OFTEN:
        return
    heights = [float(over[a:b].max()) for a, b in runs]
    worst = int(np.argmax(heights))
    at = runs[worst][0] * HOP
    name, typical = scene.name(place.strip), float(np.median(heights))

    def edit(session: Session) -> Session:
        made = DeEsser(range=8.0, threshold=-3.0, aim=min(6.0, max(1.5, round(0.7 * typical, 1))), hold_aim=True)
        return with_last(session, place.strip, made)

    count = max(1, len(over) // 600)
    shown = over[: len(over) // count * count].reshape(-1, count).max(axis=1)
    yield WatchOut(
        "sibilance",
        place.strip,
        "",
        f"{len(runs)} esses of {name} stand over the voice, by up to {max(heights):.1f} dB.",
        f"From 5 to 10 kHz they are louder than the words that they belong to, {often:.0f} times a minute of singing.",
        often,
        OFTEN,
        "a minute",
        scene.span_at(at, 4.0),
        0.3 + 0.5 * share_of(max(heights), LIMIT, 15.0),
        Evidence(
            np.linspace(0.0, len(over) * HOP, len(shown)),
            np.maximum(shown, -30.0),
            "time",
            "dB over the voice",
            limit=LIMIT,
            mark=at,
        ),
        Offer(f"De-esser on {name}", edit),
    )


KIND = Kind(
    "sibilance",
    "tone",
    "Sharp esses",
    "Level from 5 to 10 kHz over that of the voice under 3.5 kHz, both over 5 ms, the voice's falling slowly; 30 ms count.",
    "An s that is as strong as its vowel is clear; one that is stronger is sharp.",
    "own measure, see dsp/sibilance.py",
    places,
    look,
)
