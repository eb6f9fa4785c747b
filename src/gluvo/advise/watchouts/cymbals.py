"""`cymbals`: highs that duck under every hit."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.attack import places
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.dsp.db import power_db
from gluvo.dsp.filters import Sections, low_cut
from gluvo.dsp.kernel import Floats
from gluvo.measure.evidence import Evidence
from gluvo.session.records import Session

LIMIT, HITS = 2.5, 8
"""dB by which what rings on falls after a hit, by the step alone; hits that must be there."""
OVER, WITHIN = 5000.0, 0.1
"""Hz, and s after a hit."""
RINGS = -12.0
"""dB over that range right before a hit, against right after it, from which on something rings through it."""
REACTS = 2.0
"""dB from which on the step reacts to a hit."""
HOP = 0.005


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    found = scene.gluing(place, LIMIT)
    if found is None:
        return
    step, before, after, span, reduced = found.step, found.before, found.after, found.span, found.reduced
    onsets = scene.onsets(before, span)
    if len(onsets) < HITS:
        return
    was, now = (_highs(joint.heard_in(span), scene.rate) for joint in (before, after))
    count = min(len(was), len(now))
    gain = now[:count] - was[:count]
    ducked, shapes = [], []
    for at in onsets:
        n = round(at / HOP)
        left, right = was[max(0, n - 12) : max(0, n - 2)], was[n : n + round(WITHIN / HOP)]
        if n < 12 or n + 60 > count or not len(left) or float(left.mean() - right.max()) < RINGS:
            continue
        down = float(gain[n - 12 : n - 2].mean() - gain[n + 2 : n + round(WITHIN / HOP)].min())
        if down < REACTS:
            continue  # it is no hit to the compressor
        ducked.append(down)
        shapes.append(gain[n - 12 : n + 60] - gain[n - 12 : n - 2].mean())
    if len(ducked) < HITS:
        return
    typical = float(np.median(ducked))
    if typical < LIMIT:
        return
    name, aim = scene.name(place.strip), max(0.5, round(0.4 * LIMIT / typical * reduced.peaks, 1))

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, aim=aim, aim_by="peaks", hold_aim=True)

    yield WatchOut(
        "cymbals",
        place.strip,
        step.id,
        f"What rings over 5 kHz on {name} ducks by {typical:.1f} dB under each hit.",
        "Cymbals that breathe with the drums tell the compressor before anything else does.",
        typical,
        LIMIT,
        "dB",
        span,
        0.25 + 0.5 * share_of(typical, LIMIT, 9.0),
        Evidence(
            1000.0 * HOP * (np.arange(72, dtype=np.float64) - 12.0),
            np.asarray(np.median(np.array(shapes), axis=0), dtype=np.float64),
            "hit",
            "dB over 5 kHz",
        ),
        Offer(f"{aim:.1f} dB at peaks on {name}, held", edit),
        "change",
    )


def _highs(x: np.ndarray, rate: int) -> Floats:
    """Level over `OVER` in steps of `HOP`, dB."""
    made = np.array(x, dtype=np.float64)
    Sections(low_cut(OVER, 24, rate)).run(made, made)
    size = round(HOP * rate)
    count = len(made) // size
    return np.asarray(
        power_db((made[: count * size] ** 2).sum(axis=1).reshape(count, size).mean(axis=1) + 1e-12), dtype=np.float64
    )


KIND = Kind(
    "cymbals",
    "reduction",
    "Highs that duck",
    "Gain over 5 kHz before a hit less its least within 100 ms after it, by the step alone; the median of hits that it reacts to "
    "and through which something rings there.",
    "Two and a half dB of sudden loss over a sound that rings on are heard as breathing.",
    "own measure",
    places,
    look,
)
