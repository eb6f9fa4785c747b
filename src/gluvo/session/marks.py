"""Marked rows: what they stand for, and what is done with all of them at once.

Marks are ids of steps, of containers, of rows of containers that have several, and of strips; a strip stands for its whole
chain. Marks of what is gone stand for nothing.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import msgspec

from gluvo.errors import SessionError
from gluvo.session import by_section, chains, tree
from gluvo.session.chains import Chain
from gluvo.session.presets import held_in
from gluvo.session.records import MOST_ITEMS, AnyStrip, Session, Stem
from gluvo.steps import ChainItem
from gluvo.steps.base import Step


def rows_of(session: Session) -> tuple[str, ...]:
    """All that can be marked, in the order of the tree and of the ledgers: each strip is followed by its rows."""
    return tuple(id for strip, _ in tree.rows(session) for id in (strip.id, *chains.listed(strip.chain)))


def marked(session: Session) -> tuple[str, ...]:
    """The marks that are there, in that order."""
    marks = set(session.view.marks)
    return tuple(id for id in rows_of(session) if id in marks) if marks else ()


def items_of(session: Session, ids: Collection[str]) -> Chain:
    """The items that rows stand for, in order; what is in an item that is among them is not told again."""
    found: list[ChainItem] = []

    def add(chain: Sequence[Step]) -> None:
        for item in chain:
            if item.id in ids:
                found.append(item)  # type: ignore[arg-type]
            else:
                for row in item.rows:
                    add(row)

    for strip, _ in tree.rows(session):
        if strip.id in ids:
            found.extend(strip.chain)
        else:
            add(strip.chain)
    return tuple(found)


def steps_out(session: Session, ids: Collection[str]) -> int:
    """How many steps and containers rows stand for, those inside of others and of bands too."""
    inside = {
        step.id
        for item in session.items
        for row_id, row in zip(item.row_ids, item.rows, strict=True)
        if row_id in ids and row_id != item.id
        for step in chains.flat(row)
    }
    return len({item.id for item in chains.flat(items_of(session, ids))} | inside)


def without(session: Session, ids: Collection[str]) -> Session:
    """The session with all that rows stand for switched off."""
    return switched(session, ids, on=False)


def switched(session: Session, ids: Collection[str], on: bool) -> Session:
    """The session with all that rows stand for switched on or off; of a strip, all that is in its chain."""

    def turned(item: Step, every: bool) -> Step:
        if every or item.id in ids:
            item = msgspec.structs.replace(item, on=on)
        for band in item.told_rows:
            if band.id in ids:
                item = item.with_row_on(band.part, on)
        rows = [[turned(step, False) for step in row] for row in item.rows]
        return item.with_rows(rows) if rows and rows != [list(row) for row in item.rows] else item

    strips = []
    for strip in session.strips:
        chain = tuple(turned(item, strip.id in ids) for item in strip.chain)
        strips.append(msgspec.structs.replace(strip, chain=chain) if chain != strip.chain else strip)
    return session.replace(strips=tuple(strips))


def all_on(session: Session, ids: Collection[str]) -> bool:
    """Whether nothing that rows stand for is off."""
    bands = [band for item in session.items for band in item.told_rows if band.id in ids]
    return all(item.on for item in items_of(session, ids)) and all(band.on for band in bands)


def up_to(session: Session, strip: str, step: str) -> Session:
    """The session with a strip's chain as far as a step: what comes after it is switched off. An empty id is what comes in."""
    found = session.strip(strip)
    if found is None:
        return session

    def cut(row: Sequence[Step], past: bool) -> tuple[list[Step], bool]:
        made = []
        for item in row:
            if past:
                made.append(msgspec.structs.replace(item, on=False))
                continue
            rows = []
            for inner in item.rows:
                inside, ended = cut(inner, False)
                rows.append(inside)
                past = past or ended
            made.append(item.with_rows(rows) if past else item)
            past = past or item.id == step
        return made, past

    chain, _ = cut(found.chain, not step)
    return session.with_chain(strip, chain)  # type: ignore[arg-type]


def removed(session: Session, ids: Collection[str]) -> Session:
    """The session without the items that rows stand for."""
    for item in items_of(session, ids):
        session = session.without_step(item.id)
    return session


def moved(session: Session, ids: Collection[str], by: int) -> Session:
    """The items that rows stand for, each moved by a place in its ledger; they stay together where the end is reached."""
    order = [item.id for item in items_of(session, ids)][:: -1 if by > 0 else 1]
    stuck: set[str] = set()
    for id in order:
        strip = session.strip_with(id)
        assert strip is not None
        flat = [item.id for item in chains.flat(strip.chain)]
        place = flat.index(id) + (1 if by > 0 else -1)
        chain = chains.moved(strip.chain, id, 1 if by > 0 else -1)
        if chain == strip.chain or (0 <= place < len(flat) and flat[place] in stuck):
            stuck.add(id)
            continue
        session = session.with_chain(strip.id, chain)
    return session


