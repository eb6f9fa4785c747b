"""`one-sided`: one side is louder all along."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, is_heard, share_of
from gluvo.measure.evidence import Evidence

LIMIT = 2.0
"""dB"""
STEADY = 0.8
"""Share of the time for which the same side is the louder."""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.render.result
    if not is_heard(joint):
        return
    weighted = joint.trace.weighted[: joint.trace.whole_hops]
    size = max(1, round(1.0 / joint.trace.hop_seconds))
    whole = len(weighted) // size * size
    if not whole:
        return
    seconds = weighted[:whole].reshape(-1, size, 2).mean(axis=1)
    loud = seconds.sum(axis=1) > 1e-3 * seconds.sum(axis=1).max()
    balance = 10.0 * np.log10(np.maximum(seconds[loud, 0], 1e-14) / np.maximum(seconds[loud, 1], 1e-14))
    powers = weighted.mean(axis=0)
    apart = 10.0 * float(np.log10(max(powers[0], 1e-14) / max(powers[1], 1e-14)))
    steady = float((np.sign(balance) == np.sign(apart)).mean())
    if abs(apart) < LIMIT or steady < STEADY:
        return
    side = "left" if apart > 0.0 else "right"
    yield WatchOut(
        "one-sided",
        place.strip,
        "",
        f"The song is {abs(apart):.1f} dB louder on the {side}.",
        f"It is so for {100 * steady:.0f} % of the time: a place in the image that nobody chose.",
        abs(apart),
        LIMIT,
        "dB",
        scene.loud,
        0.3 + 0.6 * share_of(abs(apart), LIMIT, 8.0),
        Evidence(np.linspace(0.0, scene.seconds, len(balance)), balance, "time", "dB, left over right", limit=0.0),
    )


KIND = Kind(
    "one-sided",
    "image",
    "One side is louder",
    "K-weighted power of left over right, of the whole song, and the share of seconds in which the same side leads.",
    "Two dB move a voice out of the middle; arrangements lean for a while, faults for the whole song.",
    "ITU-R BS.1770-5 (K-weighting)",
    lambda scene: scene.mix(),
    look,
)
