"""`release-bends`: a release so short that it follows the waves of the lows, and makes new sound of them."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.attack import in_lane
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.evidence import Evidence
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.session.records import Session
from gluvo.steps import Glue, Limiter

LIMIT = 1.2
"""dB by which the reduction moves within the waves."""
WAVE, SHOWN = 0.03, 0.12
"""s: of what moves more slowly, which is level and no wave; and what of it is drawn."""
WORKS, LOW, SHARE = 0.5, 200.0, 0.3
"""dB of reduction that counts; Hz, and the share of the energy under it that there must be."""
QUICK, LONGER = 90.0, 3.0
"""ms under which a release is looked at, and the factor that is offered."""


def places(scene: Scene) -> Iterable[Place]:
    """Where nothing is crushed on purpose, as in a lane."""
    found = [(p, s) for p, s in scene.reducing() if isinstance(s, Glue | Limiter) and s.release < QUICK]
    return [p for p, _ in found if not in_lane(scene, p)]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Glue | Limiter) or sides is None:
        return
    before, after = sides
    span = scene.loud_of(before)
    reduced = after.reduced(span)
    if reduced is None or after.reduction is None or reduced.peaks < 1.0:
        return
    tone = before.tone(span)
    loud = tone.left + tone.right
    if float(loud[tone.freqs < LOW].sum()) < SHARE * float(loud.sum()):
        return
    rate = scene.rate / REDUCTION_HOP
    curve = after.reduction.curve[int(span.start * rate) : int(span.end * rate)].astype(np.float64)
    wide = max(3, round(WAVE * rate)) | 1
    if len(curve) < 4 * wide:
        return
    moves = curve - np.convolve(curve, np.full(wide, 1.0 / wide), "same")
    works = curve > WORKS
    works[:wide] = works[-wide:] = False
    if not works.any():
        return
    ripple = 2.0 * float(np.sqrt(2.0 * np.mean(moves[works] ** 2)))
    if ripple < LIMIT:
        return
    worst = int(np.argmax(np.abs(moves) * works))
    shown = slice(max(0, worst - round(SHOWN * rate / 2)), worst + round(SHOWN * rate / 2))
    part = np.asarray(-curve[shown], dtype=np.float64)
    name, release = scene.name(place.strip), round(max(QUICK, LONGER * step.release), -1)

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, release=release)

    yield WatchOut(
        "release-bends",
        place.strip,
        step.id,
        f"A release of {step.release:.3g} ms bends the lows of {name}: the reduction moves by {ripple:.1f} dB within each wave.",
        "It comes back within a wave, and so follows the wave and not its level: new sound of the lows.",
        ripple,
        LIMIT,
        "dB",
        span,
        0.25 + 0.5 * share_of(ripple, LIMIT, 6.0),
        Evidence(
            1000.0 / rate * (np.arange(len(part), dtype=np.float64) - len(part) / 2.0), part, "moment", "dB taken"
        ),
        Offer(f"Release {release:.0f} ms on {name}", edit),
        "change",
    )


KIND = Kind(
    "release-bends",
    "reduction",
    "The release bends lows",
    "How far the reduction moves, peak to peak, within 30 ms, where it works; of releases under 90 ms, where a third of it "
    "lies under 200 Hz.",
    "A decibel up and down within the wave is two hundredths of new sound.",
    "own measure",
    places,
    look,
)
