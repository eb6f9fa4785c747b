"""Loudness to target: the last limiter's drive for which the whole song meets the target, and what that costs."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
import numpy as np

from gluvo.errors import GluvoError
from gluvo.measure.figures import FIGURES, Figure
from gluvo.measure.hits import Hits, hits_of
from gluvo.measure.loudness import SILENT, loudest_rms, short_term_peak
from gluvo.measure.overview import REDUCTION_HOP
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import MIX, Session, Target
from gluvo.steps import Trim, settings_of
from gluvo.steps.ceiling import last_limiter, with_ceiling
from gluvo.steps.trim import as_trim, with_reach

MEASURES = {"integrated": "integrated", "short_term": "max_short_term", "rms": "loudest_rms", "rms_whole": "rms"}
"""The figure that each measure is."""
CLOSE = 0.02
"""LU within which the search stops."""
TRIES = 12
LEAST_SLOPE, LONGEST_STEP = 0.02, 16.0
"""LU that a dB of drive is taken to add at least, and dB by which the drive is moved at most."""
WORTH, SURELY = 0.1, 0.3
"""LU that a dB of drive must bring at least; and from how much on that is plain without another try."""
NO_LIMITER = "The mix bus has no limiter that is on. Add one to bring the song to its target."
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
    dense: bool
    """Whether more drive would have been possible, and would have brought less than `WORTH` a dB."""
    cost: ReachCost

    @property
    def why_not(self) -> str:
        """Why the target was not met, in words; nothing if it was."""
        if self.met:
            return ""
        if self.dense:
            return f"a dB more into the limiter would bring less than {WORTH:g} LU, and only make it denser"
        if self.drive >= MOST_DRIVE:
            return f"{MOST_DRIVE:.0f} dB more gain into the limiter is as far as it goes, and more would only be denser"
        if self.drive <= LEAST_DRIVE:
            return f"{-LEAST_DRIVE:.0f} dB less gain into the limiter is as far as it goes"
        return "the loudness does not follow the drive any nearer"


def _trim_before(session: Session, step: str) -> Trim | None:
    """The Trim right before a limiter of the mix bus, if one stands there and is on."""
    trim = as_trim(session.step(chains.before_which(session.mix.chain, step)))
    return trim if trim is not None and trim.on else None


def driven(session: Session, step: str, drive: float, ceiling: float) -> Session:
    """The session with a limiter of the mix bus driven by so much against a ceiling, with no gain after it.

    What a drive under 0 dB lacks, or one over the limiter's range has too much, is the work of a Trim right before the
    limiter: the one that stands there, if it is on and its range allows, or a new one. What such a Trim had of an earlier
    drive (`Trim.by_reach`) counts as drive, and is taken back first.
    """
    limiter = next(s for s in session.mix.chain if s.id == step)
    own = settings_of(type(limiter))["drive"].clamp(drive)
    limiter = msgspec.structs.replace(
        limiter, drive=round(own, 3), ceiling=ceiling, output=0.0, hold_aim=False, hold_loudness=False
    )
    session, rest, trim = session.with_step(limiter), round(drive - own, 3), _trim_before(session, step)
    if trim is not None:
        if rest == 0.0 and trim.gain == trim.by_reach != 0.0 and trim.is_level:
            return session.without_step(trim.id)
        changed = with_reach(trim, rest)
        if changed is not None:
            return session.with_step(changed)
        session = session.with_step(with_reach(trim, 0.0) or trim)
    if rest == 0.0:
        return session
    return session.with_new_step(Trim(gain=rest, by_reach=rest), MIX, chains.before_which(session.mix.chain, step))


class _Search:
    """Drives of one limiter that were tried, and how loud the song is with each; each is rendered once."""

    def __init__(self, renderer: Renderer, session: Session, step: str, progress: Progress) -> None:
        self._renderer, self._session, self._step, self._progress = renderer, session, step, progress
        self._target = session.target
        self.tried: dict[float, float] = {}
        """The loudness that each drive gives, by the target's measure."""

    def loudness(self, drive: float) -> float:
        """How loud the song is with a drive."""
        drive = round(drive, 3)
        if drive not in self.tried:
            self.tried[drive] = level_of(self.joints(drive)[2], self._target)
        return self.tried[drive]

    def joints(self, drive: float) -> tuple[Joint, Joint, Joint]:
        """What comes into the limiter, what comes out of it, and the song's end."""
        tried = self._renderer.plan(driven(self._session, self._step, drive, self._target.true_peak))
        wanted, tries = (tried.before[self._step], tried.after[self._step], tried.result), len(self.tried)
        share = min(0.9, tries / TRIES)
        found = self._renderer.joints(wanted, None, lambda d: self._progress(share + (1.0 - share) * 0.5 * d))
        into, after, out = (found[node.key] for node in wanted)
        return into, after, out

    def towards(self, drive: float) -> float:
        """The drive at which the song is as loud as the target, or as near as it comes: by regula falsi from a first guess,
        since loudness rises with drive, ever more slowly."""
        wanted, low, high = self._target.loudness, LEAST_DRIVE, MOST_DRIVE
        low_error: float | None = None
        high_error: float | None = None
        before_it: tuple[float, float] | None = None
        while abs(error := self.loudness(drive) - wanted) > CLOSE and len(self.tried) < TRIES:
            if (error > 0.0 and drive <= low) or (error < 0.0 and drive >= high):
                break  # the end of the range
            if error < 0.0:
                low, low_error = drive, error
            else:
                high, high_error = drive, error
            if low_error is not None and high_error is not None:
                share = low_error / (low_error - high_error)
                drive = low + (high - low) * min(0.95, max(0.05, share))
                continue
            slope = 1.0  # the denser it is, the less a dB of drive adds
            if before_it is not None and drive != before_it[0]:
                slope = min(1.0, max(LEAST_SLOPE, (error - before_it[1]) / (drive - before_it[0])))
            if error < 0.0 and slope < WORTH:
                break  # more would only be denser
            before_it = drive, error
            drive = min(high, max(low, drive - min(LONGEST_STEP, max(-LONGEST_STEP, 1.15 * error / slope))))
        return drive

    def pays(self, drive: float) -> bool:
        """Whether the last dB of a drive has made the song louder by more than it is worth in density."""
        if drive - 1.0 <= LEAST_DRIVE:
            return True
        near = max((d for d in self.tried if drive - 4.0 <= d <= drive - 0.25), default=None)
        if near is not None and self.loudness(drive) - self.loudness(near) >= SURELY * (drive - near):
            return True  # loudness bends down only slowly: no need to try
        return self.loudness(drive) - self.loudness(drive - 1.0) >= WORTH

    def not_denser(self, drive: float) -> float:
        """The drive, or the highest one under it whose last dB pays."""
        high, low, step = drive, drive, 2.0
        while not self.pays(low):
            high, low, step = low, max(LEAST_DRIVE, low - step), 2.0 * step
        while high - low > 1.0:
            middle = 0.5 * (low + high)
            low, high = (middle, high) if self.pays(middle) else (low, middle)
        return low


