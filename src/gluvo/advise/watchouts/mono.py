"""`mono`: what is wide goes in mono."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import with_last
from gluvo.measure.evidence import Evidence
from gluvo.measure.stereo import StereoBand, bands_of_tone
from gluvo.session.records import Session
from gluvo.steps import Width

LIMIT = 3.5
"""dB"""
RANGES = ((140.0, 500.0), (500.0, 2000.0), (2000.0, 6000.0))


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.render.result
    if not is_heard(joint):
        return
    bands = bands_of_tone(joint.tone(scene.loud), RANGES)
    worst = max(bands, key=lambda b: b.mono_loss)
    if worst.mono_loss < LIMIT:
        return
    where = f"from {worst.low:.0f} to {worst.high:.0f} Hz"
    whose, name = _whose(scene, worst)

    def edit(session: Session) -> Session:
        return with_last(session, whose, Width(width_1=60.0, hold_loudness=False))

    yield WatchOut(
        "mono",
        place.strip,
        "",
        f"A mono sum loses {worst.mono_loss:.1f} dB {where}.",
        f"Most of what cancels there comes out of {name}.",
        worst.mono_loss,
        LIMIT,
        "dB",
        scene.loud,
        0.3 + 0.6 * share_of(worst.mono_loss, LIMIT, 10.0),
        Evidence(
            np.arange(len(bands), dtype=np.float64),
            np.array([b.mono_loss for b in bands]),
            "bars",
            "dB lost in mono",
            limit=LIMIT,
            names=tuple(f"{b.low:.0f}–{b.high:.0f} Hz" for b in bands),
        ),
        Offer(f"Width of {name} to 60 %", edit),
    )


def _whose(scene: Scene, band: StereoBand) -> tuple[str, str]:
    """The strip that sends most side in that range, and its name."""
    found = []
    for strip in scene.session.stems:
        if strip.mute or strip.id not in scene.renderer.material.sounds:
            continue
        tone = scene.end(strip.id).tone(scene.loud)
        inside = (tone.freqs >= band.low) & (tone.freqs < band.high)
        gain = max(abs(g) for g in strip.gains) ** 2
        found.append((gain * float(tone.power("side")[inside].sum()), strip.id))
    id = max(found)[1] if found else scene.session.mix.id
    return id, scene.name(id)


KIND = Kind(
    "mono",
    "image",
    "Lost in mono",
    "What a mono sum of the result loses in three ranges from 140 Hz to 6 kHz.",
    "Three dB are what unrelated sides lose; more says that they work against each other.",
    "own measure, see measure/stereo.py",
    lambda scene: scene.mix(),
    look,
)
