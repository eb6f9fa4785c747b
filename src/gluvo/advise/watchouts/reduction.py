"""`reduction`: more is taken off the mix than a mix bears."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, of_time, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.measure.loudness import short_term
from gluvo.measure.overview import Reduced, heard_hops
from gluvo.measure.trace import Span
from gluvo.render.reduction import taken_along
from gluvo.session.records import Session
from gluvo.steps import Glue

LIMIT, WANTED = 5.0, 2.0
"""dB at peaks, and what is offered."""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    taken, start = taken_along(scene.render, place.strip), scene.start(place.strip)
    if taken is None:
        return
    heard = heard_hops(start.trace)
    count = min(len(taken.mean), len(heard))
    values = taken.mean[:count][heard[:count]]
    if not len(values):
        return
    peaks = Reduced.among(values).peaks
    if peaks < LIMIT:
        return
    contrast = [
        float(np.percentile(v[v > -60.0], 95) - np.percentile(v[v > -60.0], 10))
        for v in (short_term(start.trace), short_term(scene.render.result.trace))
        if (v > -60.0).any()
    ]
    lost = contrast[0] - contrast[1] if len(contrast) == 2 else 0.0
    glues = [i for i in scene.session.mix.chain if isinstance(i, Glue) and i.on and i.slope > 0.0]
    most = max(glues, key=lambda g: getattr(scene.render.joint(g.id), "mean_reduction", lambda: 0.0)(), default=None)
    offer = None
    if most is not None:
        id = most.id

        def edit(session: Session) -> Session:
            return with_changes(session, id, aim=WANTED, aim_by="peaks", hold_aim=True)

        offer = Offer(f"Glue: {WANTED:.0f} dB at peaks, held", edit)
    share = 100.0 * float((values > 1.0).mean())
    yield WatchOut(
        "reduction",
        place.strip,
        most.id if most is not None else "",
        f"{peaks:.1f} dB are taken off the mix at peaks.",
        f"It works for {share:.0f} % of the time"
        + (f", and takes {lost:.1f} LU from the song's contrast." if lost > 0.2 else "."),
        peaks,
        LIMIT,
        "dB",
        scene.loud,
        0.3 + 0.6 * share_of(peaks, LIMIT, 12.0),
        of_time(-taken.mean[:count][:: max(1, count // 600)], Span(0.0, scene.seconds), "dB", -LIMIT),
        offer,
        "change" if most is not None else "",
    )


KIND = Kind(
    "reduction",
    "reduction",
    "Too much off the mix",
    "What all steps of the mix chain take together, as it arrives, where there is signal: what is passed 5 % of the time.",
    "One to three dB glue; from five on the song breathes with its hits.",
    "own measure, see render/reduction.py",
    lambda scene: scene.mix(),
    look,
)
