"""Chains as values: steps and containers of steps in a tuple, found, put in, taken out and moved.

A container is an item that holds rows of steps, such as a lane or a Split. All that is done here is done with any of
them alike, however they are nested.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import cast

from gluvo.steps import ChainItem
from gluvo.steps.base import Step

Chain = tuple[ChainItem, ...]
Row = Sequence[Step]


def flat(chain: Row) -> Chain:
    """Everything in the order of the ledger: each container is followed by its own steps."""
    return tuple(part for item in _items(chain) for part in (item, *(p for row in item.rows for p in flat(row))))


def flat_on(chain: Row) -> Chain:
    """As `flat`, without what is off, or in a container that is."""
    return tuple(
        part for item in _items(chain) if item.on for part in (item, *(p for row in item.rows for p in flat_on(row)))
    )


def in_order(chain: Row) -> Chain:
    """Everything in the order of the sound: each container comes after its own steps, whose sound it needs."""
    return tuple(part for item in _items(chain) for part in (*(p for row in item.rows for p in in_order(row)), item))


def listed(chain: Row) -> tuple[str, ...]:
    """The ids of all rows of the ledger: of everything in its order, and of the rows of containers that have several."""

    def inside(item: Step) -> Iterator[str]:
        for row_id, row in zip(item.row_ids, item.rows, strict=True):
            if len(item.row_ids) > 1:
                yield row_id
            yield from listed(row)

    return tuple(id for item in chain for id in (item.id, *inside(item)))


def containers_of(chain: Row, id: str) -> Chain:
    """The containers that an item or a row is in, the outermost first."""
    for item in _items(chain):
        if id in item.row_ids and id != item.id:
            return (item,)
        for row in item.rows:
            if any(step.id == id for step in row):
                return (item,)
            if inner := containers_of(row, id):
                return (item, *inner)
    return ()


def container_of(chain: Row, id: str) -> ChainItem | None:
    """The container that a step or a row is in, if it is in one."""
    return next(iter(containers_of(chain, id)[::-1]), None)


def row_of(chain: Row, id: str) -> str:
    """The id of the row of a container that a step stands in; empty for the chain itself."""
    holder = container_of(chain, id)
    if holder is None:
        return ""
    rows = zip(holder.row_ids, holder.rows, strict=True)
    return next((row_id for row_id, row in rows if any(step.id == id for step in row)), "")


def replaced(chain: Row, item: ChainItem) -> Chain:
    """The item of that id replaced."""
    return _mapped(chain, lambda old: [item if old.id == item.id else old])


def inserted(chain: Row, item: ChainItem, after: str = "", inside: str = "") -> Chain:
    """An item put in after another one; at the beginning if `after` is not there.

    After a step inside a container, a step goes into that one; after a container it goes behind it. `inside` names the
    row of a container of which it becomes the first (of a lane, the lane). What may not stand in a container goes behind
    it.
    """
    if inside and (found := _first_of(chain, inside, item)) is not None:
        return found
    for holder in containers_of(chain, after)[::-1]:
        if holder.may_contain(item):
            break
        after = holder.id
    return _in_row_of(chain, after, lambda row: _after(row, item, after)) or _after(chain, item, "")


def without(chain: Row, id: str) -> Chain:
    """An item taken out. Containers that left the chain after it leave it after what stood before it."""
    ids = [item.id for item in chain]
    before = ids[ids.index(id) - 1] if id in ids and ids.index(id) > 0 else ""

    def kept(old: ChainItem) -> list[ChainItem]:
        if old.id == id:
            return []
        return [old.leaving(before)] if old.contains_steps and old.since == id else [old]

    return _mapped(chain, kept)


def moved(chain: Row, id: str, by: int) -> Chain:
    """An item moved by so many places in the ledger's order; steps go into containers and out of them on the way."""
    found = tuple(_items(chain))
    for _ in range(abs(by)):
        found = _moved_once(found, id, down=by > 0)
    return found


def _moved_once(chain: Chain, id: str, down: bool) -> Chain:
    item = next((i for i in flat(chain) if i.id == id), None)
    if item is None:
        return chain
    holder = container_of(chain, id)
    rows = [list(row) for row in holder.rows] if holder is not None else [list[Step](chain)]
    at, row = next((n, row) for n, row in enumerate(rows) if any(i.id == id for i in row))
    index = [i.id for i in row].index(id)
    to = index + (1 if down else -1)
    if 0 <= to < len(row):
        beside = row[to]
        if not beside.may_contain(item):
            row[index], row[to] = row[to], row[index]
            return replaced(chain, _item(holder.with_rows(rows))) if holder is not None else _chain(row)
        rest = without(chain, id)  # into the container beside it, at its near end
        inner = next(i for i in flat(rest) if i.id == beside.id)
        inside = [list(r) for r in inner.rows]
        inside[0 if down else -1].insert(0 if down else len(inside[-1]), item)
        return replaced(rest, _item(inner.with_rows(inside)))
    if holder is None:
        return chain
    beside_row = at + (1 if down else -1)
    if 0 <= beside_row < len(rows):  # into the next row of its container
        row.remove(item)
        rows[beside_row].insert(0 if down else len(rows[beside_row]), item)
        return replaced(chain, _item(holder.with_rows(rows)))
    rest = without(chain, id)  # out of its container
    return _in_row_of(rest, holder.id, lambda row: _before(row, item, holder.id, by=int(down))) or chain


