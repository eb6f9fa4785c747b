"""`dc`: the wave does not stand in the middle."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.session.records import Session
from gluvo.steps import Trim
from gluvo.steps.trim import as_trim

LIMIT = -52.0
"""dBFS"""
BLOCK = 1 << 15
"""Frames that are added up at a time."""


def places(scene: Scene) -> Iterable[Place]:
    first = {s.id: next(iter(s.chain), None) for s in scene.session.stems}
    return [
        Place(p.strip, depends=(*p.depends, bool((trim := as_trim(first[p.strip])) and trim.on and trim.remove_dc)))
        for p in scene.stems()
    ]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    if place.depends[-1]:
        return
    audio = scene.start(place.strip).heard_in(None)
    ones, total = np.ones(BLOCK, dtype=np.float32), np.zeros(2)
    for at in range(0, len(audio), BLOCK):
        block = audio[at : at + BLOCK]
        total += ones[: len(block)] @ block
    mean = float(np.abs(total).max()) / max(1, len(audio))
    level = 20.0 * np.log10(max(mean, 1e-12))
    if level < LIMIT:
        return

    def edit(session: Session) -> Session:
        return session.with_new_step(Trim(remove_dc=True), place.strip)

    yield WatchOut(
        "dc",
        place.strip,
        "",
        f"{scene.name(place.strip)} stands {level:.0f} dBFS beside the middle.".replace("-", "−"),
        "A constant part takes headroom, and clicks where something is cut or switched.",
        level,
        LIMIT,
        "dBFS",
        scene.loud,
        0.1 + 0.3 * share_of(level, LIMIT, -20.0),
        offer=Offer(f"Remove DC of {scene.name(place.strip)}", edit),
    )


KIND = Kind(
    "dc",
    "what came in",
    "A constant part",
    "The mean of the samples of the whole stem, of the channel where it is larger.",
    "Rounding and slow rumble stay under −60 dBFS; from −52 on it takes as much headroom as a soft sound.",
    "own measure",
    places,
    look,
)
