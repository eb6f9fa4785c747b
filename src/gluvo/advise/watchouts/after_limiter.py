"""`after-limiter`: something comes after what holds the ceiling."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.session.records import Session
from gluvo.steps.ceiling import last_limiter

LIMIT = 0.1
"""dB over the ceiling"""


def places(scene: Scene) -> Iterable[Place]:
    chain = tuple((item.id, item.on) for item in scene.session.mix.chain)
    return [Place(p.strip, depends=(*p.depends, chain, scene.session.mix.gains)) for p in scene.mix()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    session = scene.session
    limiter = last_limiter(session.mix.chain)
    if limiter is None:
        return
    ids = [item.id for item in session.mix.chain]
    later = [item for item in session.mix.chain[ids.index(limiter.id) + 1 :] if item.on and not item.is_transparent]
    ceiling = min(0.0, limiter.ceiling + limiter.output)
    over = scene.render.result.figures().true_peak - ceiling
    raised = max(map(abs, session.mix.gains)) > 1.0001
    if over < LIMIT or not (later or raised or session.mix.amount != 100.0):
        return
    what = ", ".join(item.title for item in later) or ("the mix fader" if raised else "the chain's amount")

    def edit(session: Session) -> Session:
        rest = [item for item in session.mix.chain if item.id != limiter.id]
        last = [item for item in session.mix.chain if item.id == limiter.id]
        return session.with_chain(session.mix.id, (*rest, *last))

    yield WatchOut(
        "after-limiter",
        place.strip,
        limiter.id,
        f"{what[0].upper()}{what[1:]} after the limiter raises the song {over:.1f} dB over its ceiling.",
        f"The limiter holds {ceiling:.1f} dBTP; what comes out is higher.".replace("-", "−"),
        over,
        LIMIT,
        "dB",
        scene.loud,
        0.3 + 0.5 * share_of(over, LIMIT, 3.0),
        offer=Offer("Limiter to the end of the chain", edit) if later else None,
    )


KIND = Kind(
    "after-limiter",
    "loudness",
    "After the limiter",
    "True peak of the result over the ceiling of the mix bus's last limiter, where something comes after it.",
    "A ceiling that does not hold is none; 0.1 dB is what measuring between samples may differ by.",
    "ITU-R BS.1770-5, annex 2 (true peak)",
    places,
    look,
)
