"""States of the session that were kept under a name: gone back to, taken from, told apart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

import msgspec

from gluvo.session import by_section, chains, prints
from gluvo.session.records import MIX, AnyStrip, Session, Stem, Target, Version
from gluvo.steps import ChainItem
from gluvo.steps.settings import Setting, settings_of


@dataclass(frozen=True)
class State:
    """What a version holds."""

    strips: tuple[AnyStrip, ...]
    target: Target


def kept(
    session: Session, name: str, made: str, figures: Mapping[str, float], note: str = ""
) -> tuple[Session, Version]:
    """The session with its present state kept as its newest version, and that. `made`: ISO 8601, local."""
    held = [*states(session), State(session.strips, session.target)]
    version = Version(id=session.fresh_id("version"), name=name, made=made, note=note, figures=dict(figures))
    versions = differing((*session.versions, version), held)
    return session.replace(versions=versions), versions[-1]


def without(session: Session, id: str) -> Session:
    """The session without a version; the others are what they were."""
    pairs = [
        (version, state) for version, state in zip(session.versions, states(session), strict=True) if version.id != id
    ]
    return session.replace(versions=differing([v for v, _ in pairs], [s for _, s in pairs]))


def described(session: Session, id: str, **changes: object) -> Session:
    """A version's name or note changed."""
    return session.replace(
        versions=tuple(msgspec.structs.replace(v, **changes) if v.id == id else v for v in session.versions)
    )


def state_of(session: Session, id: str) -> Session:
    """The session as a version has it; itself where there is no such version. Raises `KeyError` if it is not whole."""
    for version, state in zip(session.versions, states(session), strict=True):
        if version.id == id:
            return session.replace(strips=state.strips, target=state.target)
    return session


def with_strip_of(session: Session, other: Session, strip: str) -> Session:
    """The session with one strip's chain, fader and switches as another state has them."""
    found, own = other.strip(strip), session.strip(strip)
    if found is None or own is None:
        return session
    return session.with_strip(msgspec.structs.replace(found, name=own.name, into=own.into))


def with_step_of(session: Session, other: Session, step: str) -> Session:
    """The session with one step or container as another state has it: in its place, or where it is no longer anywhere, in
    the same row of its container, or at the end of the same strip's chain."""
    found = other.item(step)
    if found is None:
        return session
    if session.item(step) is not None:
        return session.with_step(found)
    holder = other.strip_with(step)
    strip = session.strip(holder.id if holder is not None else MIX) or session.mix
    last = strip.chain[-1].id if strip.chain else ""
    row = chains.row_of(holder.chain, step) if holder is not None else ""
    return session.with_chain(strip.id, chains.inserted(strip.chain, found, last, row))


def states(session: Session) -> Iterator[State]:
    """What each version holds, in their order. Raises `KeyError` at one that is not whole."""
    return states_of(session.versions)


def states_of(versions: Iterable[Version]) -> Iterator[State]:
    """What versions hold each of which tells what differs from the one before. Raises `KeyError` at one that is not whole."""
    strips: dict[str, AnyStrip] = {}
    for version in versions:
        strips = strips | {strip.id: strip for strip in version.strips}
        yield State(tuple(strips[id] for id in version.order), version.target)


def differing(versions: Sequence[Version], held: Sequence[State]) -> tuple[Version, ...]:
    """Versions that hold what differs from the one before."""
    known: dict[str, AnyStrip] = {}
    made = []
    for version, state in zip(versions, held, strict=True):
        differing = tuple(s for s in state.strips if known.get(s.id) != s)
        known = known | {s.id: s for s in state.strips}
        order = tuple(s.id for s in state.strips)
        made.append(msgspec.structs.replace(version, target=state.target, order=order, strips=differing))
    return tuple(made)


# --- what differs ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Difference:
    """A setting that two states have otherwise, or something that only one of them has."""

    strip: str
    """The id of the strip; empty for the session's own."""
    step: str
    """The id of the step, lane or what it is in; empty for the strip's own."""
    where: str
    """In words: strip, and step."""
    what: str
    before: str
    after: str


def differences(before: Session, after: Session) -> tuple[Difference, ...]:
    """What differs from one state to another, setting by setting, in the order of the strips and their chains."""
    return tuple(_differences(before, after))


def _differences(before: Session, after: Session) -> Iterator[Difference]:
    for name, setting in settings_of(Target).items():
        yield from _setting(setting, name, before.target, after.target, "", "", "Target")
    old, new = ({s.id: s for s in session.strips} for session in (before, after))
    for id in [*old, *(id for id in new if id not in old)]:
        was, now = old.get(id), new.get(id)
        if was is None or now is None:
            yield Difference(id, "", (was or cast(AnyStrip, now)).name, "strip", *_there(was, now))
            continue
        for name, setting in settings_of(type(now)).items():
            yield from _setting(setting, name, was, now, id, "", now.name)
        if isinstance(was, Stem) and isinstance(now, Stem) and was.media.sha256 != now.media.sha256:
            names = prints.name_of(before, was), prints.name_of(after, now)
            yield Difference(id, "", now.name, "print", *names)
        if was.into != now.into:
            yield Difference(id, "", now.name, "flows into", _named(before, was.into), _named(after, now.into))
        yield from _lifts(before, after, was, now)
        yield from _chains(was, now)
        yield from _places_in_song(before, after, was, now)


