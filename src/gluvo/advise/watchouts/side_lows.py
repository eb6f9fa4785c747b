"""`side-lows`: low sound that cancels in mono."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import with_first
from gluvo.measure.evidence import Evidence
from gluvo.measure.stereo import bands_of_tone, image_by_frequency
from gluvo.session.records import Session
from gluvo.steps import Width

LIMIT = 3.0
"""dB that a mono sum loses more than a pan would explain."""
RANGES = ((40.0, 90.0), (90.0, 150.0), (150.0, 230.0))
"""Hz"""
HIGHER = (250.0, 1000.0)
OVER = 1.6
"""How far over what cancels the edit reaches, as a factor: its filter has a slope."""
RELEVANT = -22.0
"""dB of its lows against all of it, under which they say nothing."""


def places(scene: Scene) -> Iterable[Place]:
    return scene.stem_ends()


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.end(place.strip)
    if not is_heard(joint):
        return
    tone = joint.tone(scene.loud_of(joint))
    total = float((tone.left + tone.right).sum())
    lost = []
    for band in bands_of_tone(tone, RANGES):
        inside = (tone.freqs >= band.low) & (tone.freqs < band.high)
        left, right = float(tone.left[inside].sum()), float(tone.right[inside].sum())
        share = (left + right) / max(total, 1e-30)
        both = min(left, right) > 0.06 * max(left, right)
        if both and share > 10.0 ** (RELEVANT / 10.0) and band.correlation < 0.3 and band.mono_loss > LIMIT:
            lost.append(band)
    if not lost:
        return
    worst, top = max(lost, key=lambda b: b.mono_loss), OVER * max(b.high for b in lost)
    curve, name = image_by_frequency(tone, scene.rate, 3), scene.name(place.strip)
    shown = (curve.freqs > 30.0) & (curve.freqs < 2000.0)
    if bands_of_tone(tone, (HIGHER,))[0].correlation < -0.5:
        return  # all of it is turned over: that is told as such

    def edit(session: Session) -> Session:
        return with_first(session, place.strip, Width(mono_below=top))

    yield WatchOut(
        "side-lows",
        place.strip,
        "",
        f"The lows of {name} cancel: a mono sum loses {worst.mono_loss:.1f} dB around {(worst.low * worst.high) ** 0.5:.0f} Hz.",
        f"Left and right correlate by {worst.correlation:.2f} there; lows that stand in the middle are firm everywhere.".replace(
            "-", "−"
        ),
        worst.mono_loss,
        LIMIT,
        "dB",
        scene.loud_of(joint),
        0.3 + 0.6 * share_of(worst.mono_loss, LIMIT, 15.0),
        Evidence(
            curve.freqs[shown],
            curve.correlation[shown],
            "frequency",
            "correlation",
            limit=0.0,
            mark=(worst.low * worst.high) ** 0.5,
        ),
        Offer(f"Mono below {top:.0f} Hz on {name}", edit),
    )


KIND = Kind(
    "side-lows",
    "image",
    "Lows that cancel",
    "What a mono sum loses from 40 to 230 Hz, in three ranges, where both sides are there and correlate by less than 0.3.",
    "Three dB are what two unrelated sides lose; sides that lean to one loudspeaker are left out.",
    "own measure, see measure/stereo.py",
    places,
    look,
)
