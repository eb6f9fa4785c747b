"""`muted`: something is left out of what is handed over."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut
from gluvo.session.records import Session


def places(scene: Scene) -> Iterable[Place]:
    muted = tuple(s.id for s in scene.session.strips if s.mute)
    return [Place(scene.session.mix.id, depends=(muted, bool(scene.session.deliverables)))]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    muted = [s for s in scene.session.strips if s.mute]
    if not muted or not scene.session.deliverables:
        return
    names = ", ".join(s.name for s in muted[:3]) + (f" and {len(muted) - 3} more" if len(muted) > 3 else "")

    def edit(session: Session) -> Session:
        for strip in muted:
            now = session.strip(strip.id)
            session = session.with_strip(replace(now, mute=False)) if now is not None else session
        return session

    yield WatchOut(
        "muted",
        muted[0].id,
        "",
        f"{names} {'is' if len(muted) == 1 else 'are'} muted, and will be missing from every file.",
        "If that is meant, dismiss this; the files are written without it.",
        float(len(muted)),
        1.0,
        "strips",
        scene.loud,
        0.35,
        offer=Offer(f"Unmute {names}", edit),
        place=",".join(sorted(s.id for s in muted)),
    )


KIND = Kind(
    "muted",
    "delivery",
    "Muted",
    "Strips that are muted while there are files to be delivered.",
    "One is enough: nothing on the Deliver page sounds otherwise.",
    "own measure",
    places,
    look,
)
