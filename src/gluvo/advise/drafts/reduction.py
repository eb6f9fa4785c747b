"""A little glue, where there are hits that stand out and nothing draws them together yet."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from gluvo.advise.drafts.base import Look, Part
from gluvo.advise.loudness_target import hits_of_joints
from gluvo.advise.watchouts.base import is_heard
from gluvo.advise.watchouts.edits import LOWS_OUT, with_last
from gluvo.measure.hits import Hits
from gluvo.session.records import Bus, Session
from gluvo.session.tree import children
from gluvo.steps import Glue

AIM = 2.0
"""dB at peaks: at the highest strength it is as much as a draft may take of the mix."""
HITS = 12
"""In the loudest stretch, under which nothing is drawn together."""
STANDS_OUT = 5.0
"""dB by which the tops of hits stand over what follows them; under it, there is nothing that a Glue would hold."""
DENSE = 10.0
"""dB of peak to loudness under which a mix is dense already."""
TAKEN = 0.7
"""dB at peaks that are taken already, over which no more is."""
LOWS, HEAVY = 120.0, 0.5
"""Hz, and the share of the energy under it from which on the detector does without it."""
ATTACK, QUICKEST, SLOWEST = 30.0, 60.0, 400.0
"""ms: of the attack, which lets the hits' tops by, and of releases."""
BACK_BY = 0.6
"""Part of the hits' spacing by which the level is back."""


def reduction(look: Look) -> Iterable[Part]:
    scene, strip = look.scene, look.scene.session.strip(look.strip)
    if not isinstance(strip, Bus) or len(children(scene.session, strip.id)) < 2:
        return  # there is nothing to be drawn together
    joint = scene.end(look.strip)
    if not is_heard(joint):
        return
    span = scene.loud_of(joint)
    hits = hits_of_joints(joint, joint, span)
    if hits is None or len(hits.onsets) < HITS:
        return
    punch, plr = punch_of(hits), joint.figures().plr
    if punch < STANDS_OUT or plr < DENSE or _taken(look) > TAKEN:
        return
    tone = joint.tone(span)
    loud = tone.left + tone.right
    share = float(loud[tone.freqs < LOWS].sum() / max(float(loud.sum()), 1e-30))
    release = float(np.clip(round(1000.0 * BACK_BY * hits.spacing, -1), QUICKEST, SLOWEST))
    step = Glue(
        ratio=2.0,
        attack=ATTACK,
        release=release,
        knee=6.0,
        low_cut=LOWS_OUT if share > HEAVY else 20.0,
        aim=AIM,
        aim_by="peaks",
        hold_aim=True,
        hold_loudness=True,
    )

    def edit(session: Session) -> Session:
        return with_last(session, strip.id, step)

    lows = f", lows kept out of its detector under {LOWS_OUT:.0f} Hz" if share > HEAVY else ""
    yield Part(
        f"Glue 2:1, {AIM:.1f} dB at peaks held, attack {ATTACK:.0f} ms, release {release:.0f} ms{lows}",
        "Hits stand out and nothing draws the parts together yet; the attack lets their tops by, and the level is back before "
        "the next one.",
        f"hits {punch:.1f} dB over what follows, every {1000.0 * hits.spacing:.0f} ms; peak to loudness {plr:.1f} dB; "
        f"{100.0 * share:.0f} % of the energy under {LOWS:.0f} Hz",
        edit,
    )


def punch_of(hits: Hits) -> float:
    """dB by which the mean hit's top of 10 ms stands over what is there from 50 to 150 ms after it."""
    top = hits.before[(hits.times >= 0.0) & (hits.times <= 0.01)]
    rest = hits.before[(hits.times >= 0.05) & (hits.times <= 0.15)]
    return float(top.max() - rest.mean()) if len(top) and len(rest) else 0.0


def _taken(look: Look) -> float:
    """dB at peaks that the strip's steps take already, the most of one."""
    found = [look.scene.render.joint(step.id) for place, step in look.scene.reducing() if place.strip == look.strip]
    reduced = [joint.reduced() for joint in found if joint is not None]
    return max((r.peaks for r in reduced if r is not None), default=0.0)
