"""`alone`: a part is heard alone while files are to be written."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut
from gluvo.session.records import Session


def places(scene: Scene) -> Iterable[Place]:
    """On the Deliver page alone: anywhere else one does it to work."""
    view = scene.session.view
    if view.page != "deliver" or not scene.session.deliverables:
        return []
    return [Place(scene.session.mix.id, depends=(view.solo,))]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    solo = scene.session.view.solo
    names = [s.name for s in scene.session.strips if s.id in solo]
    names += [item.called for item in scene.session.items if item.id in solo]
    if not names:
        return
    told = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")

    def edit(session: Session) -> Session:
        return session.looking(solo=())

    yield WatchOut(
        "alone",
        place.strip,
        "",
        f"You hear {told} alone; the files have the whole song.",
        "What you judge here is not what is written.",
        float(len(names)),
        1.0,
        "strips",
        scene.loud,
        0.3,
        offer=Offer("Hear the whole song", edit),
        place=",".join(sorted(solo)),
    )


KIND = Kind(
    "alone",
    "delivery",
    "Heard alone",
    "What is heard alone on the Deliver page, while there are files to be written.",
    "One is enough: all figures there are of the whole song.",
    "own measure",
    places,
    look,
)
