"""`clicks`: single samples that belong to no sound."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, around, share_of
from gluvo.measure.clicks import found_in
from gluvo.measure.evidence import Evidence

LIMIT = 1


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.start(place.strip)
    audio = joint.heard_in(None)
    frames = found_in(audio)
    if len(frames) < LIMIT:
        return
    times = frames / scene.rate
    first = int(frames[0])
    near = slice(max(0, first - 60), first + 60)
    wave = np.asarray(audio[near], dtype=np.float64)
    channel = int(np.argmax(np.abs(np.diff(wave, axis=0)).max(axis=0))) if len(wave) > 1 else 0
    count = len(frames)
    name = scene.name(place.strip)
    yield WatchOut(
        "clicks",
        place.strip,
        "",
        f"{name} clicks {count} time{'s' if count > 1 else ''}, first at {times[0]:.2f} s.",
        "Single samples stand far over all that lies beside them: a dropped block or a bad edit.",
        float(count),
        float(LIMIT),
        "clicks",
        around(float(times[0]), 2.0, scene.seconds),
        0.3 + 0.5 * share_of(float(count), 1.0, 30.0),
        Evidence(
            np.arange(near.start, near.start + len(wave)) / scene.rate,
            wave[:, channel],
            "time",
            "the wave",
            mark=float(times[0]),
        ),
        place="clicks",
    )


KIND = Kind(
    "clicks",
    "what came in",
    "Clicks",
    "How far a sample is off the mean of its two neighbours, against the most in the millisecond on either side.",
    "Fourteen times as far as anything near it, on both sides: no instrument begins and ends within a sample.",
    "after S. Vaseghi, 'Advanced Digital Signal Processing', ch. 12 (impulsive noise), simplified",
    lambda scene: scene.stems(),
    look,
)
