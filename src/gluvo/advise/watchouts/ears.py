"""`ears`: one has listened for so long, or so loud, that ears no longer tell."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of

LIMIT = 60.0
"""Minutes without a break."""
STEP = 15.0
"""Minutes after which it is looked at again."""


def places(scene: Scene) -> Iterable[Place]:
    if scene.listened is None or scene.listened.minutes < LIMIT:
        return []
    return [Place(scene.session.mix.id, depends=(int(scene.listened.minutes / STEP),))]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    ears = scene.listened
    if ears is None or ears.minutes < LIMIT:
        return
    loud = f", at {ears.level:.0f} LUFS as sent out".replace("-", "−") if ears.level is not None else ""
    yield WatchOut(
        "ears",
        place.strip,
        "",
        f"You have listened for {ears.minutes:.0f} minutes without a break{loud}.",
        "After an hour highs are heard as softer than they are; ten minutes without sound bring most of that back.",
        ears.minutes,
        LIMIT,
        "minutes",
        scene.loud,
        0.1 + 0.3 * share_of(ears.minutes, LIMIT, 180.0),
    )


KIND = Kind(
    "ears",
    "delivery",
    "Tired ears",
    "Minutes of sound since the last break of ten minutes.",
    "An hour is what most rooms and levels allow before the threshold of hearing shifts.",
    "ISO 1999; NIOSH 98-126 on temporary threshold shift",
    places,
    look,
)
