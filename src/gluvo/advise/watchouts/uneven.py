"""`uneven`: notes of a low part that jump out, or go under."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.advise.watchouts.edits import with_last
from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats
from gluvo.measure.evidence import Evidence
from gluvo.measure.hits import find_onsets, rise_at
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import Glue

LIMIT, NOTES = 6.5, 16
"""dB between the 10th and the 90th percentile of notes, and notes that must be there."""
LOW, MOSTLY = 200.0, 0.8
"""Hz, and the share of the energy under it by which a part is a low one."""
LASTS = 0.25
"""s from a note's beginning in which its level is read."""
NEIGHBOURS = 9
"""Notes whose median is what a note is held against, so that a louder chorus is not uneven."""
RISES, FALLS = 1.25, 2.0
"""By how much the power rises or falls at the beginning of a note at least."""
HITS, HITS_SHARE = 0.14, 0.76
"""s, and the share of a note's energy: where so much is over by then, it is a hit, and not held."""


def places(scene: Scene) -> Iterable[Place]:
    return scene.stem_ends()


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    joint, strip = scene.start(place.strip), scene.session.strip(place.strip)
    if not is_heard(joint) or strip is None:
        return
    if any(isinstance(item, Glue) and not item.key for item in chains.flat_on(strip.chain)):
        return  # it is seen to already; what ducks under a key is for something else
    tone = joint.tone(scene.loud_of(joint))
    loud = tone.left + tone.right
    if float(loud[tone.freqs < LOW].sum()) < MOSTLY * float(loud.sum()):
        return
    times, levels = _notes(joint.heard_in(None), scene.rate)
    if len(levels) < NOTES:
        return
    apart = levels - _around(levels)
    spread = float(np.percentile(apart, 90) - np.percentile(apart, 10))
    if spread < LIMIT:
        return
    name, worst = scene.name(place.strip), float(times[int(np.argmax(np.abs(apart)))])
    aim = min(6.0, round(0.6 * spread, 1))

    def edit(session: Session) -> Session:
        made = Glue(
            ratio=4.0, attack=15.0, release=150.0, knee=6.0, aim=aim, aim_by="peaks", hold_aim=True, hold_loudness=True
        )
        return with_last(session, place.strip, made)

    yield WatchOut(
        "uneven",
        place.strip,
        "",
        f"The notes of {name} are uneven: {spread:.1f} dB lie between its loud and its soft ones.",
        "Each is held against those about it, so that a louder chorus does not count; the loudest hide what lies above them.",
        spread,
        LIMIT,
        "dB",
        scene.span_at(worst, 6.0),
        0.3 + 0.5 * share_of(spread, LIMIT, 16.0),
        Evidence(times, apart, "time", "dB against its neighbours"),
        Offer(f"Glue 4:1, {aim:.1f} dB at peaks held, on {name}", edit),
    )


def _notes(x: np.ndarray, rate: int) -> tuple[Floats, Floats]:
    """When held notes begin, s, and how loud each is, dB; hits and what hardly sounds are left out."""
    onsets = find_onsets(x, rate, gap=0.2)
    rises = rise_at(x, rate, onsets)
    onsets = onsets[(rises >= RISES) | (rises <= 1.0 / FALLS)]  # else it is the last note that beats as it goes on
    size, half = round(LASTS * rate), round(HITS * rate)
    times, levels = [], []
    for at in onsets:
        part = x[round(at * rate) : round(at * rate) + size].astype(np.float64)
        power = (part**2).sum(axis=1)
        total = float(power.sum())
        if len(part) < size or total <= 0.0 or float(power[:half].sum()) > HITS_SHARE * total:
            continue
        times.append(float(at))
        levels.append(float(power_db(np.array([total / size]))[0]))
    found = np.array(levels)
    if not len(found):
        return np.zeros(0), found
    heard = found > found.max() - 35.0
    return np.array(times)[heard], found[heard]


def _around(levels: Floats) -> Floats:
    wide = NEIGHBOURS // 2
    padded = np.pad(levels, wide, mode="reflect" if len(levels) > wide else "edge")
    return np.asarray(np.median(np.lib.stride_tricks.sliding_window_view(padded, NEIGHBOURS), axis=1))


KIND = Kind(
    "uneven",
    "tone",
    "Uneven lows",
    "Of stems that lie mostly under 200 Hz: each held note's level over a quarter of a second against the median of nine, the "
    "90th percentile less the 10th.",
    "Players come to five dB; what is over it is heard as notes that are gone or jump out.",
    "own measure",
    places,
    look,
)
