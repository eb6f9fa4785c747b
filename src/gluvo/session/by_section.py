"""What a song does by its sections: levels that a strip is lifted by, and steps that work in some sections alone."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping, Sequence

import msgspec

from gluvo.dsp.envelope import Points, smoothed
from gluvo.session import chains
from gluvo.session.records import Alternative, Alternatives, AnyStrip, Lift, Section, Session
from gluvo.steps import ChainItem, Step

AT_THE_EDGE = 0.002
"""Seconds within which a section reaches to the song's beginning or end, where there is nothing to come from or go to."""


def lifted(session: Session, strip: AnyStrip) -> Points:
    """How a strip's level moves in dB along the song; nothing, where it does not. Where sections overlap, the first one that
    is lifted counts."""
    gains = {lift.section: lift.gain for lift in strip.rides if lift.gain != 0.0}
    there = [s for s in session.sections if s.id in gains and s.end > s.start]
    return _moving(session, there, lambda s: gains[s.id], strip.ride_ramp / 1000.0) if there else ()


def working(session: Session, item: Step) -> Points:
    """How much of a step there is along the song, 0–1: none, if its sections are gone."""
    there = [s for s in session.sections if s.id in item.sections and s.end > s.start]
    return _moving(session, there, lambda _: 1.0, item.section_ramp / 1000.0) if item.sections else ((0.0, 1.0),)


def left_of(own: Points, others: Sequence[Points]) -> Points:
    """How much of a step is heard where others take its place, at all their corners."""
    if not others:
        return own
    curves = [own, *others]
    corners = sorted({t for points in curves for t, _ in points})
    found: list[tuple[float, float]] = []
    for t in corners:
        for side in (0, 1):  # before and after a step
            shares = [_at(points, t, side) for points in curves]
            found.append((t, shares[0] * math.prod(1.0 - share for share in shares[1:])))
    return tuple(found)


def _at(points: Points, t: float, side: int) -> float:
    """The value at a place; where it steps there, before it (0) or after it (1)."""
    here = [v for at, v in points if at == t]
    if here:
        return here[-1] if side else here[0]
    before, after = [p for p in points if p[0] < t], [p for p in points if p[0] > t]
    if not before or not after:
        return before[-1][1] if before else after[0][1]
    (a, low), (b, high) = before[-1], after[0]
    return low + (high - low) * (t - a) / (b - a)


def replaced_by(chain: Sequence[Step], item: Step) -> Step | None:
    """The item in whose place one works in its sections, if it stands right before it, but for others in its place."""
    if not item.instead_of or not item.sections:
        return None
    at = next((n for n, other in enumerate(chain) if other.id == item.id), 0)
    for other in reversed(chain[:at]):
        if other.id == item.instead_of:
            return other
        if other.instead_of != item.instead_of:
            break
    return None


def where(session: Session, item: Step) -> str:
    """The sections that an item works in, in words; empty for the whole song."""
    names = [s.name or "unnamed" for s in session.sections if s.id in item.sections]
    return "" if not item.sections else ", ".join(names) or "no section that there is"


def _moving(session: Session, sections: Collection[Section], value: Callable[[Section], float], ramp: float) -> Points:
    """A value that is 0 outside of some sections, with ramps centred on their edges, but for the song's own."""
    end = _seconds(session)
    spans = [
        (
            -1e9 if s.start <= AT_THE_EDGE else s.start,
            1e9 if end is not None and s.end >= end - AT_THE_EDGE else s.end,
            value(s),
        )
        for s in sections
    ]
    edges = sorted({edge for start, stop, _ in spans for edge in (start, stop)})
    steps = [(edge, next((v for start, stop, v in spans if start <= edge < stop), 0.0)) for edge in edges]
    first = steps.pop(0)[1] if steps and steps[0][0] < 0.0 else 0.0
    return smoothed([step for step in steps if step[0] < 1e9], first, ramp)


def _seconds(session: Session) -> float | None:
    """How long the song is, as far as its files tell."""
    ends = [s.offset + s.media.seconds for s in session.stems if s.media.seconds is not None]
    return max(ends) if ends and len(ends) == len(session.stems) else None


# --- edits -------------------------------------------------------------------------------------------------------------


def gain_of(strip: AnyStrip, section: str) -> float:
    """By how much a strip is lifted in a section, dB."""
    return next((lift.gain for lift in strip.rides if lift.section == section), 0.0)


