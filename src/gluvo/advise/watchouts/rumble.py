"""`rumble`: something moves under what is played."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import with_band
from gluvo.measure.evidence import Evidence
from gluvo.measure.spectrum import octaves
from gluvo.steps import Band

HILL, LIMIT = 6.0, -36.0
"""dB by which it stands over what lies above it, and against all of the stem."""
LOW, FIRST = (10.0, 22.0), (24.0, 30.0)
"""Hz: where it is looked for, and what it must stand over."""
NARROW = 2.0 ** (1.0 / 3.0)
"""How wide it is taken, as a factor."""
CUT = 26.0


def places(scene: Scene) -> Iterable[Place]:
    return scene.stem_ends()


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.end(place.strip)
    if not is_heard(joint):
        return
    tone = joint.tone(scene.loud_of(joint))
    power = tone.left + tone.right

    def density(low: float, high: float) -> float:
        inside = (tone.freqs >= low) & (tone.freqs < high)
        return 10.0 * float(np.log10(max(float(power[inside].mean()) if inside.any() else 0.0, 1e-30)))

    places = np.geomspace(LOW[0], LOW[1] / NARROW, 24)
    hill = max(density(low, low * NARROW) for low in places) - density(*FIRST)
    under = tone.freqs < FIRST[0]
    share = 10.0 * float(np.log10(max(float(power[under].sum()), 1e-30) / max(float(power.sum()), 1e-30)))
    if hill < HILL or share < LIMIT:
        return
    centres = octaves(scene.rate, 10.0, 24)
    centres = centres[centres < 200.0]
    levels = tone.smoothed("stereo", 12, centres)
    inside = centres < FIRST[0]
    peak = float(centres[inside][int(np.argmax(levels[inside]))])
    band = Band(shape="low_cut", freq=CUT, slope=48, q=0.71)
    name = scene.name(place.strip)
    yield WatchOut(
        "rumble",
        place.strip,
        "",
        f"{name} rumbles at {peak:.0f} Hz, {hill:.0f} dB over what lies above it.",
        f"Nobody plays there: it takes headroom and moves detectors. It is {-share:.0f} dB under all of the stem.",
        hill,
        HILL,
        "dB",
        scene.loud_of(joint),
        0.15 + 0.6 * share_of(share, LIMIT, -12.0),
        Evidence(centres, levels, "frequency", "dB", mark=peak),
        Offer(f"Low cut at {CUT:.0f} Hz on {name}", partial(with_band, strip_id=place.strip, band=band)),
        place="low",
    )


KIND = Kind(
    "rumble",
    "what came in",
    "Rumble",
    "The highest third of an octave from 10 to 22 Hz over the mean density from 24 to 30 Hz; all under 24 Hz against the stem.",
    "What is played falls off under its lowest note, so that nothing of it stands as a hill there; what lies more than 36 dB "
    "under the stem, as in many recorded instruments, does no harm.",
    "own measure",
    places,
    look,
)
