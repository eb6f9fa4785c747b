"""Loudness to target: the last limiter's drive for which the whole song meets the target, and what that costs."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
import numpy as np

from gluvo.errors import GluvoError
from gluvo.measure.hits import Hits, hits_of
from gluvo.measure.loudness import SILENT, loudest_rms, short_term_peak
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import MIX, Session, Target
from gluvo.steps import Clipper, Limiter, Trim, settings_of
from gluvo.steps.limiter import last_limiter
from gluvo.steps.trim import raised

CLOSE = 0.02
"""LU within which the search stops."""
TRIES = 12
LEAST_SLOPE, LONGEST_STEP = 0.02, 16.0
"""LU that a dB of drive is taken to add at least, and dB by which the drive is moved at most."""
LEAST_DRIVE, MOST_DRIVE = -48.0, 48.0
"""dB of gain into the limiter that are tried."""


@dataclass(frozen=True)
class ReachCost:
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
    """dB; less than 0 where the song was too loud without any drive, and less gain goes into the limiter; more than the
    limiter's own drive can be where more gain goes in."""
    ceiling: float
    loudness: float
    true_peak: float
    met: bool
    """Within 0.05 LU of the target."""
    cost: ReachCost

    @property
    def why_not(self) -> str:
        """Why the target was not met, in words; nothing if it was."""
        if self.met:
            return ""
        if self.drive >= MOST_DRIVE:
            return f"{MOST_DRIVE:.0f} dB more gain into the limiter is as far as it goes, and more would only be denser"
        if self.drive <= LEAST_DRIVE:
            return f"{-LEAST_DRIVE:.0f} dB less gain into the limiter is as far as it goes"
        return "the loudness does not follow the drive any nearer"


def driven(session: Session, step: str, drive: float, ceiling: float) -> Session:
    """The session with a limiter of the mix bus driven by so much against a ceiling, with no gain after it.

    What a drive under 0 dB lacks, or one over the limiter's range has too much, is the work of a Trim right before the
    limiter: the one that stands there, if it is on and its range allows, or a new one.
    """
    limiter = next(s for s in session.mix.chain if s.id == step)
    own = settings_of(Limiter)["drive"].clamp(drive)
    limiter = msgspec.structs.replace(limiter, drive=round(own, 3), ceiling=ceiling, output=0.0, hold_loudness=False)
    session, rest = session.with_step(limiter), round(drive - own, 3)
    if rest == 0.0:
        return session
    before = chains.before_which(session.mix.chain, step)
    if (trim := raised(session.step(before), rest)) is not None:
        return session.with_step(trim)
    return session.with_new_step(Trim(gain=rest), MIX, before)


def reach_target(
    renderer: Renderer,
    session: Session,
    span: Span | None = None,
    progress: Progress = no_progress,
    step: str = "",
) -> Reached:
    """Drive the mix bus's last limiter so that the whole song, at the very end, is as loud as the session's target.

    The limiter's ceiling becomes the target's true peak. A song that is too loud without any drive gets less gain into
    the limiter; see `driven`. Each try renders the song from there on; the drive follows by regula falsi, since
    loudness rises with drive, ever more slowly. `step`: another limiter or clipper of the mix
    bus to drive. Raises `GluvoError` if there is no limiter or no sound.
    """
    target = session.target
    named = session.step(step) if step else None
    limiter = named if isinstance(named, Limiter | Clipper) else last_limiter(session.mix.chain)
    if limiter is None:
        raise GluvoError("The mix bus has no limiter that is on. Add one to bring the song to its target.")
    plan = renderer.plan(session)
    before = renderer.joint(plan.before[limiter.id], None, lambda d: progress(0.2 * d))
    if before.loudness() <= SILENT:
        raise GluvoError("The song is silent before the limiter, so there is no loudness to reach.")
    tries = 0

    def attempt(drive: float) -> tuple[Joint, Joint, Joint, float]:
        nonlocal tries
        tried = renderer.plan(driven(session, limiter.id, drive, target.true_peak))
        share = 0.2 + 0.8 * tries / TRIES
        wanted = (tried.before[limiter.id], tried.after[limiter.id], tried.result)
        joints = renderer.joints(wanted, None, lambda d: progress(share + 0.8 / TRIES * d))
        tries += 1
        into, after, out = (joints[node.key] for node in wanted)
        return into, after, out, level_of(out, target)

    low, high = LEAST_DRIVE, MOST_DRIVE
    guess = level_of(before, target) + limiter.drive
    known = renderer.cache_of(plan.result)
    drive = min(high, max(low, limiter.drive + target.loudness - (level_of(known, target) if known else guess)))
    into, after, out, loudness = attempt(drive)
    low_error: float | None = None
    high_error: float | None = None
    before_it: tuple[float, float] | None = None
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
        else:  # the denser it is, the less a dB of drive adds
            slope = 1.0
            if before_it is not None and drive != before_it[0]:
                slope = min(1.0, max(LEAST_SLOPE, (error - before_it[1]) / (drive - before_it[0])))
            before_it = drive, error
            drive = min(high, max(low, drive - min(LONGEST_STEP, max(-LONGEST_STEP, 1.15 * error / slope))))
        into, after, out, loudness = attempt(drive)
    hits = hits_of_joints(into, after, span)
    came, end = into.figures(), after.figures()
    progress(1.0)
    return Reached(
        limiter.id,
        drive,
        target.true_peak,
        loudness,
        out.figures().true_peak,
        abs(loudness - target.loudness) <= 0.05,
        ReachCost(
            after.largest_reduction(), after.mean_reduction(), came.plr - end.plr, hits.punch_kept if hits else None
        ),
    )


def level_of(joint: Joint, target: Target) -> float:
    """How loud a joint is, by a target's measure."""
    if target.measure == "integrated":
        return joint.loudness()
    return short_term_peak(joint.trace) if target.measure == "short_term" else loudest_rms(joint.trace)


def hits_of_joints(before: Joint, after: Joint, span: Span | None) -> Hits | None:
    """The hits of a span, before and after a step. None if there are fewer than two."""
    rate = before.rate
    inner = before.within(span) or Span(0.0, before.trace.seconds)
    frames = inner.frames(rate, len(before.audio))
    rows = slice(frames.start // REDUCTION_HOP, frames.stop // REDUCTION_HOP)
    reduction = after.reduction
    curve = np.zeros(rows.stop - rows.start) if reduction is None else reduction.curve[rows]
    return hits_of(before.audio[frames], after.audio[frames], curve, rate / REDUCTION_HOP, rate)
