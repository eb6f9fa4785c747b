"""Chains as values: steps and containers of steps in a tuple, found, put in, taken out and moved.

A container is an item that holds rows of steps, such as a lane. All that is done here is done with any of them alike.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import cast

from gluvo.steps import ChainItem

Chain = tuple[ChainItem, ...]
Row = Sequence[ChainItem]


def flat(chain: Row) -> Chain:
    """Everything in the order of the ledger: each container is followed by its own steps."""
    return tuple(part for item in chain for part in (item, *_inside(item)))


def in_order(chain: Row) -> Chain:
    """Everything in the order of the sound: each container comes after its own steps, whose sound it needs."""
    return tuple(part for item in chain for part in (*_inside(item), item))


def container_of(chain: Row, id: str) -> ChainItem | None:
    """The container that a step is in, if it is in one."""
    return next((item for item in chain if any(step.id == id for step in _inside(item))), None)


def replaced(chain: Row, item: ChainItem) -> Chain:
    """The item of that id replaced."""
    return _mapped(chain, lambda old: [item if old.id == item.id else old])


def inserted(chain: Row, item: ChainItem, after: str = "", inside: str = "") -> Chain:
    """An item put in after another one; at the beginning if `after` is not there.

    After a step inside a container, a step goes into that one; after a container it goes behind it. `inside` names a
    container whose first step it becomes. A container always goes into the chain itself.
    """
    holder = container_of(chain, after) or next((i for i in chain if i.id == inside and i.holds_steps), None)
    if holder is not None and not item.holds_steps:
        rows = [list(row) for row in holder.rows]
        place = next((n for n, row in enumerate(rows) if any(step.id == after for step in row)), 0)
        rows[place] = list(_after(_row(rows[place]), item, after))
        return replaced(chain, holder.with_rows(rows))
    return _after(chain, item, holder.id if holder is not None else after)


def without(chain: Row, id: str) -> Chain:
    """An item taken out. Containers that left the chain after it leave it after what stood before it."""
    ids = [item.id for item in chain]
    before = ids[ids.index(id) - 1] if id in ids and ids.index(id) > 0 else ""

    def kept(old: ChainItem) -> list[ChainItem]:
        if old.id == id:
            return []
        return [old.leaving(before)] if old.holds_steps and old.since == id else [old]

    return _mapped(chain, kept)


def moved(chain: Row, id: str, by: int) -> Chain:
    """An item moved by so many places in the ledger's order; steps go into containers and out of them on the way."""
    found = tuple(chain)
    for _ in range(abs(by)):
        found = _moved_once(found, id, down=by > 0)
    return found


def _moved_once(chain: Chain, id: str, down: bool) -> Chain:
    holder = container_of(chain, id)
    rows: list[list[ChainItem]] = [_row(row) for row in holder.rows] if holder is not None else [list(chain)]
    at = next((n for n, row in enumerate(rows) if any(item.id == id for item in row)), None)
    if at is None:
        return chain
    row = rows[at]
    index = next(n for n, item in enumerate(row) if item.id == id)
    item, to = row[index], index + (1 if down else -1)
    if 0 <= to < len(row) and (holder is not None or item.holds_steps or not row[to].holds_steps):
        changed = list(row)
        changed[index], changed[to] = changed[to], changed[index]
        rows[at] = list(changed)
        return replaced(chain, holder.with_rows(rows)) if holder is not None else tuple(changed)
    if holder is None and not 0 <= to < len(row):
        return chain
    rest = without(chain, id)
    if holder is None:  # into the container beside it, at its near end
        inner = next(i for i in rest if i.id == row[to].id)
        inside = [list(r) for r in inner.rows]
        inside[0 if down else -1].insert(0 if down else len(inside[-1]), item)
        return replaced(rest, inner.with_rows(inside))
    beside = at + (1 if down else -1)
    if 0 <= beside < len(rows):  # into the next row of its container
        rows[at].remove(item)
        rows[beside].insert(0 if down else len(rows[beside]), item)
        return replaced(chain, holder.with_rows(rows))
    place = [i.id for i in rest].index(holder.id) + (1 if down else 0)  # out of its container
    return (*rest[:place], item, *rest[place:])


def dropped(chain: Row, id: str, before: str) -> Chain:
    """An item dragged to stand before another in the ledger's order; at the end if `before` is empty.

    Dropped between a container and its steps it goes into that, anywhere else into the chain.
    """
    item = next((i for i in flat(chain) if i.id == id), None)
    if item is None or id == before or before in {step.id for step in _inside(item)}:
        return tuple(chain)
    rest = _mapped(chain, lambda old: [] if old.id == id else [old])
    holder = container_of(rest, before)
    if holder is not None and not item.holds_steps:
        rows = [list(row) for row in holder.rows]
        row = next(row for row in rows if any(step.id == before for step in row))
        row.insert([step.id for step in row].index(before), item)
        return replaced(rest, holder.with_rows(rows))
    ids = [i.id for i in rest]
    found = holder is not None or before in ids
    place = ids.index(holder.id if holder is not None else before) if found else len(ids)
    return (*rest[:place], item, *rest[place:])


def before_which(chain: Row, id: str) -> str:
    """What stands before an item in the chain itself (before its container, if it is in one); nothing before the first."""
    holder = container_of(chain, id)
    ids = ["", *(item.id for item in chain)]
    place = holder.id if holder is not None else id
    return ids[ids.index(place) - 1] if place in ids[1:] else ""


def after_which(chain: Row, id: str) -> str:
    """What stands next in the chain itself; the first if `id` is not there, nothing if it is the last."""
    ids = [item.id for item in chain]
    return next(iter(ids[ids.index(id) + 1 if id in ids else 0 :]), "")


def ends_before_it_starts(chain: Row) -> ChainItem | None:
    """A container that comes back before the point where it leaves, or leaves at a point that is not there."""
    seen = {""}
    for item in chain:
        if item.holds_steps and item.since not in seen:
            return item
        seen.add(item.id)
    return None


def _inside(item: ChainItem) -> Chain:
    """The steps of a container, row by row."""
    return tuple(_item(step) for row in item.rows for step in row)


def _item(step: object) -> ChainItem:
    return cast("ChainItem", step)


def _row(row: Sequence[object]) -> list[ChainItem]:
    return [_item(step) for step in row]


def _after(row: Row, item: ChainItem, after: str) -> Chain:
    place = next((n + 1 for n, i in enumerate(row) if i.id == after), 0)
    return (*row[:place], item, *row[place:])


def _mapped(chain: Row, change: Callable[[ChainItem], list[ChainItem]]) -> Chain:
    """Every item, inside containers too, with what `change` gives in its place: one or none."""
    result: list[ChainItem] = []
    for item in chain:
        for new in change(item):
            if item.holds_steps and new.holds_steps and new.rows == item.rows:
                rows = [[inner for step in row for inner in change(_item(step))] for row in item.rows]
                result.append(new.with_rows(rows))
            else:
                result.append(new)
    return tuple(result)