def put_in(
    session: Session,
    items: Sequence[ChainItem],
    strip: str,
    after: str = "",
    inside: str = "",
    section: str | None = None,
) -> tuple[Session, tuple[str, ...]]:
    """Items put one behind the other into a chain, see `Session.with_new_step`, and the ids that they have got. Lanes leave the
    chain where they did, if that came along; else right before. Held settings are found in a section, if one is said.

    Raises `SessionError` where a chain would have more than `MOST_ITEMS`.
    """
    found = session.strip(strip)
    count = len(found.chain) if found is not None else 0
    if count + len(items) > MOST_ITEMS and not inside:
        raise SessionError(
            f"A chain has at most {MOST_ITEMS} steps: of {len(items)} there is room for {max(0, MOST_ITEMS - count)}."
        )
    ids: dict[str, str] = {}
    made: list[str] = []
    chain = found.chain if found is not None else ()
    beginning = next((holder.id for holder in chains.containers_of(chain, after)), after)
    until = ["", *(item.id for item in chain)]
    until = until[: until.index(beginning) + 1] if beginning in until else [""]
    for item in items:
        known = {i.id for i in session.items}
        own = by_section.at_home(session, item if section is None else held_in(item, section), ids)
        if own.since in ids:
            own = own.leaving(ids[own.since])
        elif len(items) > 1:
            own = own.leaving(beginning)
        elif own.since not in until:
            own = own.leaving(chains.before_which(chain, after))
        session = session.with_new_step(own, strip, after, "" if made else inside)
        after = next(i.id for i in session.items if i.id not in known)
        made.append(after)
        ids[item.id] = after
    return session, tuple(made)


def duplicated(session: Session, ids: Collection[str]) -> tuple[Session, tuple[str, ...]]:
    """Each run of items that rows stand for, once more right behind it; and the ids of the new ones."""
    made: list[str] = []
    for strip, _ in tree.rows(session):
        mine = [
            item for item in items_of(session, set(ids) - {s.id for s in session.strips}) if _in(session, strip, item)
        ]
        for item in mine:
            if item.id in made:
                continue
            session, new = put_in(session, [item], strip.id, item.id)
            made += new
    return session, tuple(made)


def _in(session: Session, strip: AnyStrip, item: ChainItem) -> bool:
    found = session.strip_with(item.id)
    return found is not None and found.id == strip.id


def with_strip_again(session: Session, id: str) -> tuple[Session, str]:
    """A stem or bus once more, with its chain and all that flows into it, right behind it; and the new one's id. Stems share
    their files."""
    names: dict[str, str] = {}
    order = [s for s, _ in tree.rows(session) if s.id in tree.below(session, id)]
    if session.strip(id) is None or session.mix.id == id:
        return session, ""
    for strip in order:
        fresh = session.fresh_id("stem" if isinstance(strip, Stem) else "bus")
        names[strip.id] = fresh
        own = msgspec.structs.replace(
            strip,
            id=fresh,
            chain=(),
            alternatives=(),
            name=_another(session, strip.name) if strip.id == id else strip.name,
        )
        place = next(n for n, s in enumerate(session.strips) if s.id == strip.id) + 1
        session = session.replace(strips=(*session.strips[:place], own, *session.strips[place:]))
        session, _ = put_in(session, strip.chain, fresh)
    strips = tuple(
        msgspec.structs.replace(s, into=names.get(s.into, s.into)) if s.id in names.values() else s
        for s in session.strips
    )
    return _with_keys(session.replace(strips=strips), names), names[id]


def _with_keys(session: Session, names: Mapping[str, str]) -> Session:
    """The strips that were made anew listen to one another as those that they were made from do."""
    for new in names.values():
        strip = session.strip(new)
        assert strip is not None
        chain = tuple(_listening(item, names) for item in strip.chain)
        session = session.with_chain(new, chain)  # type: ignore[arg-type]
    return session


def _listening(item: Step, names: Mapping[str, str]) -> Step:
    changes: dict[str, object] = {}
    if (key := getattr(item, "key", "")) in names:
        changes["key"] = names[key]
    if isinstance(bands := getattr(item, "bands", None), tuple):
        changes["bands"] = tuple(msgspec.structs.replace(b, key=names.get(b.key, b.key)) for b in bands)
    made = msgspec.structs.replace(item, **changes) if changes else item
    return (
        made.with_rows([[_listening(step, names) for step in row] for row in made.rows])
        if made.contains_steps
        else made
    )


def _another(session: Session, name: str) -> str:
    """A name that no strip has yet."""
    taken = {s.name for s in session.strips}
    return next(f"{name} {n}" for n in range(2, len(taken) + 3) if f"{name} {n}" not in taken)
