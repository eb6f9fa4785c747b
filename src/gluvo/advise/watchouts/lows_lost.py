"""`lows-lost`: a compressor takes the low end along."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.attack import places
from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import lows_out_offer
from gluvo.measure.evidence import Evidence

LIMIT = 1.2
"""dB"""
THIRDS = 1000.0 * 2.0 ** (np.arange(-14, 13) / 3.0)
"""Hz"""
LOW, MIDDLE = (39.0, 110.0), (400.0, 4000.0)


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    found = scene.gluing(place)
    if found is None:
        return
    step, before, after, span, reduced = found.step, found.before, found.after, found.span, found.reduced
    was, became = (joint.tone(span).smoothed("stereo", 3.0, THIRDS) for joint in (before, after))
    change = became - was
    low = (LOW[0] <= THIRDS) & (LOW[1] >= THIRDS)
    middle = (MIDDLE[0] <= THIRDS) & (MIDDLE[1] >= THIRDS)
    relevant = was[low].max() > was.max() - 25.0
    lost = float(change[middle].mean() - change[low].mean())
    if lost < LIMIT or not relevant:
        return
    name = scene.name(place.strip)
    yield WatchOut(
        "lows-lost",
        place.strip,
        step.id,
        f"The compressor of {name} takes {lost:.1f} dB more from the lows than from the middle.",
        "What triggers it is what it turns down most. The detector's low cut leaves the low end where it was.",
        lost,
        LIMIT,
        "dB",
        span,
        0.3 + 0.5 * share_of(lost, LIMIT, 5.0),
        Evidence(
            THIRDS, change - float(change[middle].mean()), "frequency", "dB at equal middle", limit=0.0, mark=70.0
        ),
        lows_out_offer(step.id, name, reduced.peaks) if step.low_cut < 100.0 else None,
        "change",
    )


KIND = Kind(
    "lows-lost",
    "reduction",
    "Lows lost",
    "Change of thirds of an octave from 39 to 110 Hz against those from 400 Hz to 4 kHz, after the step less before.",
    "Half a dB is what any compressor does; more than one is heard as a thinner song.",
    "IEC 61260-1 (thirds of an octave)",
    places,
    look,
)
