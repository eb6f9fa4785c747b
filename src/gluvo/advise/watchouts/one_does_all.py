"""`one-does-all`: the limiter does the work of three."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, of_time, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.trace import Span
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import Clipper
from gluvo.steps.ceiling import last_limiter, with_ceiling

LIMIT = 3.5
"""dB at peaks"""


def places(scene: Scene) -> Iterable[Place]:
    found = last_limiter(scene.session.mix.chain)
    return [place for place, step in scene.reducing() if found is not None and step.id == found.id]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    limiter, after = with_ceiling(scene.session.item(place.step)), scene.render.joint(place.step)
    reduced = after.reduced() if after is not None else None
    if limiter is None or after is None or reduced is None or reduced.peaks < LIMIT or after.reduction is None:
        return
    chain, half = scene.session.mix.chain, round(0.5 * reduced.most, 1)
    others = [i for i in chain if i.on and i.has_ceiling and i.id != limiter.id]
    offer = None
    if not others:

        def edit(session: Session) -> Session:
            made = Clipper(drive=limiter.drive, ceiling=min(0.0, limiter.ceiling + half), output=0.0)
            before = chains.before_which(session.mix.chain, limiter.id)
            session = session.with_new_step(made, session.mix.id, before)
            return with_changes(session, limiter.id, drive=0.0)

        offer = Offer("A Clipper before the limiter takes the tops", edit)
    curve = -after.reduction.mean
    yield WatchOut(
        "one-does-all",
        place.strip,
        limiter.id,
        f"The {limiter.title.lower()} takes {reduced.peaks:.1f} dB at peaks, {reduced.most:.1f} at most.",
        "One step that does it all is heard; two that share it are less so.",
        reduced.peaks,
        LIMIT,
        "dB",
        scene.loud,
        0.25 + 0.6 * share_of(reduced.peaks, LIMIT, 9.0),
        of_time(curve[:: max(1, len(curve) // 600)], Span(0.0, scene.seconds), "dB", -LIMIT),
        offer,
        "change",
    )


KIND = Kind(
    "one-does-all",
    "loudness",
    "The limiter does it all",
    "What the last limiter of the mix takes where there is signal: what is passed 5 % of the time.",
    "Up to three dB a limiter works unheard on most music.",
    "own measure, see measure/overview.py",
    places,
    look,
)
