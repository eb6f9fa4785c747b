"""`lingers`: reduction that is still there when the next phrase begins."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, of_time, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.measure.trace import Span, Trace
from gluvo.session.records import Session
from gluvo.steps import Glue

LIMIT, TIMES = 1.5, 2
"""dB that are left; phrases that must begin so."""
GAP, DOWN = 0.4, 14.0
"""s for which it is softer by so many dB than right before: the end of a phrase."""
HOP = 0.05
"""s between levels."""


def places(scene: Scene) -> Iterable[Place]:
    return [p for p, s in scene.reducing() if isinstance(s, Glue)]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Glue) or sides is None:
        return
    before, after = sides
    if after.reduction is None:
        return
    curve, rate = after.reduction.curve, scene.rate / REDUCTION_HOP
    loud = _levels(before.trace)
    if len(loud) < 20:
        return
    left, ends, at = [], [], []
    quiet = loud < float(np.percentile(loud, 90)) - DOWN
    for a, b in itertools.pairwise(np.flatnonzero(np.diff(quiet.astype(np.int8))).tolist()):
        if not quiet[a + 1] or (b - a) * HOP < GAP:
            continue
        moment = (b + 1) * HOP
        n = int((moment - HOP) * rate)
        part = curve[max(0, n - int(HOP * rate)) : n]
        if len(part):
            left.append(float(part.min()))
            ends.append(float(curve[max(0, int(a * HOP * rate) - int(HOP * rate)) : int(a * HOP * rate) + 1].max()))
            at.append(moment)
    if sum(v >= LIMIT for v in left) < TIMES:
        return
    typical = float(np.median([v for v in left if v >= LIMIT]))
    if sum(v >= LIMIT for v in left) < 0.5 * len(left):
        return
    name, worst = scene.name(place.strip), at[int(np.argmax(left))]
    went = float(np.median(ends)) + 1e-9
    quicker = np.log(max(1.01, went / max(0.1, typical))) / np.log(max(2.0, went / (0.4 * LIMIT)))
    release = max(40.0, float(round(min(0.7, 0.7 * quicker) * step.release, -1)))

    def edit(session: Session) -> Session:
        return with_changes(session, step.id, release=release, auto_release=0.0)

    shown = -curve[:: max(1, len(curve) // 600)]
    yield WatchOut(
        "lingers",
        place.strip,
        step.id,
        f"{typical:.1f} dB are still taken from {name} when a phrase begins after a rest.",
        f"{sum(v >= LIMIT for v in left)} of {len(left)} phrases begin so: softer than they were meant, and then they come up.",
        typical,
        LIMIT,
        "dB",
        scene.span_at(worst, 5.0),
        0.2 + 0.5 * share_of(typical, LIMIT, 8.0),
        of_time(shown, Span(0.0, scene.seconds), "dB"),
        Offer(f"Release {release:.0f} ms on {name}", edit) if release < 0.8 * step.release else None,
        "change",
    )


def _levels(trace: Trace) -> Floats:
    """dB in steps of `HOP`."""
    hops = round(HOP / 0.01)
    count = len(trace.squares) // hops
    power = trace.squares[: count * hops].sum(axis=1).reshape(count, hops).mean(axis=1)
    return np.asarray(power_db(power + 1e-12), dtype=np.float64)


KIND = Kind(
    "lingers",
    "reduction",
    "Reduction that lingers",
    "The least that is taken within 50 ms before a phrase that begins after 0.4 s that were softer by 14 dB.",
    "One and a half dB at a beginning are heard as a level that swells.",
    "own measure",
    places,
    look,
)
