"""Every strip and joint of a song in figures, for scripts, and to be checked against other programs."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from gluvo.measure.overview import Reduced
from gluvo.measure.trace import Span
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered
from gluvo.session import chains
from gluvo.session.records import AnyStrip, Session
from gluvo.steps import Step


def figures_of_joints(session: Session, song: Rendered, span: Span | None = None) -> dict[str, Any]:
    """Plain data: for each strip what comes into its chain and, for each step and container that is on, what comes out of
    it: loudness in LUFS, true peak in dBTP, its reduction in dB, what is held and what was found, and by how many ms it is
    late itself. Over a span of the song, or all of it."""
    return {"strips": [_strip(strip, song, span) for strip in session.strips]}


def _strip(strip: AnyStrip, song: Rendered, span: Span | None) -> dict[str, Any]:
    came, sent = song.start(strip.id), song.sent(strip.id, span)
    joints = [(item, song.joint(item.id)) for item in chains.in_order(strip.chain) if item.on]
    return {
        "id": strip.id,
        "name": strip.name,
        "in": _levels(came, span) if came is not None else None,
        "joints": [_joint(item, joint, song, span) for item, joint in joints if joint is not None],
        "out": {"loudness": sent.integrated, "true_peak": sent.true_peak} if sent is not None else None,
    }


def _levels(joint: Joint, span: Span | None) -> dict[str, float]:
    figures = joint.figures(span)
    return {"loudness": figures.integrated, "true_peak": figures.true_peak}


def _joint(item: Step, joint: Joint, song: Rendered, span: Span | None) -> dict[str, Any]:
    at_work = song.plan.at_work.get(item.id)
    late = at_work.step.make(joint.rate).latency if at_work is not None else 0
    return {
        "step": item.id,
        "name": item.called,
        **_levels(joint, span),
        "reduction": _reduction(joint.taken_by(item, span), joint.wet_reduced(span)),
        "holds": {setting: getattr(item, setting) for setting in item.held_now},
        "late_ms": 1000.0 * late / joint.rate,
    }


def _reduction(arrives: Reduced | None, wet: Reduced | None) -> dict[str, Any] | None:
    """Where nothing passes beside what is reduced, all of it arrives."""
    if arrives is None:
        return None
    return {**asdict(arrives), "wet": asdict(wet or arrives)}