def reach_target(
    renderer: Renderer,
    session: Session,
    span: Span | None = None,
    progress: Progress = no_progress,
    step: str = "",
) -> Reached:
    """Drive the mix bus's last limiter so that the whole song, at the very end, is as loud as the session's target.

    The limiter's ceiling becomes the target's true peak. A song that is too loud without any drive gets less gain into
    the limiter; see `driven`. Each try renders the song from there on. A drive whose last dB brings less than `WORTH` is
    never left: that would crush the song and make it hardly louder. `step`: another limiter or clipper of the mix
    bus to drive. Raises `GluvoError` if there is no limiter or no sound.
    """
    target = session.target
    limiter = with_ceiling(session.step(step)) or last_limiter(session.mix.chain)
    if limiter is None:
        raise GluvoError(NO_LIMITER)
    plan = renderer.plan(session)
    before = renderer.joint(plan.before[limiter.id], None, lambda d: progress(0.2 * d))
    if before.loudness() <= SILENT:
        raise GluvoError("The song is silent before the limiter, so there is no loudness to reach.")
    trim = _trim_before(session, limiter.id)
    now = limiter.drive + (trim.by_reach if trim is not None else 0.0)
    known = renderer.cache_of(plan.result)
    guess = now + target.loudness - (level_of(known, target) if known else level_of(before, target) + limiter.drive)
    search = _Search(renderer, session, limiter.id, lambda d: progress(0.2 + 0.8 * d))
    nearest = search.towards(round(min(MOST_DRIVE, max(LEAST_DRIVE, guess)), 3))
    drive = round(search.not_denser(nearest), 3)
    into, after, out = search.joints(drive)
    loudness = level_of(out, target)
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
        drive < nearest or (loudness < target.loudness - CLOSE and drive < MOST_DRIVE),
        ReachCost(
            after.largest_reduction(), after.mean_reduction(), came.plr - end.plr, hits.punch_kept if hits else None
        ),
    )


def measured_by(target: Target) -> Figure:
    """The figure that a target's loudness is measured by."""
    return FIGURES[MEASURES[target.measure]]


def level_of(joint: Joint, target: Target) -> float:
    """How loud a joint is, by a target's measure."""
    if target.measure == "integrated":
        return joint.loudness()
    if target.measure == "rms_whole":
        return joint.figures().rms
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
