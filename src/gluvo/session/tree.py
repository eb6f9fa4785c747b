"""The tree of stems and buses: its order, its checks, and how it is changed."""

from __future__ import annotations

import collections
import graphlib
import itertools
from collections.abc import Collection, Sequence

import msgspec

from gluvo.errors import SessionError
from gluvo.session import alternatives, chains
from gluvo.session.records import MIX, AnyStrip, Bus, Session

MOST_DEEP = 64
"""Buses one inside the other."""


def children(session: Session, bus: str) -> tuple[AnyStrip, ...]:
    """What flows into a bus, in order."""
    return tuple(s for s in session.strips if s.into == bus and s.id != MIX)


def rows(session: Session) -> list[tuple[AnyStrip, int]]:
    """All strips as they flow: each bus stands under what flows into it, the mix bus last. With their depth."""
    found: list[tuple[AnyStrip, int]] = []

    def add(strip: AnyStrip, depth: int) -> None:
        for child in children(session, strip.id):
            add(child, depth + 1)
        found.append((strip, depth))

    add(session.mix, 0)
    return found


def names(session: Session) -> dict[str, str]:
    """What each strip is called in a list, by its id: with its bus, where its name occurs twice."""
    found = {s.id: s.name for s in session.strips}
    counts = collections.Counter(found.values())
    return {
        s.id: f"{s.name} in {found[s.into]}" if counts[s.name] > 1 and s.into in found else s.name
        for s in session.strips
    }


def path(session: Session, id: str) -> list[str]:
    """The strip and the buses that it flows through, up to the mix bus."""
    into = {s.id: s.into for s in session.strips}
    found: dict[str, None] = {}
    while id in into and id not in found:
        found[id] = None
        id = into[id]
    return list(found)


def part_of(session: Session, chosen: Collection[str]) -> set[str]:
    """The strips that carry any of the chosen ones: they, all that flows into them, and all that they flow through."""
    inside = {id for one in chosen if session.strip(one) is not None for id in below(session, one)}
    return inside | {id for one in inside for id in path(session, one)}


def below(session: Session, id: str) -> set[str]:
    """The strip and everything that flows into it."""
    flowing: dict[str, list[str]] = {}
    for strip in session.strips:
        flowing.setdefault(strip.into, []).append(strip.id)
    found: set[str] = set()
    ahead = [id] if any(s.id == id for s in session.strips) else []
    while ahead:
        one = ahead.pop()
        if one not in found:
            found.add(one)
            ahead += flowing.get(one, [])
    return found


def heard(session: Session, solo: Collection[str]) -> set[str]:
    """The strips that are let through while some are heard alone: those, what flows into them, and their way out."""
    strips = {s.id for s in session.strips}
    alone = strips & set(solo)
    if not alone:
        return strips
    return {id for one in alone for id in (*path(session, one), *below(session, one))}


def keys(strip: AnyStrip) -> set[str]:
    """The strips that detectors in a chain listen to."""
    return {key for item in chains.flat(strip.chain) for key in item.keys_from}


def check(session: Session) -> None:
    """Raises `SessionError` with one sentence for a tree that cannot be played.

    A key that is gone is no error: its Glue listens to its own signal, and says so.
    """
    by_id = {s.id: s for s in session.strips}
    if not isinstance(by_id.get(MIX), Bus) or by_id[MIX].into:
        raise SessionError("There is no mix bus for everything to flow into.")
    for strip in session.strips:
        if strip.id == MIX:
            continue
        if not isinstance(by_id.get(strip.into), Bus):
            raise SessionError(f"“{strip.name}” flows into a bus that is not there.")
    depths = {MIX: 0}
    for strip in session.strips:
        way: list[str] = []
        at = strip
        while at.id not in depths:
            if len(way) > len(by_id):
                raise SessionError(f"“{strip.name}” would flow into itself.")
            way.append(at.id)
            at = by_id[at.into]
        for n, id in enumerate(reversed(way), start=1):
            depths[id] = depths[at.id] + n
    if max(depths.values()) > MOST_DEEP:
        raise SessionError(f"Buses are nested more than {MOST_DEEP} deep.")
    for strip in session.strips:
        if lane := chains.ends_before_it_starts(strip.chain):
            raise SessionError(f"The lane “{lane.short_name}” in “{strip.name}” would come back before it leaves.")
    for item in session.items:
        if problem := item.problem():
            raise SessionError(f"{item.id} {problem}.")
    alternatives.check(session)
    _check_keys(session)


