"""Loudness to target: the last limiter's drive for which the whole song meets the target, and what that costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec

from gluvo.errors import GluvoError
from gluvo.measure.hits import hits_of
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.render.chain import Progress, no_progress
from gluvo.render.song import Joint, Renderer, rendered_joint
from gluvo.session.records import Target
from gluvo.steps import Limiter, Step

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


def last_limiter(chain: Sequence[Step]) -> Limiter | None:
    return next((s for s in reversed(chain) if isinstance(s, Limiter) and s.on), None)


def reach_target(
    renderer: Renderer, chain: Sequence[Step], target: Target, span: Span | None = None,
    progress: Progress = no_progress,
) -> Reached:  # fmt: skip
    """Drive the last limiter so that the whole song, after the whole chain, is as loud as the target.

    The limiter's ceiling becomes the target's true peak. Each try renders the song from the limiter on; the
    drive follows by regula falsi, since loudness rises with drive, ever more slowly. Raises `GluvoError` if there is no
    limiter or no sound.
    """
    limiter = last_limiter(chain)
    if limiter is None:
        raise GluvoError("The chain has no limiter that is on. Add one to bring the song to its target.")
    index = [s.id for s in chain].index(limiter.id)
    before = renderer.song(chain[:index], lambda d: progress(0.2 * d)).result
    if before.figures().integrated <= SILENT:
        raise GluvoError("The song is silent before the limiter, so there is no loudness to reach.")
    later = [s for s in chain[index + 1 :] if s.on]
    tries = 0

    def attempt(drive: float) -> tuple[Joint, Joint, float]:
        nonlocal tries
        step = msgspec.structs.replace(limiter, drive=drive, ceiling=target.true_peak)
        share = 0.2 + 0.8 * tries / TRIES
        out = after = rendered_joint(step, "", before, lambda d: progress(share + 0.8 / TRIES * d))
        for next_step in later:
            out = rendered_joint(next_step, "", out, lambda _: progress(share))
        tries += 1
        return after, out, out.figures().integrated

    low, high = 0.0, 24.0
    drive = min(high, max(low, limiter.drive + target.loudness - _known_loudness(renderer, chain, before)))
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


def hits_of_joints(before: Joint, after: Joint, span: Span | None):  # type: ignore[no-untyped-def]
    """The hits of a span, before and after a step. None if there are fewer than two."""
    rate = before.trace.rate
    span = before.within(span) or Span(0.0, before.trace.seconds)
    frames = span.frames(rate, len(before.audio))
    assert after.reduction is not None
    curve = after.reduction.curve[frames.start // 16 : frames.stop // 16]
    return hits_of(before.audio[frames], after.audio[frames], curve, after.reduction.curve_rate, rate)


def _known_loudness(renderer: Renderer, chain: Sequence[Step], before: Joint) -> float:
    """The loudness at the present drive if it is rendered; else a guess from the limiter's input."""
    if renderer.known(chain):
        return renderer.song(chain).result.figures().integrated
    limiter = last_limiter(chain)
    return before.figures().integrated + (limiter.drive if limiter else 0.0)