def dropped(chain: Row, id: str, before: str, after: str = "") -> Chain:
    """An item dragged to stand before another in the ledger's order; at the end if `before` is empty.

    Dropped between a container and its steps it goes into that, right after the head of a row (`after`) it becomes the
    first of it, right before one the last of the row above. Anywhere else it goes into the chain.
    """
    item = next((i for i in flat(chain) if i.id == id), None)
    if item is None or id == before or before in listed((item,)):
        return tuple(_items(chain))
    rest = _mapped(chain, lambda old: [] if old.id == id else [old])
    if (found := _first_of(rest, after, item, heads=True)) is not None:
        return found
    for holder in containers_of(rest, before)[::-1]:
        if not holder.may_contain(item):
            before = holder.id
        elif before in holder.row_ids:
            rows = [list(row) for row in holder.rows]
            n = holder.row_ids.index(before)
            rows[max(0, n - 1)].insert(len(rows[n - 1]) if n else 0, item)
            return replaced(rest, _item(holder.with_rows(rows)))
        else:
            break
    return _in_row_of(rest, before, lambda row: _before(row, item, before)) or (*rest, item)


def before_which(chain: Row, id: str) -> str:
    """What stands before an item in the chain itself (before its container, if it is in one); nothing before the first."""
    ids = ["", *(item.id for item in chain)]
    place = next((holder.id for holder in containers_of(chain, id)), id)
    return ids[ids.index(place) - 1] if place in ids[1:] else ""


def after_which(chain: Row, id: str) -> str:
    """What stands next in the chain itself; the first if `id` is not there, nothing if it is the last."""
    ids = [item.id for item in chain]
    return next(iter(ids[ids.index(id) + 1 if id in ids else 0 :]), "")


def ends_before_it_starts(chain: Row) -> ChainItem | None:
    """A container that comes back before the point where it leaves, or leaves at a point that is not there."""
    seen = {""}
    for item in _items(chain):
        if item.contains_steps and item.since not in seen:
            return item
        seen.add(item.id)
    return None


def _item(step: object) -> ChainItem:
    return cast("ChainItem", step)


def _items(row: Row) -> Chain:
    return cast("Chain", row)


def _chain(row: Row) -> Chain:
    return tuple(_items(row))


def _first_of(chain: Row, row: str, item: ChainItem, heads: bool = False) -> Chain | None:
    """An item put first into the row of a container; None where there is no such row, or it may not stand there.

    `heads`: only into rows of containers that have several.
    """
    for holder in flat(chain):
        names = holder.row_ids if heads else (holder.id, *holder.row_ids)
        if row in names and holder.may_contain(item) and (not heads or len(names) > 1):
            n = holder.row_ids.index(row) if row in holder.row_ids else 0
            rows = [[item, *steps] if k == n else steps for k, steps in enumerate(holder.rows)]
            return replaced(chain, _item(holder.with_rows(rows)))
    return None


def _in_row_of(chain: Row, id: str, change: Callable[[Row], Chain]) -> Chain | None:
    """The chain with that row of it changed that an item stands in; None if it stands nowhere."""
    if any(item.id == id for item in chain):
        return change(chain)
    holder = container_of(chain, id)
    if holder is None or id in holder.row_ids:
        return None
    rows = [change(row) if any(step.id == id for step in row) else row for row in holder.rows]
    return replaced(chain, _item(holder.with_rows(rows)))


def _after(row: Row, item: Step, after: str) -> Chain:
    place = next((n + 1 for n, i in enumerate(row) if i.id == after), 0)
    return _chain((*row[:place], item, *row[place:]))


def _before(row: Row, item: Step, before: str, by: int = 0) -> Chain:
    place = [i.id for i in row].index(before) + by
    return _chain((*row[:place], item, *row[place:]))


def _mapped(chain: Row, change: Callable[[ChainItem], list[ChainItem]]) -> Chain:
    """Every item, inside containers too, with what `change` gives in its place: one or none."""
    result: list[ChainItem] = []
    for item in _items(chain):
        for new in change(item):
            if item.contains_steps and new.contains_steps and new.rows == item.rows:
                rows = [_mapped(row, change) for row in item.rows]
                result.append(_item(new.with_rows(rows)) if rows != list(item.rows) else new)
            else:
                result.append(new)
    return tuple(result)
