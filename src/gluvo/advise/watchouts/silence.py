"""`silence`: a stem in which there is nothing."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut

LIMIT = -80.0
"""dBFS"""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    peak = scene.start(place.strip).figures().sample_peak
    if peak > LIMIT or place.strip in scene.renderer.material.missing:
        return
    yield WatchOut(
        "silence",
        place.strip,
        "",
        f"There is nothing in {scene.name(place.strip)}.",
        "The file is silent from its beginning to its end: perhaps it was exported with something switched off.",
        peak,
        LIMIT,
        "dBFS",
        scene.loud,
        0.3,
    )


KIND = Kind(
    "silence",
    "what came in",
    "Nothing in it",
    "The highest sample of the whole stem.",
    "Noise of any recording lies higher.",
    "own measure",
    lambda scene: scene.stems(),
    look,
)
