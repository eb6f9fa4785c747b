"""What the steps of a chain take away together, Splits included."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from gluvo.dsp.compression import arriving, arriving_by
from gluvo.dsp.envelope import Envelope
from gluvo.dsp.kernel import Floats
from gluvo.measure.overview import heard_hops
from gluvo.measure.trace import Span
from gluvo.measure.truepeak import hop_frames
from gluvo.render.plan import Within
from gluvo.render.song import Rendered
from gluvo.steps import Step

NO_POWER = 1e-12
"""Mean square under which nothing is said of what is taken from a sound."""


@dataclass(frozen=True, eq=False)
class StripReduction:
    """What is taken away in every 10 ms, dB."""

    mean: Floats
    most: Floats

    def __add__(self, other: StripReduction) -> StripReduction:
        return StripReduction(self.mean + other.mean, self.most + other.most)


def taken_by(render: Rendered, step: str) -> StripReduction | None:
    """What a step takes away, or a container with all its rows; None for what takes nothing, or is not rendered."""
    item = render.plan.item(step)
    if item is not None and item.told_rows:
        taken = _by_rows(render, item)
        return taken if taken is None else _within(render, item, taken)
    joint = render.joint(step)
    if joint is None or joint.reduction is None:
        return None
    return StripReduction(joint.reduction.mean, joint.reduction.top)


def taken_along(render: Rendered, strip: str) -> StripReduction | None:
    """What the steps of a strip's chain take away together, lanes aside; None where none takes anything."""
    found = render.plan.strips.get(strip)
    each = [taken_by(render, id) for id in found.along] if found is not None else []
    there = [taken for taken in each if taken is not None]
    total = there[0] if there else None
    for taken in there[1:]:
        assert total is not None
        total = total + taken
    if total is None or found is None or found.share == 1.0:
        return total
    return StripReduction(arriving(total.mean, found.share), arriving(total.most, found.share))


def mean_along(render: Rendered, strip: str, span: Span | None = None) -> float:
    """What they take away on average over a span, where there is signal, dB; each step's mean added up, as it arrives where
    not all of the chain is in what comes out."""
    found, total = render.plan.strips.get(strip), 0.0
    for id in found.along if found is not None else ():
        before, after = render.before(id), render.plan.after[id]
        item = render.plan.item(id)
        if item is not None and item.told_rows and before is not None:  # once: screens ask at each look
            total += before.once(("rows", after.key, span), partial(_mean_of_rows, render, id, span))
        elif (joint := render.joint(id)) is not None:
            total += joint.mean_reduction(span)
    return float(arriving(np.array([total]), found.share)[0]) if found is not None else total


def _mean_of_rows(render: Rendered, id: str, span: Span | None) -> float:
    taken, before = taken_by(render, id), render.before(id)
    if taken is None or before is None:
        return 0.0
    inner, heard = before.within(span), heard_hops(before.trace)
    hop = hop_frames(before.rate) / before.rate
    rows = slice(max(0, round(inner.start / hop)), max(0, round(inner.end / hop))) if inner else slice(None)
    counted = taken.mean[rows][heard[: len(taken.mean)][rows]]
    return float(counted.mean()) if len(counted) else 0.0


def _within(render: Rendered, container: Step, taken: StripReduction) -> StripReduction:
    """What arrives, where the container works in some sections alone."""
    node, joint = render.plan.after.get(container.id), render.joint(container.id)
    if not isinstance(node, Within) or joint is None:
        return taken
    hop = hop_frames(joint.rate)
    places = joint.start * joint.rate + (np.arange(len(taken.mean)) + 0.5) * hop
    shares = Envelope.at(node.heard, joint.rate).read(places)
    return StripReduction(arriving_by(taken.mean, shares), arriving_by(taken.most, shares))


def _by_rows(render: Rendered, container: Step) -> StripReduction | None:
    """By how much the power of the whole is less for what the steps of its rows take from theirs."""
    before = render.before(container.id)
    if before is None:
        return None
    whole = before.trace.squares.mean(axis=1)
    there = np.zeros(len(whole))
    lost = [np.zeros(len(whole)), np.zeros(len(whole))]
    some = False
    for row in container.told_rows:
        steps = [(step, render.joint(step.id)) for step in row.steps if row.on and step.on]
        at_work = [
            (step, joint.reduction) for step, joint in steps if joint is not None and joint.reduction is not None
        ]
        came = render.before(at_work[0][0].id) if at_work else None
        if came is None:
            continue
        some, power = True, came.trace.squares.mean(axis=1)
        there += power
        for n, curves in enumerate(([r.mean for _, r in at_work], [r.top for _, r in at_work])):
            taken = arriving(np.sum(curves, axis=0), row.share)
            lost[n] += power * (1.0 - 10.0 ** (taken / -10.0))
    if not some:
        return None
    # where crossovers ring on after what came in, the bands are the whole: never more is lost than the most in any of them
    whole = np.maximum(np.maximum(whole, there), NO_POWER)
    left = [1.0 - part / whole for part in lost]
    mean, most = (-10.0 * np.log10(share) for share in left)
    return StripReduction(mean, most)
