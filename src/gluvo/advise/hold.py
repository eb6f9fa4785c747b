"""Hold: settings that are found again whenever something else changes."""

from __future__ import annotations

import msgspec

from gluvo.advise.aim import find_blend, find_makeup, find_threshold
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.plan import run
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import ChainItem, Glue, Lane, Limiter, MidSideEq, Saturation, Width, settings_of

OutputHeld = MidSideEq | Saturation | Width | Limiter
"""Steps whose output can be found so that they do not change the loudness."""
NEAR_ENOUGH = 0.02
"""dB; smaller moves are left alone, so that a held chain comes to rest."""


def held_session(renderer: Renderer, session: Session, progress: Progress = no_progress, up_to: str = "") -> Session:
    """The session with its held settings brought up to date: thresholds to their aim; make-up, outputs and
    blends to the same loudness.

    Strips and steps are taken in the order in which the sound goes through them, since each one's input depends on
    those before it. Each is found in the section that it belongs to, wherever one looks. `up_to` stops after a step,
    for those who only look at that.
    """
    for strip in renderer.plan(session).strips:
        for id in _in_order(session, strip):
            item = session.item(id)  # as those before it have left it
            span = held_span(session, item)
            if isinstance(item, Glue) and (item.hold_aim or item.hold_loudness):
                session = _held_glue(renderer, session, item, span, progress)
            elif isinstance(item, Lane) and item.hold_loudness:
                session = _held_lane(renderer, session, item, span, progress)
            elif isinstance(item, OutputHeld) and item.hold_loudness:
                session = _held_output(renderer, session, item, span, progress)
            if id == up_to:
                return session
    return session


def holds(item: ChainItem | None) -> bool:
    """Whether anything of a step or lane is held."""
    return bool(getattr(item, "hold_aim", False) or getattr(item, "hold_loudness", False))


def held_span(session: Session, item: ChainItem | None) -> Span | None:
    """Where the held settings of a step are found; None for the whole song."""
    section = session.section(item.held_in) if item is not None else None
    return Span(section.start, section.end) if section is not None else None


def _in_order(session: Session, strip: str) -> list[str]:
    """The ids of a strip's steps and lanes; a lane's own steps come before it, since it needs their sound."""
    found = session.strip(strip)
    ids: list[str] = []
    for item in found.chain if found is not None else ():
        ids += [*(step.id for step in item.steps), item.id] if isinstance(item, Lane) else [item.id]
    return ids


def _held_glue(renderer: Renderer, session: Session, glue: Glue, span: Span | None, progress: Progress) -> Session:
    plan = renderer.plan(session)
    if glue.id not in plan.before:
        return session
    section, lead = span or Span(0.0, renderer.seconds), max(plan.result.memory, glue.memory)
    nodes = [plan.before[glue.id], *([plan.keys[glue.id]] if glue.id in plan.keys else [])]

    def joints() -> tuple[Joint, Joint | None]:
        found = [renderer.joint(node, section, progress, lead) for node in nodes]
        return found[0], found[1] if len(found) > 1 else None

    place = (section, *(node.key for node in nodes))
    if glue.hold_aim and glue.slope > 0.0:

        def threshold() -> float:
            before, key = joints()
            return find_threshold(glue, before, section, progress, key).value

        # whatever the threshold is now, the one that is found depends on the rest
        rest = msgspec.structs.replace(glue, threshold=0.0, makeup=0.0)
        found = renderer.once(("threshold", glue.aim, rest.sound_key(), *place), threshold)
        if abs(found - glue.threshold) > NEAR_ENOUGH:
            glue = msgspec.structs.replace(glue, threshold=round(found, 3))
    if glue.hold_loudness:
        settled = glue

        def makeup() -> float:
            before, key = joints()
            return find_makeup(settled, before, section, key).value

        rest = msgspec.structs.replace(glue, makeup=0.0)
        found = renderer.once(("makeup", rest.sound_key(), *place), makeup)
        if abs(found - glue.makeup) > NEAR_ENOUGH:
            glue = msgspec.structs.replace(glue, makeup=round(found, 3))
    return session.with_step(glue)


def _held_output(
    renderer: Renderer, session: Session, step: OutputHeld, span: Span | None, progress: Progress
) -> Session:
    plan = renderer.plan(session)
    if step.id not in plan.before:
        return session
    section = span or Span(0.0, renderer.seconds)
    before = plan.before[step.id]
    plain = run("plain", msgspec.structs.replace(step, output=0.0), before)

    def output() -> float:
        joints = renderer.joints([before, plain], section, progress, plan.result.memory)
        was, now = (joints[node.key].loudness(section) for node in (before, plain))
        return was - now if min(was, now) > SILENT else 0.0

    found = settings_of(type(step))["output"].clamp(renderer.once(("output", section, plain.key), output))
    if abs(found - step.output) > NEAR_ENOUGH:
        step = msgspec.structs.replace(step, output=round(found, 3))
    return session.with_step(step)


def _held_lane(renderer: Renderer, session: Session, lane: Lane, span: Span | None, progress: Progress) -> Session:
    plan = renderer.plan(session)
    if lane.id not in plan.after:
        return session
    section = span or Span(0.0, renderer.seconds)
    main, side = plan.lanes[lane.id]

    def blend() -> float:
        joints = renderer.joints([main, side], section, progress, plan.result.memory)
        return find_blend(lane, joints[main.key], joints[side.key], section).value

    found = renderer.once(("blend", lane.gain, section, main.key, side.key), blend)
    if abs(found - lane.blend) > NEAR_ENOUGH:
        lane = msgspec.structs.replace(lane, blend=round(found, 3))
    return session.with_step(lane)


def gentle_and_crushed(session: Session, strip: str, held_in: str = "") -> Session:
    """A gentle Glue at the end of a strip's chain and a lane beside it with one that crushes; both still to be aimed.

    Ordinary steps, to be changed like any others: 2 dB of held reduction in the chain, 10 dB in the lane, which
    comes back at −14 dB and holds its loudness. `held_in`: the section that they are held in.
    """
    found = session.strip(strip)
    if found is None:
        return session
    last = found.chain[-1].id if found.chain else ""
    gentle = Glue(ratio=2.0, attack=30.0, release=120.0, auto_release=40.0, aim=2.0, hold_aim=True, held_in=held_in)
    crush = Glue(ratio=8.0, attack=1.0, release=60.0, knee=3.0, aim=10.0, hold_aim=True, held_in=held_in)
    lane = Lane(name="Crushed", since=last, level=-14.0, hold_loudness=True, held_in=held_in, steps=(crush,))
    session = session.with_new_step(gentle, strip, last)
    beside = chains.after_which(session.strip(strip).chain, last)  # type: ignore[union-attr]
    return session.with_new_step(lane, strip, beside)
