"""`polarity`: one channel of a stem is turned over."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import first_place
from gluvo.measure.evidence import Evidence
from gluvo.measure.stereo import bands_of_tone
from gluvo.session.records import Session
from gluvo.steps import Trim

LIMIT = -0.5
RANGES = ((60.0, 250.0), (250.0, 1000.0), (1000.0, 4000.0))
"""Hz, in most of which it must be so."""


def places(scene: Scene) -> Iterable[Place]:
    return scene.stem_ends()


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint = scene.end(place.strip)
    if not is_heard(joint):
        return
    bands = bands_of_tone(joint.tone(scene.loud_of(joint)), RANGES)
    if sum(band.correlation < LIMIT for band in bands) < 2:
        return
    correlation = joint.figures().correlation
    if correlation > LIMIT:
        return
    name = scene.name(place.strip)

    def edit(session: Session) -> Session:
        return session.with_new_step(Trim(invert_right=True), place.strip, first_place(session, place.strip))

    yield WatchOut(
        "polarity",
        place.strip,
        "",
        f"One channel of {name} is turned over: left and right correlate by {correlation:.2f}.".replace("-", "−"),
        "In mono it all but goes; on two loudspeakers it stands nowhere.",
        correlation,
        LIMIT,
        "",
        scene.loud_of(joint),
        0.5 + 0.5 * share_of(-correlation, -LIMIT, 1.0),
        Evidence(
            np.arange(len(bands), dtype=np.float64),
            np.array([b.correlation for b in bands]),
            "bars",
            "correlation",
            limit=0.0,
            names=tuple(f"{b.low:.0f}–{b.high:.0f} Hz" for b in bands),
        ),
        Offer(f"Turn over the right of {name}", edit),
    )


KIND = Kind(
    "polarity",
    "what came in",
    "A channel turned over",
    "Correlation of left and right over the stem, and of three ranges of it.",
    "Wide sounds come to 0, and single ranges below it; all of a stem under −0.5 is a cable, not a sound.",
    "own measure",
    places,
    look,
)
