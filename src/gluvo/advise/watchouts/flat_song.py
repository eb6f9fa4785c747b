"""`flat-song`: loud and soft parts have come to be alike."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of
from gluvo.measure.evidence import Evidence
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span

LIMIT, LEAST = 0.5, 3.0
"""Of the steps between sections that are left, and LU that there must have been."""


def places(scene: Scene) -> Iterable[Place]:
    spans = tuple((s.start, s.end) for s in scene.session.sections)
    return [Place(p.strip, depends=(*p.depends, scene.render.plan.untouched.key, spans)) for p in scene.mix()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    sections = [s for s in scene.session.sections if s.end - s.start > 3.0]
    if len(sections) < 3:
        return
    levels = np.array(
        [
            [joint.loudness(Span(s.start, s.end)) for s in sections]
            for joint in (scene.render.untouched, scene.render.result)
        ]
    )
    if (levels <= SILENT).any():
        return
    was, became = (float(row.max() - row.min()) for row in levels)
    left = became / max(was, 1e-6)
    if was < LEAST or left > LIMIT:
        return
    yield WatchOut(
        "flat-song",
        place.strip,
        "",
        f"The sections lie {became:.1f} LU apart; they came {was:.1f} LU apart.",
        "What was soft is as loud as the rest: the chorus does not arrive any more.",
        100.0 * left,
        100.0 * LIMIT,
        "%",
        Span(sections[int(np.argmin(levels[0]))].start, sections[int(np.argmin(levels[0]))].end),
        0.3 + 0.5 * share_of(LIMIT - left, 0.0, LIMIT),
        Evidence(
            np.arange(len(sections), dtype=np.float64),
            levels[1] - levels[1].max(),
            "bars",
            "LU under the loudest",
            beside=levels[0] - levels[0].max(),
            names=tuple(s.name for s in sections),
        ),
    )


KIND = Kind(
    "flat-song",
    "loudness",
    "A flat song",
    "The loudest section less the softest, of the result over that of the untouched song.",
    "Masters take a third of it; where half is gone the form is.",
    "ITU-R BS.1770-5 (integrated loudness of sections)",
    places,
    look,
)
