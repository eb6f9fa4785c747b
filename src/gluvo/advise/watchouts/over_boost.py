"""`over-boost`: the same range is raised at one place after the other."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.session.tree import path
from gluvo.steps import MidSideEq
from gluvo.steps.settings import hertz

LIMIT = 7.0
"""dB"""
FREQS = np.geomspace(30.0, 16_000.0, 200)


def _equalisers(scene: Scene, strip: str) -> list[tuple[str, MidSideEq]]:
    """Those that a stem goes through on its way, with their strips."""
    found = []
    for id in path(scene.session, strip):
        on = scene.session.strip(id)
        found += [
            (id, item) for item in chains.flat_on(on.chain if on is not None else ()) if isinstance(item, MidSideEq)
        ]
    return found


def places(scene: Scene) -> Iterable[Place]:
    return [
        Place(stem.id, depends=tuple(eq.sound_key() for _, eq in _equalisers(scene, stem.id)))
        for stem in scene.session.stems
        if not stem.mute
    ]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    along = _equalisers(scene, place.strip)
    if not along:
        return
    each = [
        20.0 * np.log10(np.maximum(np.abs(eq.response(("stereo", "mid"), FREQS, scene.rate)), 1e-6)) for _, eq in along
    ]
    total = np.sum(each, axis=0)
    over = total - float(np.median(total))
    at = int(np.argmax(over))
    if over[at] < LIMIT:
        return
    most = int(np.argmax([curve[at] for curve in each]))
    strip, eq = along[most]
    half = round(eq.strength * 0.6)

    def edit(session: Session) -> Session:
        return with_changes(session, eq.id, strength=float(half))

    name, freq = scene.name(place.strip), float(FREQS[at])
    many = f"{len(along)} equalisers raise" if len(along) > 1 else "An equaliser raises"
    yield WatchOut(
        "over-boost",
        place.strip,
        eq.id,
        f"{many} {name} by {over[at]:.1f} dB around {hertz(freq)}.",
        f"Most of it is done on {scene.name(strip)}. What is not in the recording comes up as noise and room.",
        float(over[at]),
        LIMIT,
        "dB",
        scene.loud,
        0.2 + 0.5 * share_of(float(over[at]), LIMIT, 16.0),
        Evidence(FREQS, total, "frequency", "dB, all of them", limit=0.0, mark=freq),
        Offer(f"Strength {half} % on {scene.name(strip)}", edit),
    )


KIND = Kind(
    "over-boost",
    "tone",
    "Raised too far",
    "Gain in stereo and mid of all equalisers on a stem's way, added up, over its own median; moving bands as they rest.",
    "Seven dB are more than a microphone is off by.",
    "own measure",
    places,
    look,
)
