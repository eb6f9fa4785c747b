"""`flat-tops`: the wave was cut off before it came here."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, around, share_of
from gluvo.measure.evidence import Evidence

LIMIT, LEAST = 4.0, 5
"""Runs a minute, and how many there must be at all."""
BINS = 120


def places(scene: Scene) -> Iterable[Place]:
    return [Place(p.strip, depends=(*p.depends, len(scene.flat.get(p.strip, ())))) for p in scene.stems()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    tops = scene.flat.get(place.strip, ())
    seconds = max(1.0, scene.seconds)
    per_minute = 60.0 * len(tops) / seconds
    if len(tops) < LEAST or per_minute < LIMIT:
        return
    strip = scene.session.strip(place.strip)
    offset = getattr(strip, "offset", 0.0)
    times = np.array([offset + top.start / scene.rate for top in tops])
    counts, edges = np.histogram(times, BINS, (0.0, scene.seconds))
    most = int(np.argmax(counts))
    longest = max(top.length for top in tops)
    yield WatchOut(
        "flat-tops",
        place.strip,
        "",
        f"{scene.name(place.strip)} is cut off flat {len(tops)} times.",
        f"It was clipped before it came here; the longest is flat for {longest} samples. Ask for it softer.",
        per_minute,
        LIMIT,
        "a minute",
        around(float(edges[most]), 3.0, scene.seconds),
        0.2 + 0.6 * share_of(per_minute, LIMIT, 300.0),
        Evidence(edges[:-1], counts.astype(np.float64), "time", "flat tops"),
    )


KIND = Kind(
    "flat-tops",
    "what came in",
    "Clipped before it came",
    "Runs of at least three samples at a local maximum that bend far less than what lies beside them.",
    "A few happen where levels were rounded; from four a minute on something was clipped.",
    "own measure, see measure/flattops.py",
    places,
    look,
)
