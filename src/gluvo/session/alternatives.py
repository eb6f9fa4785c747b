"""Alternatives: settings of a step, a container or a whole chain side by side, one of which is in the chain.

The one that is chosen stands in the chain as anything else does, and is heard, measured, edited and solved for as such; the
others are put away in the strip (`records.Alternatives`), with the alternatives of what is in them.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from gluvo.errors import SessionError
from gluvo.session import chains
from gluvo.session.records import MOST_ALTERNATIVES, Alternative, Alternatives, AnyStrip, Session
from gluvo.steps import ChainItem

LETTERS = "ABCD"


def found(session: Session, id: str) -> Alternatives | None:
    """The alternatives of a step or container, or (by a strip's id) of its chain."""
    strip, of = _place(session, id)
    return None if strip is None else _of(strip.alternatives, of)


def at(session: Session, strip: str, step: str) -> str:
    """What the alternatives at a step are of, looked for from the inside out: the id of the step, of a container that it is
    in, or of the strip; empty where there are none."""
    found_strip = session.strip(strip)
    if found_strip is None or not found_strip.alternatives:
        return ""
    holders = [holder.id for holder in chains.containers_of(found_strip.chain, step)]
    for id in [step, *holders[::-1]] if step else []:
        if _of(found_strip.alternatives, id) is not None:
            return id
    return strip if _of(found_strip.alternatives, "") is not None else ""


def name_of(several: Alternatives, n: int) -> str:
    """What one of them is called.

    >>> pair = Alternatives(settings=(Alternative(), Alternative(name="slower")))
    >>> name_of(pair, 0), name_of(pair, 1)
    ('A', 'B slower')
    """
    return f"{LETTERS[n]} {several.settings[n].name}".strip()


def with_another(session: Session, id: str) -> Session:
    """With one more, as the present one is, which is then the one in the chain. Raises `SessionError` if there are four."""
    strip, of = _place(session, id)
    if strip is None or (not of and not strip.chain):
        raise SessionError("There is nothing here to have an alternative of. Add a step first.")
    several = _of(strip.alternatives, of) or Alternatives(of=of, settings=(Alternative(), Alternative()))
    if _of(strip.alternatives, of) is not None:
        if len(several.settings) == MOST_ALTERNATIVES:
            raise SessionError(f"There are at most {MOST_ALTERNATIVES} alternatives. Remove one first.")
        several = msgspec.structs.replace(several, settings=(*several.settings, Alternative()))
    kept = _with_present_away(strip, several)
    last = len(kept.settings) - 1
    settings = [*kept.settings[:last], Alternative(name="")]
    made = msgspec.structs.replace(kept, chosen=last, settings=tuple(settings))
    return session.with_strip(_with(strip, made))


def choosing(session: Session, id: str, n: int) -> Session:
    """With another one of them in the chain; the session itself where there is none of that number, or it is there already."""
    strip, of = _place(session, id)
    several = _of(strip.alternatives, of) if strip is not None else None
    if strip is None or several is None or not 0 <= n < len(several.settings) or n == several.chosen:
        return session
    kept, new = _with_present_away(strip, several), several.settings[n]
    taken = msgspec.structs.replace(new, items=(), inner=())
    made = msgspec.structs.replace(
        kept, chosen=n, settings=tuple(taken if k == n else one for k, one in enumerate(kept.settings))
    )
    return session.with_strip(_put_in(_with(strip, made), of, new))


def removed(session: Session, id: str, n: int) -> Session:
    """Without one of them; if it is the one in the chain, the next one takes its place. The last one left is an ordinary
    step or chain again."""
    strip, of = _place(session, id)
    several = _of(strip.alternatives, of) if strip is not None else None
    if strip is None or several is None or not 0 <= n < len(several.settings):
        return session
    if n == several.chosen:
        session = choosing(session, id, n + 1 if n + 1 < len(several.settings) else n - 1)
        strip, of = _place(session, id)
        several = _of(strip.alternatives, of) if strip is not None else None
        assert strip is not None and several is not None
    settings = tuple(one for k, one in enumerate(several.settings) if k != n)
    chosen = several.chosen - (several.chosen > n)
    made = msgspec.structs.replace(several, chosen=chosen, settings=settings) if len(settings) > 1 else None
    rest = tuple(a for a in strip.alternatives if a.of != of)
    return session.with_strip(msgspec.structs.replace(strip, alternatives=rest) if made is None else _with(strip, made))


def renamed(session: Session, id: str, n: int, name: str) -> Session:
    """With another name for one of them; an empty one leaves it its letter."""
    strip, of = _place(session, id)
    several = _of(strip.alternatives, of) if strip is not None else None
    if strip is None or several is None:
        return session
    settings = (
        msgspec.structs.replace(one, name=name.strip()) if k == n else one for k, one in enumerate(several.settings)
    )
    return session.with_strip(_with(strip, msgspec.structs.replace(several, settings=tuple(settings))))


def each(session: Session, id: str) -> tuple[Session, ...]:
    """The session with each of them in the chain, in their order."""
    several = found(session, id)
    return () if several is None else tuple(choosing(session, id, n) for n in range(len(several.settings)))


def updated(session: Session, id: str, n: int, solved: Session) -> Session:
    """With one that is put away as it is in a session in which it is the one in the chain: what was solved for it there is
    kept."""
    strip, of = _place(session, id)
    other, _ = _place(solved, id)
    several = _of(strip.alternatives, of) if strip is not None else None
    if strip is None or other is None or several is None or n == several.chosen or n >= len(several.settings):
        return session
    items, _ = _within(other, of)
    settings = (msgspec.structs.replace(one, items=items) if k == n else one for k, one in enumerate(several.settings))
    return session.with_strip(_with(strip, msgspec.structs.replace(several, settings=tuple(settings))))


def check(session: Session) -> None:
    """Raises `SessionError` with one sentence for alternatives that could not be chosen."""
    for strip in session.strips:
        _check(strip, strip.alternatives, strip.chain)


def _check(strip: AnyStrip, alternatives: Sequence[Alternatives], chain: Sequence[ChainItem]) -> None:
    present = {item.id: item for item in chains.flat(chain)}
    if len({a.of for a in alternatives}) != len(alternatives):
        raise SessionError(f"“{strip.name}” has alternatives of the same twice.")
    for several in alternatives:
        if several.of and several.of not in present:
            raise SessionError(f"“{strip.name}” has alternatives of a step that is not in its chain.")
        if several.chosen >= len(several.settings):
            raise SessionError(f"“{strip.name}” has no alternative of the number that is chosen.")
        for n, one in enumerate(several.settings):
            if n == several.chosen:
                continue
            if several.of:
                own = present[several.of]
                if len(one.items) != 1 or type(one.items[0]) is not type(own) or one.items[0].id != own.id:
                    raise SessionError(f"An alternative of “{own.called}” in “{strip.name}” is of another kind.")
            ids = [item.id for item in chains.flat(one.items)]
            if "" in ids or len(set(ids)) != len(ids):
                raise SessionError(f"An alternative in “{strip.name}” has two steps with the same id, or one without.")
            if chains.ends_before_it_starts(one.items if not several.of else ()):
                raise SessionError(f"A lane in an alternative of “{strip.name}” would come back before it leaves.")
            _check(strip, one.inner, one.items)


# --- in a strip ---------------------------------------------------------------------------------------------------------


def _place(session: Session, id: str) -> tuple[AnyStrip | None, str]:
    """The strip, and what alternatives in it are of: nothing, for its whole chain."""
    strip = session.strip(id)
    return (strip, "") if strip is not None else (session.strip_with(id) if id else None, id)


def _of(alternatives: Sequence[Alternatives], of: str) -> Alternatives | None:
    return next((a for a in alternatives if a.of == of), None)


def _with(strip: AnyStrip, several: Alternatives) -> AnyStrip:
    there = _of(strip.alternatives, several.of) is not None
    kept = tuple(several if a.of == several.of else a for a in strip.alternatives)
    return msgspec.structs.replace(strip, alternatives=kept if there else (*kept, several))


def _within(strip: AnyStrip, of: str) -> tuple[tuple[ChainItem, ...], set[str]]:
    """What alternatives are of, and the ids of what is in it."""
    if not of:
        return strip.chain, {item.id for item in chains.flat(strip.chain)}
    items = tuple(item for item in chains.flat(strip.chain) if item.id == of)
    return items, {item.id for item in chains.flat(items)} - {of}


def _with_present_away(strip: AnyStrip, several: Alternatives) -> Alternatives:
    """The alternatives with what is in the chain put away among them."""
    items, inside = _within(strip, several.of)
    inner = tuple(a for a in strip.alternatives if a.of in inside)
    present = msgspec.structs.replace(several.settings[several.chosen], items=items, inner=inner)
    settings = (present if n == several.chosen else one for n, one in enumerate(several.settings))
    return msgspec.structs.replace(several, settings=tuple(settings))


def _put_in(strip: AnyStrip, of: str, new: Alternative) -> AnyStrip:
    """A strip with one that was put away in its chain, with the alternatives of what is in that."""
    _, inside = _within(strip, of)
    rest = tuple(a for a in strip.alternatives if a.of not in inside)
    chain = chains.replaced(strip.chain, new.items[0]) if of else new.items
    return msgspec.structs.replace(strip, chain=chain, alternatives=(*rest, *new.inner))
