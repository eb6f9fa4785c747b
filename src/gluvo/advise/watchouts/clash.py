"""`clash`: low hits that are hidden under something else in the very range that they are made of."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import with_band
from gluvo.dsp.db import power_db
from gluvo.dsp.filters import Sections
from gluvo.dsp.kernel import Floats
from gluvo.dsp.moving import selector
from gluvo.measure.evidence import Evidence
from gluvo.measure.spectrum import octaves
from gluvo.measure.trace import Span
from gluvo.session.records import Session
from gluvo.session.tree import children
from gluvo.steps import Band
from gluvo.steps.settings import hertz

LIMIT, HITS = 0.6, 8
"""Share of the hits that are hidden; hits that must be there."""
LOW, MOSTLY = 200.0, 0.6
"""Hz, and the share of the energy under it by which hits are low ones: higher ones are heard by much more than one range."""
FALLS = 4.0
"""dB by which they have fallen 150 ms later: what has not is no hit."""
WITHIN, OVER = 0.08, 8.0
"""s of a hit that are compared; dB by which something else must be louder there."""
LOWEST, HIGHEST = 40.0, 160.0
"""Hz between which their main range is looked for."""
Q, DEPTH = 1.4, 6.0
"""Of the band that is offered, and dB by which it gives way."""


def places(scene: Scene) -> Iterable[Place]:
    """Each stem, by all that it may be hidden under."""
    there = [p for p in scene.stem_ends() if not _leads_on(scene, p.strip)]
    gains = tuple((s.id, s.gains, s.mute, s.into) for s in scene.session.strips)
    every = tuple(p.depends for p in there)
    return [Place(p.strip, depends=(every, gains)) for p in there] if len(there) >= 2 else []


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.end(place.strip)
    if not is_heard(joint):
        return
    span = scene.loud_of(joint)
    tone = joint.tone(span)
    loud = tone.left + tone.right
    if float(loud[tone.freqs < LOW].sum()) < MOSTLY * float(loud.sum()):
        return
    onsets = scene.onsets(joint, span)
    if len(onsets) < HITS:
        return
    centres = octaves(scene.rate, LOWEST, 6)
    centres = centres[centres <= HIGHEST]
    freq = float(centres[int(np.argmax(tone.smoothed("stereo", 3.0, centres) + 10.0 * np.log10(centres)))])
    own, later = (_levels(scene, place.strip, span, freq, onsets + after) for after in (0.0, 0.15))
    hits = (own > own.max() - 12.0) & (own - later > FALLS)
    if int(hits.sum()) < HITS:
        return
    found, least = {}, _power(scene, place.strip, freq)
    for other in scene.stem_ends():
        if other.strip != place.strip and not _leads_on(scene, other.strip):
            if _power(scene, other.strip, freq) > least:
                found[other.strip] = _levels(scene, other.strip, span, freq, onsets)
    shares = {strip: float((levels[hits] > own[hits] + OVER).mean()) for strip, levels in found.items()}
    worst = max(shares, key=lambda strip: shares[strip], default="")
    if not worst or shares[worst] < LIMIT:
        return
    name, over, share = scene.name(place.strip), scene.name(worst), shares[worst]
    threshold = round(float(np.clip(np.median(own[hits]) - _gain(scene, place.strip) - 6.0, -60.0, 0.0)), 1)
    band = Band(
        freq=round(freq, 1),
        q=Q,
        gain=0.0,
        dynamic=True,
        moves="down",
        range=DEPTH,
        ratio=4.0,
        threshold=threshold,
        attack=3.0,
        release=90.0,
        key=place.strip,
    )

    def edit(session: Session) -> Session:
        return with_band(session, worst, band)

    yield WatchOut(
        "clash",
        place.strip,
        "",
        f"{100 * share:.0f} % of the hits of {name} lie over {OVER:.0f} dB under {over} around {hertz(freq)}.",
        f"{name} has most of its energy there. A band on {over} that gives way lets each hit by; so does a cut, all the time.",
        100.0 * share,
        100.0 * LIMIT,
        "%",
        span,
        0.2 + 0.4 * share_of(share, LIMIT, 1.0),
        Evidence(
            np.arange(int(hits.sum()), dtype=np.float64), found[worst][hits] - own[hits], "bars", "dB over the hit"
        ),
        Offer(f"A band on {over} at {hertz(freq)} that gives {DEPTH:.0f} dB way to {name}", edit),
    )


def _leads_on(scene: Scene, strip: str) -> bool:
    """Whether a strip is none that sounds by itself."""
    found = scene.session.strip(strip)
    return found is None or found.mute or bool(children(scene.session, strip))


def _gain(scene: Scene, strip: str) -> float:
    """dB at which a strip flows on, by all faders of its way."""
    total, at = 0.0, scene.session.strip(strip)
    while at is not None:
        left, right = at.gains
        total += float(power_db(np.array([(left * left + right * right) / 2.0 + 1e-12]))[0])
        at = scene.session.strip(at.into) if at.into else None
    return total


def _power(scene: Scene, strip: str, freq: float) -> float:
    """How loud a strip is in a range in its own loudest stretch, as it flows into the mix, dB."""
    joint = scene.end(strip)
    if not is_heard(joint):
        return -300.0
    return float(joint.tone(scene.loud_of(joint)).smoothed("stereo", 3.0, np.array([freq]))[0]) + _gain(scene, strip)


def _levels(scene: Scene, strip: str, span: Span, freq: float, at: Floats) -> Floats:
    """How loud a strip is in a range right after each of these times, as it flows into the mix, dB."""
    joint = scene.end(strip)

    def power() -> Floats:
        x = np.array(joint.heard_in(span), dtype=np.float64)
        Sections(selector("bell", freq, Q, scene.rate)).run(x, x)
        return np.concatenate([[0.0], np.cumsum((x**2).sum(axis=1))])

    total, size = joint.once(("power about", freq, span), power), round(WITHIN * scene.rate)
    first = np.clip(np.round(at * scene.rate).astype(np.int64), 0, len(total) - 1)
    last = np.minimum(first + size, len(total) - 1)
    return np.asarray(power_db((total[last] - total[first]) / size + 1e-14) + _gain(scene, strip), dtype=np.float64)


KIND = Kind(
    "clash",
    "tone",
    "Hidden hits",
    "Share of a low stem's hits over which another stem is louder by 8 dB or more in the third of an octave that has most of "
    "their energy, in their first 80 ms, as both flow into the mix.",
    "A hit that adds less than a sixth to what is there is not heard in that range.",
    "own measure, after the masking of equal bands (Zwicker and Fastl, 'Psychoacoustics', ch. 4)",
    places,
    look,
)
