"""Loudness to target: the last limiter's drive for which the whole song meets the target, and what that costs."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

from gluvo.errors import GluvoError
from gluvo.measure.hits import Hits, hits_of
from gluvo.measure.loudness import SILENT
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.measure.trace import Span
from gluvo.render.chain import Progress, no_progress
from gluvo.render.song import Joint, Renderer
from gluvo.session.records import Session
from gluvo.steps import Limiter

CLOSE = 0.02
"""LU within which the search stops."""
TRIES = 10


@dataclass(frozen=True)
class Cost:
    """What a limiter takes for the loudness."""

    largest: float
    """dB of reduction."""
    mean: float
    """dB of reduction, over the whole song."""
    plr_lost: float
    """dB of peak to loudness, against the limiter's input."""
    punch_kept: float | None
    """Hits' punch after ÷ before, over the span looked at; None if there are too few hits."""


@dataclass(frozen=True)
class Reached:
    """A drive that was looked for."""

    step: str
    drive: float
    ceiling: float
    loudness: float
    true_peak: float
    met: bool
    """Within 0.05 LU of the target."""
    cost: Cost


def last_limiter(session: Session) -> Limiter | None:
    """The last limiter of the mix bus that is on."""
    return next((s for s in reversed(session.mix.chain) if isinstance(s, Limiter) and s.on), None)


def reach_target(
    renderer: Renderer, session: Session, span: Span | None = None, progress: Progress = no_progress
) -> Reached:
    """Drive the mix bus's last limiter so that the whole song, at the very end, is as loud as the session's target.

    The limiter's ceiling becomes the target's true peak. Each try renders the song from the limiter on; the
    drive follows by regula falsi, since loudness rises with drive, ever more slowly. Raises `GluvoError` if there is no
    limiter or no sound.
    """
    target = session.target
    limiter = last_limiter(session)
    if limiter is None:
        raise GluvoError("The mix bus has no limiter that is on. Add one to bring the song to its target.")
    plan = renderer.plan(session)
    before = renderer.joint(plan.before[limiter.id], None, lambda d: progress(0.2 * d))
    if before.figures().integrated <= SILENT:
        raise GluvoError("The song is silent before the limiter, so there is no loudness to reach.")
    tries = 0

    def attempt(drive: float) -> tuple[Joint, Joint, float]:
        nonlocal tries
        tried = renderer.plan(
            session.with_step(msgspec.structs.replace(limiter, drive=drive, ceiling=target.true_peak))
        )
        share, wanted = 0.2 + 0.8 * tries / TRIES, (tried.after[limiter.id], tried.result)
        joints = renderer.joints(wanted, None, lambda d: progress(share + 0.8 / TRIES * d))
        tries += 1
        after, out = (joints[node.key] for node in wanted)
        return after, out, out.figures().integrated

    low, high = 0.0, 24.0
    guess = before.figures().integrated + limiter.drive
    known = renderer.cache_of(plan.result)
    drive = min(high, max(low, limiter.drive + target.loudness - (known.figures().integrated if known else guess)))
    after, out, loudness = attempt(drive)
    low_error: float | None = None
    high_error: float | None = None
    while abs(loudness - target.loudness) > CLOSE and tries < TRIES:
        error = loudness - target.loudness
        if (error > 0.0 and drive <= low) or (error < 0.0 and drive >= high):
            break  # the end of the range
        if error < 0.0:
            low, low_error = drive, error
        else:
            high, high_error = drive, error
        if low_error is not None and high_error is not None:
            share = low_error / (low_error - high_error)
            drive = low + (high - low) * min(0.95, max(0.05, share))
        else:
            drive = min(high, max(low, drive - 1.15 * error))
        after, out, loudness = attempt(drive)
    hits = hits_of_joints(before, after, span)
    into, end = before.figures(), after.figures()
    progress(1.0)
    return Reached(
        limiter.id, drive, target.true_peak, loudness, out.figures().true_peak,
        abs(loudness - target.loudness) <= 0.05,
        Cost(after.largest_reduction(), after.mean_reduction(), into.plr - end.plr,
             hits.punch_kept if hits else None),
    )  # fmt: skip


def hits_of_joints(before: Joint, after: Joint, span: Span | None) -> Hits | None:
    """The hits of a span, before and after a step. None if there are fewer than two."""
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    frames = inner.frames(rate, len(before.audio))
    assert after.reduction is not None
    curve = after.reduction.curve[frames.start // REDUCTION_HOP : frames.stop // REDUCTION_HOP]
    return hits_of(before.audio[frames], after.audio[frames], curve, after.reduction.curve_rate, rate)
