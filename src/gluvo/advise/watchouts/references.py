"""`references`: a range in which the song lies far outside of all its references."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.tonal_match import MatchSettings, tonal_match, with_match
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.measure.evidence import Evidence
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import octaves
from gluvo.session.records import Session
from gluvo.steps.settings import hertz

LIMIT, BESIDE = 5.0, 2.0
"""dB over or under all references by which an octave must lie, and that references are taken to reach further than they do."""
LOWEST, HIGHEST = 50.0, 10_000.0
"""Hz: what lies further out is a matter of loudspeakers and of files."""
HEARD = 24.0
"""dB under the strongest octave at which one is still looked at, of the song or of the references."""


def places(scene: Scene) -> Iterable[Place]:
    known = tuple((r.id, r.media.sha256) for r in scene.session.references)
    return [Place(p.strip, depends=(*p.depends, known)) for p in scene.mix()] if scene.references else []


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.render.result
    theirs = [(r, scene.loud_of(r), r.loudness(scene.loud_of(r))) for r in scene.references]
    theirs = [row for row in theirs if row[2] > SILENT]
    if not is_heard(joint) or not theirs:
        return
    span, level = scene.loud, joint.loudness(scene.loud)
    centres = octaves(scene.rate, LOWEST, 3)
    centres = centres[centres <= HIGHEST]
    by_octave = 10.0 * np.log10(centres)
    own = joint.tone(span).smoothed("stereo", 1.0, centres) - level + by_octave
    others = np.array([r.tone(s).smoothed("stereo", 1.0, centres) - loud + by_octave for r, s, loud in theirs])
    low, high = others.min(axis=0) - BESIDE, others.max(axis=0) + BESIDE
    out = np.where(own > high, own - high, np.where(own < low, own - low, 0.0))
    heard = np.maximum(own, others.mean(axis=0)) > max(float(own.max()), float(others.max())) - HEARD
    out = out * heard
    worst = int(np.argmax(np.abs(out)))
    off = float(out[worst])
    if abs(off) < LIMIT:
        return
    freq, count = float(centres[worst]), len(theirs)
    match = tonal_match(
        joint.tone(span), [(r.tone(s), loud) for r, s, loud in theirs], scene.rate, MatchSettings(amount=50.0, bands=4)
    )

    def edit(session: Session) -> Session:
        return with_match(session, match.step)[0]

    way = "over" if off > 0.0 else "under"
    which = "its reference" if count == 1 else f"all {count} references"
    yield WatchOut(
        "references",
        place.strip,
        "",
        f"Around {hertz(freq)} the song lies {abs(off) + BESIDE:.0f} dB {way} {which}, at equal loudness.",
        "By octaves, where it or they are strong. What differs (Ctrl+3) tells all of it, and on which bus.",
        abs(off),
        LIMIT,
        "dB",
        span,
        0.2 + 0.4 * share_of(abs(off), LIMIT, 12.0),
        Evidence(centres, own, "frequency", "dB by octaves", beside=np.asarray(others.mean(axis=0)), mark=freq),
        Offer("Half of the difference made up, as a Mid-side EQ before the limiter", edit),
    )


KIND = Kind(
    "references",
    "tone",
    "Far from the references",
    "Octaves at equal loudness, in the loudest stretch of each: how far the song lies outside of what the references span, which "
    "is taken to be 2 dB wider than it is.",
    "Records of one kind differ by some dB in an octave; by seven they are of another kind.",
    "own measure, as on the Compare page",
    places,
    look,
)
