"""`stale`: files were written, and the song has changed since."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut


def places(scene: Scene) -> Iterable[Place]:
    return [Place(scene.session.mix.id, depends=(scene.stale,))] if scene.stale else []


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    names, count = scene.stale, len(scene.stale)
    told = ", ".join(names[:3]) + (f" and {count - 3} more" if count > 3 else "")
    yield WatchOut(
        "stale",
        place.strip,
        "",
        f"{told} {'was' if count == 1 else 'were'} written before the song was changed.",
        "Write all deliverables (Ctrl+E) brings the files up to date.",
        float(count),
        1.0,
        "files",
        scene.loud,
        0.2,
        place=",".join(names),
    )


KIND = Kind(
    "stale",
    "delivery",
    "Older files",
    "Files that were written from this window whose rows or song are others now.",
    "One is enough: it is the one that is sent.",
    "own measure",
    places,
    look,
)
