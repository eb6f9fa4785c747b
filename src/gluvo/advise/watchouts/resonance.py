"""`resonance`: a place that rings, and a range that builds up, whatever is played."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, is_voice, share_of
from gluvo.advise.watchouts.edits import with_band
from gluvo.measure.evidence import Evidence
from gluvo.measure.resonances import BROAD, Resonance, Scale, resonances, sameness
from gluvo.measure.spectrum import Tone, octaves
from gluvo.session.records import MIX
from gluvo.session.tree import children
from gluvo.steps import Band
from gluvo.steps.settings import hertz

RINGS, STEADY, NARROWEST = 5.0, 0.68, 8.5
"""dB over what lies about it, share of the time, and the Q over which it may be a partial."""
ONE_SOUND, OF_ONE, OF_ONE_NARROW, NARROWEST_OF_ONE = 0.9, 9.0, 11.5, 12.0
"""The likeness of all that a stem plays from which on it is one sound again and again, such as a cymbal: partials of its own
stand out by eight dB; and the dB that are told of such a one, more where it is narrow, up to a Q."""
OVER_NOTES = 1500.0
"""Hz over which no instrument's lowest partial lies for long."""
BUILDS_UP, WIDE, WIDEST = 6.5, Scale(3.0, 2.0), 6.0
"""dB by which a third of an octave of the whole mix stands over two octaves about it, and how that is told; its highest Q."""
LOW, HIGH = 90.0, 1000.0
"""Hz between which a mix builds up."""
NOTE = 0.85
"""Share of all that is heard from which on a range is the music itself: a note that is held, and no build-up."""
HEARD = 0.02
"""Share of all under which a range is none that a mix is heard by."""
MOSTLY = 0.6
"""Share of a range from which on it is told as one strip's."""


def places(scene: Scene) -> Iterable[Place]:
    strips = scene.render.plan.strips
    mix = scene.session.mix.id
    return [
        *scene.stem_ends(),
        Place(mix, depends=(strips[mix].end.key,)),
    ]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.end(place.strip)
    if not is_heard(joint):
        return
    span = scene.loud_of(joint)
    if place.strip == MIX:
        found = joint.once(("builds up", span), lambda: resonances(joint.heard_in(span), scene.rate, "mid", (WIDE,)))
        tone = joint.tone(span)
        whole = max(float(tone.power("mid").sum()), 1e-30)
        found = tuple(r for r in found if _power(tone, r) > HEARD * whole and _power(tone, r, 1.5) < NOTE * whole)
        kept = [
            r
            for r in found
            if r.prominence >= BUILDS_UP and LOW <= r.freq <= HIGH and r.q <= WIDEST and r.steady >= STEADY
        ]
        yield from (_told(scene, place.strip, r, BUILDS_UP, True) for r in kept[:1])
        return
    if is_voice(scene.name(place.strip)):
        return  # vowels are made of such places
    found = joint.once(("rings", span), lambda: resonances(joint.heard_in(span), scene.rate, "mid", (BROAD,)))
    kept = [r for r in found if r.prominence >= RINGS and r.freq >= OVER_NOTES and r.steady >= STEADY]
    if not kept:
        return
    alike = joint.once(("alike", span), lambda: sameness(joint.heard_in(span), scene.rate))
    if alike < ONE_SOUND:
        kept = [r for r in kept if r.q <= NARROWEST]
    else:
        kept = [
            r
            for r in kept
            if r.q <= NARROWEST_OF_ONE and r.prominence >= (OF_ONE if r.q <= NARROWEST else OF_ONE_NARROW)
        ]
    yield from (_told(scene, place.strip, r, RINGS if alike < ONE_SOUND else OF_ONE, False) for r in kept[:1])


def _told(scene: Scene, strip: str, one: Resonance, limit: float, of_mix: bool) -> WatchOut:
    joint = scene.end(strip)
    span = scene.loud_of(joint)
    tone, centres = joint.tone(span), octaves(scene.rate, 40.0, 24)
    levels, around = (tone.smoothed("mid", fraction, centres) for fraction in (6, 1))
    at, share = _whose(scene, strip, one) if of_mix else (strip, 1.0)
    name, freq = scene.name(at), hertz(one.freq)
    depth = -round(min(12.0, (one.prominence - limit + 3.5) / max(share, 0.5)), 1)
    band = Band(freq=round(one.freq, 1), gain=depth, q=round(min(2.5 if of_mix else 6.0, max(1.0, 0.7 * one.q)), 2))
    if of_mix:
        text = f"The mix builds up around {freq}, {one.prominence:.1f} dB over what lies about it."
        detail = (
            f"{100 * share:.0f} % of it comes from {name}."
            if at != strip
            else "Several meet there; none of them makes most of it."
        )
    else:
        text = f"{name} rings at {freq}, {one.prominence:.1f} dB over what lies about it, whatever is played."
        detail = f"It stands out for {100 * one.steady:.0f} % of the loudest stretch, over where notes have their lowest partial."
    return WatchOut(
        "resonance",
        strip,
        "",
        text,
        detail,
        one.prominence,
        limit,
        "dB",
        span,
        (0.35 if of_mix else 0.25) + 0.6 * share_of(one.prominence, limit, 14.0),
        Evidence(centres, levels, "frequency", "dB", beside=around, mark=one.freq),
        Offer(
            f"Bell {freq}, {band.gain:.1f} dB, Q {band.q:.1f} on {name}".replace("-", "−"),
            partial(with_band, strip_id=at, band=band),
        ),
        place="builds up" if of_mix else f"{round(3 * np.log2(one.freq / 55.0))}",
    )


def _whose(scene: Scene, strip: str, one: Resonance) -> tuple[str, float]:
    """The strip from which most of a range comes, as far down as it is one's, and its share; the mix itself where none is."""
    best, share = strip, 1.0
    while True:
        powers = []
        for child in children(scene.session, best):
            if child.mute or child.id not in scene.render.plan.strips:
                continue
            end = scene.end(child.id)
            gain = sum(g * g for g in child.gains) / 2.0
            powers.append((gain * _power(end.tone(scene.loud_of(scene.end(strip))), one), child.id))
        total = sum(power for power, _ in powers)
        if not powers or total <= 0.0:
            return best, share
        most, id = max(powers)
        if share * most / total < MOSTLY:
            return best, share
        best, share = id, share * most / total


def _power(tone: Tone, one: Resonance, wide: float = 1.15) -> float:
    inside = (tone.freqs >= one.freq / wide) & (tone.freqs <= one.freq * wide)
    return float(tone.power("mid")[inside].sum())


KIND = Kind(
    "resonance",
    "tone",
    "Rings, or builds up",
    "A sixth of an octave against an octave and a half about it, of each stem over 1.5 kHz; a third of an octave against two "
    "octaves, of the whole mix from 90 Hz to 1 kHz; in windows of a third of a second.",
    "Bodies come to four dB; single notes are narrower, or move on with the music. One sound that is played again and again, "
    "such as a cymbal, has partials of its own that stand out by eight: there it is nine.",
    "own measure, see measure/resonances.py",
    places,
    look,
)
