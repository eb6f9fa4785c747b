"""`lows-drive`: kick and bass move all the rest."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.step_analysis import analysed_step
from gluvo.advise.watchouts.attack import places
from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import lows_out_offer
from gluvo.dsp.filters import response
from gluvo.measure.drive import RANGES
from gluvo.measure.evidence import Evidence
from gluvo.measure.spectrum import Tone
from gluvo.steps import Glue
from gluvo.steps.settings import hertz

LIMIT, UNDER = 0.65, 120.0
"""Of the energy that triggers; Hz under which it is."""
OTHERS = 0.02
"""Share of the energy over 200 Hz that there must be: of lows alone, lows may drive a compressor."""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    if len(scene.session.stems) > 1 and any(s.id == place.strip for s in scene.session.stems):
        return  # what is one instrument drives itself
    found = scene.gluing(place)
    if found is None or found.step.key:
        return
    step, before, after, span, reduced = found.step, found.before, found.after, found.span, found.reduced
    tone = before.tone(span)
    loud = tone.left + tone.right
    high = float(loud[tone.freqs >= 200.0].sum() / max(float(loud.sum()), 1e-30))
    if high < OTHERS:
        return
    if _expected(step, tone, scene.rate) < 0.5 * LIMIT:
        return  # it does not come near, whenever it reduces
    around = analysed_step(step, before, after, span)
    drive = around.drive
    if drive is None:
        return
    share = drive.share(0.0, UNDER)
    if share < LIMIT:
        return
    name = scene.name(place.strip)
    yield WatchOut(
        "lows-drive",
        place.strip,
        step.id,
        f"Lows drive the compressor of {name}: {100 * share:.0f} % of what triggers lies under {UNDER:.0f} Hz.",
        "All that lies higher goes down with every low note. The cut is the detector's; the sound keeps its lows.",
        100.0 * share,
        100.0 * LIMIT,
        "%",
        span,
        0.25 + 0.5 * share_of(share, LIMIT, 1.0) * share_of(reduced.peaks, 0.5, 4.0),
        Evidence(
            np.arange(len(RANGES), dtype=np.float64),
            100.0 * np.array(drive.ranges),
            "bars",
            "% of what triggers",
            names=tuple(hertz((low * high) ** 0.5) for low, high in RANGES),
        ),
        lows_out_offer(step.id, name, reduced.peaks),
        "detector",
    )


def _expected(step: Glue, tone: Tone, rate: int) -> float:
    """Share of what the detector hears under `UNDER`, whether it reduces or not."""
    heard = (tone.left + tone.right) * np.abs(response(step.detector_sections(rate), tone.freqs, rate)) ** 2
    return float(heard[tone.freqs < UNDER].sum() / max(float(heard.sum()), 1e-30))


KIND = Kind(
    "lows-drive",
    "reduction",
    "Lows drive it",
    "Share of the energy under 120 Hz of what the detector hears, weighted by the reduction at that time.",
    "Above two thirds what one hears move is moved by what one hardly hears.",
    "own measure, see measure/drive.py",
    places,
    look,
)