def _lifts(before: Session, after: Session, was: AnyStrip, now: AnyStrip) -> Iterator[Difference]:
    names = {s.id: s.name for session in (before, after) for s in session.sections}
    for id in dict.fromkeys(lift.section for strip in (was, now) for lift in strip.rides):
        gains = [by_section.gain_of(strip, id) for strip in (was, now)]
        if gains[0] != gains[1]:
            told = (f"{gain:.1f} dB".replace("-", "−") for gain in gains)
            yield Difference(now.id, "", now.name, f"lift in {names.get(id, 'a section that is gone')}", *told)


def _places_in_song(before: Session, after: Session, was: AnyStrip, now: AnyStrip) -> Iterator[Difference]:
    old = {item.id: item for item in chains.flat(was.chain)}
    for item in chains.flat(now.chain):
        other = old.get(item.id)
        if other is None:
            continue
        where = f"{now.name}, {item.called}"
        if item.sections != other.sections:
            told = (by_section.where(s, i) or "the whole song" for s, i in ((before, other), (after, item)))
            yield Difference(now.id, item.id, where, "works in", *told)
        if item.section_ramp != other.section_ramp and item.sections:
            yield Difference(
                now.id,
                item.id,
                where,
                "ramp at sections",
                f"{other.section_ramp:.0f} ms",
                f"{item.section_ramp:.0f} ms",
            )


def _places(chain: Sequence[ChainItem]) -> dict[str, str]:
    """The row that each step in a container of several stands in, by its name."""
    found: dict[str, str] = {}
    for holder in chains.flat(chain):
        if holder.names:
            found |= {step.id: name for name, row in zip(holder.names, holder.rows, strict=True) for step in row}
    return found


def _chains(was: AnyStrip, now: AnyStrip) -> Iterator[Difference]:
    places = _places(was.chain), _places(now.chain)
    old, new = ({item.id: item for item in chains.flat(strip.chain)} for strip in (was, now))
    for id in [*new, *(id for id in old if id not in new)]:
        a, b = old.get(id), new.get(id)
        item = b or a
        assert item is not None
        where = f"{now.name}, {item.called}"
        if a is None or b is None:
            yield Difference(now.id, id, where, "step", *_there(a, b))
            continue
        yield from _item(a, b, now.id, id, where)
        before, after = (place.get(id, "the chain") for place in places)
        if before != after:
            yield Difference(now.id, id, where, "stands in", before, after)
    common = [id for id in old if id in new]
    if common != [id for id in new if id in old]:
        names = (" → ".join(items[id].called for id in items if id in common) for items in (old, new))
        yield Difference(now.id, "", now.name, "order", *names)


def _item(a: ChainItem, b: ChainItem, strip: str, id: str, where: str) -> Iterator[Difference]:
    for name, setting in settings_of(type(b)).items():
        yield from _setting(setting, name, a, b, strip, id, where)
    if a.on != b.on:
        yield Difference(strip, id, where, "switched", *("on" if item.on else "off" for item in (a, b)))
    for what, words in b.in_words.items():
        if (before := a.in_words.get(what, "")) != words:
            yield Difference(strip, id, where, what, before, words)
    old, new = a.settings_of_parts, b.settings_of_parts
    for number in [*new, *(n for n in old if n not in new)]:
        was, now = old.get(number), new.get(number)
        if was is None or now is None:
            yield Difference(strip, id, where, f"band {number}", *_there(was, now))
            continue
        kind: type[msgspec.Struct] = type(now)
        for name, setting in settings_of(kind).items():
            yield from _setting(setting, name, was, now, strip, id, f"{where}, band {number}")


def _setting(
    setting: Setting, name: str, a: object, b: object, strip: str, step: str, where: str
) -> Iterator[Difference]:
    was, now = getattr(a, name), getattr(b, name)
    if was != now:
        yield Difference(strip, step, where, setting.label.lower(), _shown(setting, was), _shown(setting, now))


def _shown(setting: Setting, value: Any) -> str:
    if setting.kind == "switch":
        return "on" if value else "off"
    if setting.kind == "choice":
        return dict(setting.options).get(str(value), str(value))
    return f"{setting.show(value)} {setting.unit}".strip()


def _there(was: object, now: object) -> tuple[str, str]:
    return ("there" if was is not None else "none", "there" if now is not None else "none")


def _named(session: Session, id: str) -> str:
    strip = session.strip(id)
    return strip.name if strip is not None else "nothing"
