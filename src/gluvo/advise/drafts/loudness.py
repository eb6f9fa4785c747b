"""The mix brought to its target, as far as that takes no more than three dB off its peaks against its loudness."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.drafts.base import MOST_REDUCTION, Look, Part
from gluvo.advise.loudness_target import Reached, driven, level_of, measured_by, reach_target
from gluvo.advise.watchouts.base import is_heard
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.session.records import MIX, Session
from gluvo.steps import Limiter
from gluvo.steps.ceiling import last_limiter

MOST_LOST = 3.0
"""dB of peak to loudness that a draft may take."""
TRIES, NEAR = 6, 0.2
"""For a drive that takes as much, and dB by which it may miss it."""


def loudness(look: Look) -> Iterable[Part]:
    if not look.is_mix:
        return
    target, result = look.scene.session.target, look.scene.render.result
    if not is_heard(result):
        return
    level, there = level_of(result, target), last_limiter(look.scene.session.mix.chain)
    near = abs(level - target.loudness) <= target.tolerance and result.figures().true_peak <= target.true_peak + 0.05
    if near and there is not None:
        return
    how = "the limiter that is there" if there is not None else f"a Limiter at {_db(target.true_peak)} dBTP"
    yield Part(
        f"Reach {_db(target.loudness)} {measured_by(target).unit} with {how}",
        f"The song is to be handed over at {target.name}; it goes as far as that costs no more than {MOST_LOST:.0f} dB of peak "
        "to loudness.",
        f"{_db(level)} {measured_by(target).unit} now, true peak {_db(result.figures().true_peak)} dBTP",
        with_limiter,
        reaches=True,
    )


def with_limiter(session: Session) -> Session:
    """The session with something at the end of the mix bus that holds the target's ceiling."""
    if last_limiter(session.mix.chain) is not None:
        return session
    last = session.mix.chain[-1].id if session.mix.chain else ""
    return session.with_new_step(Limiter(ceiling=session.target.true_peak), MIX, last)


def reached(renderer: Renderer, before: Session, session: Session, progress: Progress = no_progress) -> Session:
    """The session brought to its target, or as near as `MOST_LOST`, against the one `before` the draft, and `MOST_REDUCTION`
    allow."""
    was = renderer.joint(renderer.plan(before).result).figures().plr
    room = MOST_REDUCTION - _taken_anew(renderer, before, session)
    found = reach_target(renderer, session, None, lambda d: progress(0.5 * d))
    drive = found.drive
    if _over(renderer, session, found, drive, was, room) > 0.0:
        low, high = drive - 12.0, drive
        for n in range(TRIES):
            progress(0.5 + 0.5 * n / TRIES)
            drive = round(0.5 * (low + high), 2)
            over = _over(renderer, session, found, drive, was, room)
            low, high = (low, drive) if over > 0.0 else (drive, high)
            if -NEAR < over <= 0.0:
                break
        drive = low
    return driven(session, found.step, drive, found.ceiling)


def _taken_anew(renderer: Renderer, before: Session, session: Session) -> float:
    """dB at peaks that steps of the mix chain take which the draft has brought, its limiter aside."""
    known, plan = {item.id for item in before.items}, renderer.plan(session)
    new = [
        item for item in session.mix.chain if item.id not in known and item.id in plan.after and not item.has_ceiling
    ]
    found = renderer.joints([plan.after[item.id] for item in new], None)
    reduced = [joint.reduced() for joint in found.values()]
    return sum(one.peaks for one in reduced if one is not None)


def _over(renderer: Renderer, session: Session, found: Reached, drive: float, was: float, room: float) -> float:
    """By how many dB a drive costs more than it may."""
    tried = renderer.plan(driven(session, found.step, drive, found.ceiling))
    ends = tried.after[found.step], tried.result
    joints = renderer.joints(ends, None)
    after, result = (joints[node.key] for node in ends)
    reduced = after.reduced()
    lost = was - result.figures().plr
    return max(lost - MOST_LOST, (reduced.peaks if reduced is not None else 0.0) - room)


def _db(value: float) -> str:
    return f"{value:.1f}".replace("-", "−")
