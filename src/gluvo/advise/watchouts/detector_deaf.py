"""`detector-deaf`: a compressor does not notice the hits that it stands over."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.step_analysis import analysed_step
from gluvo.advise.watchouts.attack import places
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.advise.watchouts.edits import with_changes
from gluvo.dsp.filters import response
from gluvo.measure.evidence import Evidence
from gluvo.measure.hits import rise_at
from gluvo.measure.paths import Paths
from gluvo.session.records import Session
from gluvo.steps import Glue
from gluvo.steps.glue import HIGHEST_CUT, LOWEST_CUT

LIMIT, HITS, WOULD = 0.25, 8, 0.5
"""Share of the hits that are noticed; hits that must be there; and the share that would be, were the detector open."""
RISES = 1.25
"""By how much the power rises at a hit at least."""
LOSES = 0.25
"""Part of the energy over which a detector is not looked at any closer."""


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    step, sides = scene.session.item(place.step), scene.sides(place.step)
    if not isinstance(step, Glue) or sides is None or step.key or step.slope <= 0.0:
        return
    if step.low_cut <= LOWEST_CUT and step.high_cut >= HIGHEST_CUT and not step.bell_gain and not step.second_gain:
        return  # it hears all there is
    before, after = sides
    span = scene.loud_of(before)
    tone = before.tone(span)
    loud = tone.left + tone.right
    heard = float((loud * np.abs(response(step.detector_sections(scene.rate), tone.freqs, scene.rate)) ** 2).sum())
    if heard > LOSES * float(loud.sum()):
        return  # it hears most of what there is
    onsets = scene.onsets(before, span)
    onsets = onsets[rise_at(before.heard_in(span), scene.rate, onsets) >= RISES]
    reduced = after.reduced(span)
    if len(onsets) < HITS or reduced is None:
        return
    paths = analysed_step(step, before, after, span).paths
    if paths is None:
        return
    noticed = float(paths.noticed(onsets, step.curve).mean())
    would = float((Paths(paths.signal, paths.signal).read_at(onsets) > step.threshold).mean())
    if noticed > LIMIT or would < WOULD:
        return
    name, aim = scene.name(place.strip), max(0.5, round(reduced.peaks, 1))

    def edit(session: Session) -> Session:
        opened = {"low_cut": LOWEST_CUT, "high_cut": HIGHEST_CUT, "bell_gain": 0.0, "second_gain": 0.0}
        return with_changes(session, step.id, **opened, aim=aim, aim_by="peaks", hold_aim=True)

    yield WatchOut(
        "detector-deaf",
        place.strip,
        step.id,
        f"The compressor of {name} notices {100 * noticed:.0f} % of {len(onsets)} hits; with an open detector it would be "
        f"{100 * would:.0f} %.",
        "What its detector leaves out is what most of the hits are made of.",
        100.0 * noticed,
        100.0 * LIMIT,
        "%",
        span,
        0.2 + 0.4 * share_of(LIMIT - noticed, 0.0, LIMIT),
        Evidence(
            np.arange(2.0), 100.0 * np.array([noticed, would]), "bars", "% of the hits", names=("as it is set", "open")
        ),
        Offer(f"The detector open on {name}, {aim:.1f} dB at peaks held", edit),
        "detector",
    )


KIND = Kind(
    "detector-deaf",
    "reduction",
    "Deaf to hits",
    "Share of the hits in the loudest stretch whose level at the detector asks for 0.1 dB or more, where cuts or bells shape it, "
    "against the share that are over the threshold as they are.",
    "A detector may leave out kicks on purpose; one that leaves out two of three hits leaves out what it is for.",
    "own measure, see measure/paths.py",
    places,
    look,
)