def _check_keys(session: Session) -> None:
    """A strip needs what flows into it and what its detectors listen to; none may need itself."""
    names = {s.id: s.name for s in session.strips}
    needs = {s.id: keys(s) & names.keys() for s in session.strips}
    for strip in session.strips:
        if strip.into in needs:
            needs[strip.into].add(strip.id)
    try:
        order = list(graphlib.TopologicalSorter(needs).static_order())
    except graphlib.CycleError as error:
        around = error.args[1]  # each one is needed by the next; the last step to close the circle is a key
        keyed = next(b for a, b in itertools.pairwise(around) if session.strip(a).into != b)  # type: ignore[union-attr]
        raise SessionError(f"A key in “{names[keyed]}” already depends on what comes out of there.") from None
    depth: dict[str, int] = {}
    for id in order:
        depth[id] = 1 + max((depth[other] for other in needs[id]), default=0)
    if max(depth.values()) > 2 * MOST_DEEP:
        raise SessionError(f"Buses and keys depend on one another over more than {2 * MOST_DEEP} strips.")


# --- changes -------------------------------------------------------------------------------------------------


def moved(session: Session, id: str, into: str, before: str = "") -> Session:
    """A strip moved into a bus, before another one there (at the end if `before` is empty).

    Raises `SessionError` where it would flow into itself.
    """
    strip = session.strip(id)
    if strip is None or id == MIX:
        return session
    if into in below(session, id):
        raise SessionError(f"“{strip.name}” cannot flow into itself.")
    rest = [s for s in session.strips if s.id != id]
    place = next((n for n, s in enumerate(rest) if s.id == before), len(rest))
    rest.insert(place, msgspec.structs.replace(strip, into=into))
    return session.replace(strips=tuple(rest))


def with_bus(session: Session, name: str, members: Sequence[str]) -> Session:
    """A new bus in the place of its first member, which flow into it; into the mix bus if there is none."""
    inner = {id for one in members for id in below(session, one) - {one}}
    members = [id for id in members if id not in inner and id != MIX]  # the others come along in their buses
    first = next((s for s in session.strips if s.id in members), None)
    bus = Bus(id=session.fresh_id("bus"), name=name, into=first.into if first is not None else MIX)
    strips: list[AnyStrip] = []
    for strip in session.strips:
        if first is not None and strip.id == first.id:
            strips.append(bus)
        strips.append(msgspec.structs.replace(strip, into=bus.id) if strip.id in members else strip)
    return session.replace(strips=tuple(strips if first is not None else [*strips, bus]))


def dissolved(session: Session, id: str) -> Session:
    """A bus taken away; what flowed into it flows on to where it did. Its chain and fader are gone with it."""
    bus = session.strip(id)
    if not isinstance(bus, Bus) or id == MIX:
        return session
    strips = (msgspec.structs.replace(s, into=bus.into) if s.into == id else s for s in session.strips if s.id != id)
    return session.replace(strips=tuple(strips))


def removed(session: Session, id: str) -> Session:
    """A strip taken out with everything that flows into it. The audio files stay where they are."""
    if id == MIX:
        return session
    gone = below(session, id)
    return session.replace(strips=tuple(s for s in session.strips if s.id not in gone))


def looking_at_what_is_there(session: Session, before: Session | None = None) -> Session:
    """The session with something chosen that is there: the mix bus if the chosen strip has gone; if the chosen step has,
    what stood before it in the session as it was `before`, so that what is added next comes where it was."""
    if session.strip(session.view.strip) is None:
        return session.looking(strip=MIX, step="", band=0)
    if not session.view.step or session.item(session.view.step) is not None:
        return session
    found, was = "", before.strip_with(session.view.step) if before is not None else None
    if was is not None:
        ids = [item.id for item in chains.flat(was.chain)]
        there = {item.id for item in chains.flat(session.chain)}
        found = next((id for id in ids[: ids.index(session.view.step)][::-1] if id in there), "")
    return session.looking(step=found, band=0)
