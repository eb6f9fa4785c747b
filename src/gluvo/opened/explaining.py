"""What a setting does to this song, as a small picture, where that says more than words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import soxr

from gluvo.advise.aim import detector_levels
from gluvo.advise.loudness_target import hits_of_joints
from gluvo.advise.try_values import SettingPlace, kept_by, tried_value
from gluvo.deliver.encoding import Encoding, encoded
from gluvo.measure.evidence import Evidence
from gluvo.measure.hits import calm
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import MIX, Session
from gluvo.session.tree import children
from gluvo.steps import Step
from gluvo.steps.ceiling import with_ceiling

ATTACKS = (0.3, 3.0, 10.0, 30.0, 80.0)
"""ms"""
ABOUT, TIMES = 0.0015, 16
"""Seconds to both sides of a catch, and how finely the wave between the samples is drawn."""
CODED = Encoding("mp3", 192)
"""What a wave is encoded by, to show what becomes of a ceiling."""


@dataclass(frozen=True, eq=False)
class Picture:
    """A picture, and what it shows in a sentence."""

    evidence: Evidence
    words: str


@dataclass(frozen=True)
class Asked:
    """A step of the open song, over a section."""

    renderer: Renderer
    session: Session
    step: Step
    span: Span | None
    progress: Progress

    def sides(self) -> tuple[Joint, Joint] | None:
        """What comes into the step, and what comes out; None where it is off."""
        plan, stretch = self.renderer.plan(self.session), self.span or Span(0.0, self.renderer.seconds)
        if self.step.id not in plan.after:
            return None
        pair = plan.before[self.step.id], plan.after[self.step.id]
        found = self.renderer.joints(pair, stretch, self.progress, max(plan.result.memory, self.step.memory))
        before, after = (found[node.key] for node in pair)
        return before, after


Draw = Callable[[Asked], Picture | None]


def _attacks(asked: Asked) -> Picture | None:
    sides = asked.sides()
    if sides is None:
        return None
    place = SettingPlace(asked.step.id, "attack")
    kept = kept_by(asked.step, place, sides[1], asked.span)
    values = (place.value(asked.session), *ATTACKS)
    tried = [tried_value(asked.renderer, asked.session, place, ms, asked.span, kept, asked.progress) for ms in values]
    hits = [(one.hits, one.louder) for one in tried if one.hits is not None]
    if len(hits) < len(values):
        return None
    curves = [calm(h.after) - louder for h, louder in hits]
    first = hits[0][0]
    evidence = Evidence(
        first.times * 1000.0, curves[0], "hit", "dBFS", beside=calm(first.before), more=tuple(curves[1:])
    )
    told = ", ".join(f"{ms:g}" for ms in ATTACKS)
    return Picture(
        evidence, f"The mean hit before (grey), as it is set (thick), and at {told} ms, each as much reduced as now."
    )


def _release(asked: Asked) -> Picture | None:
    sides = asked.sides()
    hits = hits_of_joints(*sides, asked.span) if sides is not None else None
    if hits is None:
        return None
    evidence = Evidence(hits.times * 1000.0, -hits.reduction, "hit", "dB taken", mark=1000.0 * hits.spacing)
    return Picture(
        evidence, f"What is taken after the mean hit; the next one comes after {1000.0 * hits.spacing:.0f} ms (line)."
    )


def _curve(asked: Asked) -> Picture | None:
    sides, curve = asked.sides(), asked.step.transfer()
    keyed = asked.renderer.plan(asked.session).keys.get(asked.step.id)
    if sides is None or curve is None or keyed:
        return None
    levels = detector_levels(asked.step, sides[0], asked.span)
    levels = levels[levels > -60.0]
    if not len(levels):
        return None
    low, high = float(np.percentile(levels, 2)) - 3.0, float(levels.max()) + 1.0
    came = np.linspace(low, max(high, low + 6.0), 120)
    counts, _ = np.histogram(levels, bins=119, range=(float(came[0]), float(came[-1])))
    often = came[0] + np.append(counts, counts[-1]) / max(1, counts.max()) * 0.5 * (came[-1] - came[0])
    threshold = SettingPlace(asked.step.id, "threshold").value(asked.session)
    evidence = Evidence(
        came, np.interp(came, curve.came, curve.gives), "level", "dBFS out", beside=often, mark=threshold
    )
    over = 100.0 * float((levels > threshold).mean())
    return Picture(
        evidence,
        f"The curve over how often the detector reads each level (grey). {over:.0f} % of it lies over the threshold (line).",
    )


def _sides(asked: Asked) -> Picture | None:
    """Whose the side is."""
    strip = asked.session.strip_with(asked.step.id)
    if strip is None:
        return None
    below = [child for child in children(asked.session, strip.id) if not child.mute]
    plan, stretch = asked.renderer.plan(asked.session), asked.span or Span(0.0, asked.renderer.seconds)
    if strip.id == MIX and len(below) < 2:
        return None
    nodes = {child: plan.flowing(child.id) for child in below if child.id in plan.strips}
    found = asked.renderer.joints(nodes.values(), stretch, asked.progress, plan.result.memory)
    powers = []
    for node in nodes.values():
        tone = found[node.key].tone(asked.span)
        powers.append((tone.total("mid"), tone.total("side")))
    whole = [max(1e-30, sum(p[n] for p in powers)) for n in (0, 1)]
    if len(powers) < 2:
        return None
    sides = np.array([100.0 * p[1] / whole[1] for p in powers])
    mids = np.array([100.0 * p[0] / whole[0] for p in powers])
    places = np.arange(len(powers), dtype=np.float64)
    return Picture(
        Evidence(places, sides, "bars", "%", beside=mids, names=tuple(child.name for child in nodes)),
        "Whose the mid is (grey) and whose the side (blue), of what flows in here.",
    )


def _between_samples(asked: Asked) -> Picture | None:
    """The wave at the hardest catch: before, after, and after encoding."""
    sides = asked.sides()
    caught = sides[1].hardest(asked.span) if sides is not None else ()
    if sides is None or not caught:
        return None
    at, rate = caught[0].seconds, sides[0].rate
    stretch = Span(max(0.0, at - 0.5), at + 0.5)
    before, after = (joint.heard_in(stretch) for joint in sides)
    against = with_ceiling(asked.step)
    if against is not None:
        before = before * 10.0 ** ((against.drive + against.output) / 20.0)  # so that it is seen what was held
    coded = encoded(np.ascontiguousarray(after), rate, CODED, asked.progress).decoded
    side = int(np.abs(before).max(axis=0).argmax())
    middle = round((at - stretch.start) * rate)
    near = slice(max(0, middle - round(0.01 * rate)), middle + round(0.01 * rate))
    middle = near.start + int(np.abs(before[near, side]).argmax())
    reach, fine = round(ABOUT * rate), {}
    for name, x in (("before", before), ("after", after), ("coded", coded)):
        part = x[max(0, middle - 8 * reach) : middle + 8 * reach, side].astype(np.float64)
        up = soxr.resample(part, rate, rate * TIMES, quality="VHQ")
        centre = TIMES * (middle - max(0, middle - 8 * reach))
        fine[name] = up[centre - TIMES * reach : centre + TIMES * reach]
    count = min(len(v) for v in fine.values())
    if count < 2 * TIMES:
        return None
    xs = (np.arange(count) - count / 2.0) / (rate * TIMES) * 1000.0
    ceiling = against.ceiling if against is not None else 0.0
    limit = 10.0 ** (ceiling / 20.0)
    limit = limit if fine["after"][np.abs(fine["after"]).argmax()] > 0 else -limit
    evidence = Evidence(
        xs,
        fine["after"][:count],
        "moment",
        "height",
        beside=fine["before"][:count],
        limit=limit,
        more=(fine["coded"][:count],),
    )
    before_db, after_db, coded_db = (f"{20.0 * np.log10(max(1e-9, np.abs(fine[n]).max())):.2f}" for n in fine)
    told = f"{before_db} dB before (grey), {after_db} after (thick), {coded_db} after an {CODED.name} (thin)"
    return Picture(
        evidence, f"The wave between the samples at the hardest catch: {told}; dashed the ceiling.".replace("-", "−")
    )


PICTURES: Mapping[tuple[str, str], Draw] = {
    ("glue", "attack"): _attacks,
    ("glue", "release"): _release,
    ("glue", "auto_release"): _release,
    ("glue", "threshold"): _curve,
    ("glue", "ratio"): _curve,
    ("glue", "knee"): _curve,
    ("glue", "aim"): _curve,
    ("width", "mono_below"): _sides,
    ("width", "side_low_cut"): _sides,
    ("mid_side_eq", "target"): _sides,
    ("limiter", "ceiling"): _between_samples,
    ("limiter", "drive"): _between_samples,
}
"""By kind of step and setting; a new one is a function here."""
