"""Tone towards the references, half of the way and never far; nothing where there are none."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec.structs import replace

from gluvo.advise.drafts.base import MOST_BOOST, MOST_STRENGTH, Look, Part
from gluvo.advise.tonal_match import MatchSettings, tonal_match, with_match
from gluvo.measure.loudness import SILENT
from gluvo.session.records import Session
from gluvo.steps import Band, MidSideEq
from gluvo.steps.settings import hertz

BANDS, AMOUNT = 4, 50.0
"""At most so many bands, for so many % of the difference."""
MOST_UP, MOST_DOWN = MOST_BOOST * 100.0 / MOST_STRENGTH, 2.0
"""dB"""
FAR = 1.5
"""dB RMS that half of the difference must be: less is taste."""


def tone(look: Look) -> Iterable[Part]:
    if not look.is_mix or not look.references:
        return
    scene = look.scene
    joint = scene.end(look.strip)
    if joint.loudness() <= SILENT:
        return
    theirs = [(r.tone(scene.loud_of(r)), r.loudness(scene.loud_of(r))) for r in look.references]
    theirs = [(t, level) for t, level in theirs if level > SILENT]
    if not theirs:
        return
    settings = MatchSettings(amount=AMOUNT, bands=BANDS)
    match = tonal_match(joint.tone(scene.loud_of(joint)), theirs, scene.rate, settings)
    wanted = match.components[0].wanted
    far = float(np.sqrt(np.mean(wanted**2)))
    if far < FAR:
        return
    bands = tuple(replace(b, gain=round(min(MOST_UP, max(-MOST_DOWN, b.gain)), 2)) for b in match.step.bands)
    bands = tuple(b for b in bands if abs(b.gain) >= 0.3)
    if not bands:
        return
    step = MidSideEq(bands=bands, hold_loudness=True)

    def edit(session: Session) -> Session:
        return with_match(session, step)[0]

    count = len(theirs)
    yield Part(
        f"Tone: {_words(bands)}",
        f"The mix departs from {'the reference' if count == 1 else f'{count} references'}; half of that is made up, "
        f"by no more than {MOST_UP:.1f} dB up and {MOST_DOWN:.0f} down.",
        f"{2.0 * far:.1f} dB RMS apart at equal loudness",
        edit,
    )


def _words(bands: tuple[Band, ...]) -> str:
    told = [f"{b.gain:+.1f} dB at {hertz(b.freq)}" for b in sorted(bands, key=lambda b: b.freq)]
    return ", ".join(told).replace("-", "−")
