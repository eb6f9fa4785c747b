"""`over-cut`: so many notches that the life goes."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import chain as chained

import numpy as np
from msgspec.structs import replace

from gluvo.advise.tone import cost
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.measure.spectrum import Tone
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import Band, MidSideEq

LIMIT, MANY = 1.0, 5
"""dB of the sound that narrow cuts take together, or so many of them."""
FEW = 3
"""Cuts under which it is a choice."""
STRENGTHS = (70.0, 50.0, 35.0, 25.0, 15.0)
"""% that are offered, the first that leaves too few."""
NARROW, DEEP = 3.0, -1.5
"""Q from which on a cut is narrow, and dB from which on it counts."""


def places(scene: Scene) -> Iterable[Place]:
    plan = scene.render.plan
    for strip in scene.session.strips:
        for item in chains.flat_on(strip.chain):
            if isinstance(item, MidSideEq) and item.id in plan.after:
                yield Place(strip.id, item.id, (plan.before[item.id].key, plan.after[item.id].key))


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, before = scene.session.item(place.step), scene.render.before(place.step)
    if not isinstance(step, MidSideEq) or before is None:
        return
    tone = before.tone(scene.loud_of(before))
    cuts, taken = _cuts(step, tone, scene.rate)
    if not _too_many(cuts, taken):
        return
    strength = next((s for s in STRENGTHS if not _too_many(*_cuts(replace(step, strength=s), tone, scene.rate))), 0.0)

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, strength=strength)

    freqs = np.geomspace(30.0, 16_000.0, 240)
    name = scene.name(place.strip)
    targets = tuple(dict.fromkeys(chained(("stereo",), (b.target for b in cuts))))
    curve = 20.0 * np.log10(np.maximum(np.abs(step.response(targets, freqs, scene.rate)), 1e-6))
    count = len(cuts)
    yield WatchOut(
        "over-cut",
        place.strip,
        step.id,
        f"{count} narrow cut{'s' if count > 1 else ''} take {taken:.1f} dB out of {name}.",
        "Each takes something that was played. Strength scales all of them; what is missed comes back.",
        taken if taken >= LIMIT else float(count),
        LIMIT if taken >= LIMIT else float(MANY),
        "dB" if taken >= LIMIT else "cuts",
        scene.loud_of(before),
        0.2 + 0.5 * share_of(taken, LIMIT * 0.5, 5.0),
        Evidence(freqs, curve, "frequency", "dB", limit=0.0),
        Offer(f"Strength {strength:.0f} % on {name}", edit),
        "change",
    )


def _cuts(step: MidSideEq, tone: Tone, rate: int) -> tuple[list[Band], float]:
    """The narrow cuts of an equaliser, and the dB that they take together."""
    cuts = [
        band
        for band in step.bands
        if band.on and not band.dynamic and band.shape in ("bell", "notch") and band.q >= NARROW
        if band.shape == "notch" or band.scaled(step.strength) <= DEEP
    ]
    return cuts, -sum(cost(step, band, tone, rate).change for band in cuts)


def _too_many(cuts: list[Band], taken: float) -> bool:
    return len(cuts) >= FEW and (taken >= LIMIT or len(cuts) >= MANY)


KIND = Kind(
    "over-cut",
    "tone",
    "Too many cuts",
    "Energy that bells of Q 3 and more with at least 1.5 dB of cut take, each with all others at work, added up.",
    "A dB of what is played is heard as distance; five cuts in one place are no search any more.",
    "own measure, see advise/tone.py",
    places,
    look,
)
