"""Hold: settings that are found again whenever something else changes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TypeVar

import msgspec

from gluvo.advise.aimed import aimed
from gluvo.advise.equal_loudness import find_blend, find_makeup
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import ChainItem, Glue, Lane, Step, settings_of
from gluvo.steps.solved import By

NEAR_ENOUGH = 0.02
"""dB; smaller moves are left alone, so that a held chain comes to rest."""


def held_session(renderer: Renderer, session: Session, progress: Progress = no_progress, up_to: str = "") -> Session:
    """The session with its held settings brought up to date: thresholds and drives to their aim; make-up, outputs and
    blends to the same loudness.

    Strips and steps are taken in the order in which the sound goes through them, since each one's input depends on
    those before it. Each is found in the section that it belongs to, wherever one looks. `up_to` stops after a step,
    for those who only look at that.
    """
    for strip in renderer.plan(session).strips:
        found = session.strip(strip)
        for id in [item.id for item in chains.in_order(found.chain)] if found is not None else ():
            item = session.item(id)  # as those before it have left it
            span = held_span(session, item)
            held = [(name, item.solved_settings[name].by) for name in item.held_now] if item is not None else []
            for setting, by in held:
                session = FINDERS[by](renderer, session, id, span, progress, setting)
            if id == up_to:
                return session
    return session


def holds(item: Step | None) -> bool:
    """Whether anything of a step or lane is held."""
    return item is not None and any(getattr(item, switch) for switch in item.switches())


def held_span(session: Session, item: ChainItem | None) -> Span | None:
    """Where the held settings of a step are found; None for the whole song."""
    section = session.section(item.held_in) if item is not None else None
    return Span(section.start, section.end) if section is not None else None


def _stretch(renderer: Renderer, span: Span | None) -> Span:
    return span or Span(0.0, renderer.seconds)


class _Fed:
    """What feeds a step, and what its detector listens to instead if it has a key; rendered when it is asked for."""

    def __init__(self, renderer: Renderer, plan: Plan, step: Step, section: Span, progress: Progress) -> None:
        self._renderer, self._section, self._progress = renderer, section, progress
        self._lead = max(plan.result.memory, step.memory)
        self._nodes = [plan.before[step.id], *plan.keys.get(step.id, ())]
        self.place = (section, *(node.key for node in self._nodes))
        """What the answer depends on besides the step."""

    def joints(self) -> tuple[Joint, ...]:
        """What feeds it, and its keys."""
        found = self._renderer.joints(self._nodes, self._section, self._progress, self._lead)
        return tuple(found[node.key] for node in self._nodes)


def _aimed(
    renderer: Renderer,
    session: Session,
    id: str,
    span: Span | None,
    progress: Progress,
    setting: str,
) -> Session:
    plan, step, section = renderer.plan(session), session.item(id), _stretch(renderer, span)
    wish = aimed(step, setting=setting)
    if step is None or wish is None or step.id not in plan.before:
        return session
    fed = _Fed(renderer, plan, step, section, progress)

    def find() -> float:
        before, *keys = fed.joints()
        return wish.find(before, section, progress, keys).value

    # whatever the settings that are found are now, this one depends on the rest
    rest = msgspec.structs.replace(step, **{name: 0.0 for name in step.solved_settings})
    return _with(
        session, step, setting, renderer.once((setting, wish.aim, wish.by, rest.sound_key(), *fed.place), find)
    )


def _makeup(
    renderer: Renderer, session: Session, id: str, span: Span | None, progress: Progress, setting: str
) -> Session:
    plan, step, section = renderer.plan(session), _as(Glue, session.item(id)), _stretch(renderer, span)
    if step.id not in plan.before:
        return session
    fed = _Fed(renderer, plan, step, section, progress)

    def find() -> float:
        before, *keys = fed.joints()
        return find_makeup(step, before, section, keys).value

    rest = msgspec.structs.replace(step, **{setting: 0.0})
    return _with(session, step, setting, renderer.once((setting, rest.sound_key(), *fed.place), find))


def _output(
    renderer: Renderer, session: Session, id: str, span: Span | None, progress: Progress, setting: str
) -> Session:
    plan, step, section = renderer.plan(session), session.item(id), _stretch(renderer, span)
    if step is None or id not in plan.before:
        return session
    before, plain = plan.before[id], plan.at_work[id]

    def find() -> float:
        joints = renderer.joints([before, plain], section, progress, plan.result.memory)
        was, now = (joints[node.key].loudness(section) for node in (before, plain))
        return was - now if min(was, now) > SILENT else 0.0

    found = settings_of(type(step))[setting].clamp(renderer.once((setting, section, plain.key), find))
    return _with(session, step, setting, found)


def _blend(
    renderer: Renderer, session: Session, id: str, span: Span | None, progress: Progress, setting: str
) -> Session:
    plan, lane, section = renderer.plan(session), _as(Lane, session.item(id)), _stretch(renderer, span)
    if id not in plan.after:
        return session
    main, side = plan.parts[id, 0]

    def find() -> float:
        joints = renderer.joints([main, side], section, progress, plan.result.memory)
        return find_blend(lane, joints[main.key], joints[side.key], section).value

    return _with(session, lane, setting, renderer.once((setting, lane.gain, section, main.key, side.key), find))


FINDERS: Mapping[By, Callable[[Renderer, Session, str, Span | None, Progress, str], Session]] = {
    "reduction": _aimed,
    "drive": _aimed,
    "lift": _aimed,
    "makeup": _makeup,
    "loudness": _output,
    "blend": _blend,
}
"""How a setting is found, by what it is solved for; see `steps.solved`."""


def _with(session: Session, step: ChainItem, setting: str, found: float) -> Session:
    """The session with a setting that was found, unless it is where it was but for a trace."""
    if abs(found - getattr(step, setting)) <= NEAR_ENOUGH:
        return session
    return session.with_step(msgspec.structs.replace(step, **{setting: round(found, 3)}))


S = TypeVar("S", bound=Step)


def _as(kind: type[S], step: object) -> S:
    """A step whose setting is found in the way of its kind."""
    assert isinstance(step, kind)
    return step


def gentle_and_crushed(session: Session, strip: str, held_in: str = "") -> Session:
    """A gentle Glue at the end of a strip's chain and a lane beside it with one that crushes; both still to be aimed.

    Ordinary steps, to be changed like any others: 2 dB of held reduction at peaks in the chain, 12 dB in the lane, which
    comes back at −14 dB and holds its loudness. `held_in`: the section that they are held in.
    """
    found = session.strip(strip)
    if found is None:
        return session
    last = found.chain[-1].id if found.chain else ""
    gentle = Glue(ratio=2.0, attack=30.0, release=120.0, auto_release=40.0, aim=2.0, hold_aim=True, held_in=held_in)
    crush = Glue(ratio=8.0, attack=1.0, release=60.0, knee=3.0, aim=12.0, hold_aim=True, held_in=held_in)
    lane = Lane(name="Crushed", since=last, level=-14.0, hold_loudness=True, held_in=held_in, steps=(crush,))
    session = session.with_new_step(gentle, strip, last)
    beside = chains.after_which(session.strip(strip).chain, last)  # type: ignore[union-attr]
    return session.with_new_step(lane, strip, beside)
