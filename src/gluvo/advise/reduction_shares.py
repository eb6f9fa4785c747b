"""Whose the reduction of a step is: how much less is taken without each of the stems that it hears."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from msgspec.structs import replace

from gluvo.measure.loudness import loudest_span
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Session, Stem
from gluvo.session.tree import path

LONGEST, LOOKED_AT = 20.0, 15.0
"""Seconds of a stretch from which on only its loudest part is looked at, and how long that is."""
LEAST = 0.05
"""dB of mean reduction under which there is nothing to be shared."""


@dataclass(frozen=True)
class Share:
    """A stem's part in a reduction."""

    stem: str
    """Its id."""
    share: float
    """By how much less is taken on average without it, 0–1. Shares need not add up to 1: two stems that pass the threshold
    together only take a share each, and where each would do alone, neither has one."""


def contributors(session: Session, step_id: str) -> tuple[str, ...]:
    """The ids of the stems that a step's detector hears together; none where it hears one alone, or has no key there is."""
    step, own = session.item(step_id), session.strip_with(step_id)
    if step is None or own is None or not step.reduces:
        return ()
    heard_strip = step.keys_from[0] if step.keys_from else own.id
    found = tuple(
        strip.id
        for strip in session.strips
        if isinstance(strip, Stem) and not strip.mute and heard_strip in path(session, strip.id)
    )
    return found if len(found) > 1 else ()


def looked_at(joint: Joint, span: Span) -> Span:
    """Where of a stretch the shares are looked for: all of it, or of a long one its loudest part."""
    if span.seconds <= LONGEST:
        return span
    begin = span.start + loudest_span(joint.section(span), LOOKED_AT)
    return Span(begin, min(span.end, begin + LOOKED_AT))


def shares_of(
    renderer: Renderer, session: Session, step_id: str, span: Span, progress: Progress = no_progress
) -> tuple[Share, ...]:
    """The shares of all that a step's detector hears, the largest first; none where nothing is taken.

    Each stem in turn is muted, with everything as it is set: what is held is not found anew. Its faders, chains and
    buses are as they are, so that what they do without it is counted, too.
    """
    plan = renderer.plan(session)
    stems = contributors(session, step_id)
    if not stems or step_id not in plan.after:
        return ()
    lead = plan.result.memory
    whole = _mean(renderer, session, step_id, span, lead, progress)
    if whole < LEAST:
        return ()
    found = []
    for n, id in enumerate(stems):
        stem = session.strip(id)
        assert stem is not None
        without = session.with_strip(replace(stem, mute=True))
        left = _mean(renderer, without, step_id, span, lead, partial(_at, progress, n / len(stems)))
        found.append(Share(id, min(1.0, max(0.0, 1.0 - left / whole))))
    return tuple(sorted(found, key=lambda share: -share.share))


def _at(progress: Progress, share: float, _: float) -> None:
    """Stop one of several renders where all of them are stopped; they go on together."""
    progress(share)


def _mean(renderer: Renderer, session: Session, step_id: str, span: Span, lead: float, progress: Progress) -> float:
    """dB taken on average over a stretch, silence included: the same time with and without a stem."""
    after = renderer.joint(renderer.plan(session).after[step_id], span, progress, lead)
    inner = after.within(span)
    if after.reduction is None or inner is None:
        return 0.0
    rate = after.reduction.curve_rate
    part = after.reduction.curve[round(inner.start * rate) : round(inner.end * rate)]
    return float(part.mean()) if len(part) else 0.0
