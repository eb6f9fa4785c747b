"""`headroom`: there is no room for the steps to work in."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from gluvo.advise.source import with_room
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.steps.trim import as_trim, gain_at_work

LIMIT = 1.0
"""dB under full scale."""


def places(scene: Scene) -> Iterable[Place]:
    mix = scene.session.mix
    chain = tuple((item.id, item.on, item.has_ceiling, gain_at_work(item)) for item in mix.chain)
    return [Place(mix.id, depends=(scene.render.plan.strips[mix.id].start.key, chain))]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    chain = [item for item in scene.session.mix.chain if item.on]
    gain = sum(gain_at_work(item) for item in chain[:1] if as_trim(item) is not None)
    peak = scene.start(place.strip).figures().true_peak
    works = [item for item in chain if as_trim(item) is None]
    room = -(peak + gain)
    if room >= (LIMIT if works else 0.0) or peak < -100.0:
        return
    over = room < 0.0
    what = f"goes over full scale by {-room:.1f} dB" if over else f"leaves {room:.1f} dB of headroom"
    offer = Offer("Trim to 6 dB of headroom", partial(with_room, strip_id=place.strip, true_peak=peak, along=True))
    yield WatchOut(
        "headroom",
        place.strip,
        "",
        f"What comes into {scene.name(place.strip)} {what}.",
        "Steps that bend or hold have no room to work in; thresholds move along with the Trim.",
        room,
        LIMIT,
        "dB",
        scene.loud,
        0.1 + 0.5 * share_of(-room, 0.0, 6.0),
        offer=offer,
    )


KIND = Kind(
    "headroom",
    "what came in",
    "No headroom",
    "Full scale less the true peak of what comes into the mix chain, its first Trim counted.",
    "Under 1 dB the first step that raises anything clips between samples; without steps only what is over full scale is told.",
    "ITU-R BS.1770-5, annex 2 (true peak)",
    places,
    look,
)