def with_gain(session: Session, strip: str, section: str, gain: float) -> Session:
    """A strip lifted by so many dB in a section."""
    found = session.strip(strip)
    if found is None or session.section(section) is None:
        return session
    rest = tuple(lift for lift in found.rides if lift.section != section)
    rides = (*rest, Lift(section=section, gain=gain)) if gain != 0.0 else rest
    order = {s.id: n for n, s in enumerate(session.sections)}
    rides = tuple(sorted(rides, key=lambda lift: order.get(lift.section, len(order))))
    return session.with_strip(msgspec.structs.replace(found, rides=rides))


def working_in(session: Session, item: str, sections: Collection[str]) -> Session:
    """An item that works in some sections alone, and is solved for in one of them; in the whole song, if there are none."""
    found = session.item(item)
    if found is None:
        return session
    chosen = tuple(s.id for s in session.sections if s.id in sections)
    return session.with_step(_placed(found, chosen))


def _placed(item: ChainItem, sections: tuple[str, ...]) -> ChainItem:
    held_in = item.held_in if item.held_in in sections or not sections else sections[0]
    instead_of = item.instead_of if sections else ""
    return msgspec.structs.replace(item, sections=sections, held_in=held_in, instead_of=instead_of)


def at_home(session: Session, item: ChainItem, ids: Mapping[str, str]) -> ChainItem:
    """An item that comes from elsewhere, without sections that the session does not have. `ids`: what came with it is called
    otherwise now."""
    there = {s.id for s in session.sections}
    made = _placed(item, tuple(id for id in item.sections if id in there)) if item.sections else item
    made = msgspec.structs.replace(made, instead_of=ids.get(made.instead_of, made.instead_of))
    if made.contains_steps:
        made = made.with_rows([[at_home(session, step, ids) for step in row] for row in made.rows])  # type: ignore[arg-type]
    return made


def split_off(session: Session, item: str, section: str) -> tuple[Session, str]:
    """Another setting of a step for a section: the same step once more behind it, which works there in its place. The
    session, and the id of the new one; the session itself, if there is no such step or section, or it works there alone."""
    found, strip = session.item(item), session.strip_with(item)
    if found is None or strip is None or session.section(section) is None or found.sections == (section,):
        return session, ""
    original = found.instead_of if found.instead_of and found.sections else found.id
    if original != found.id:  # out of what works here already: from there on it works without this section
        session = working_in(session, found.id, set(found.sections) - {section})
    new = msgspec.structs.replace(_placed(found, (section,)), instead_of=original)
    return session.with_new_step(new, strip.id, found.id), session.named(new).id


def _left_in(item: ChainItem, there: Collection[str]) -> ChainItem:
    """An item without sections that are gone; off, if it worked in those alone."""
    left = tuple(id for id in item.sections if id in there)
    if left == item.sections:
        return item
    others = item.instead_of if left else ""
    return msgspec.structs.replace(item, sections=left, on=item.on and bool(left), instead_of=others)


def _put_away_left(alternatives: tuple[Alternatives, ...], there: Collection[str]) -> tuple[Alternatives, ...]:
    """Alternatives whose settings that are put away are as `_left_in` leaves them."""

    def one(setting: Alternative) -> Alternative:
        items = setting.items
        for item in chains.flat(items):
            if (now := _left_in(item, there)) is not item:
                items = chains.replaced(items, now)
        return msgspec.structs.replace(setting, items=items, inner=_put_away_left(setting.inner, there))

    return tuple(msgspec.structs.replace(a, settings=tuple(one(s) for s in a.settings)) for a in alternatives)


def with_sections(session: Session, sections: Sequence[Section]) -> tuple[Session, tuple[str, ...]]:
    """The session with other sections, and what is lost with those that are gone, in sentences: lifts go, and what worked in
    them alone is switched off."""
    there = {s.id for s in sections}
    names = {s.id: s.name for s in session.sections}
    lost: list[str] = []

    def without(strip: AnyStrip) -> AnyStrip:
        gone = [lift for lift in strip.rides if lift.section not in there]
        lost.extend(
            f"“{strip.name}” was lifted by {lift.gain:+.1f} dB in {names.get(lift.section, 'it')}." for lift in gone
        )
        made = msgspec.structs.replace(strip, rides=tuple(lift for lift in strip.rides if lift.section in there))
        for item in chains.flat(strip.chain):
            now = _left_in(item, there)
            if not now.sections and item.sections:
                lost.append(f"{item.called} on “{strip.name}” worked there alone, and is off now.")
            if now is not item:
                made = msgspec.structs.replace(made, chain=chains.replaced(made.chain, now))
        return msgspec.structs.replace(made, alternatives=_put_away_left(made.alternatives, there))

    session = session.replace(sections=tuple(sections), strips=tuple(without(strip) for strip in session.strips))
    if session.view.section not in there:
        session = session.looking(section="")
    return session, tuple(lost)
