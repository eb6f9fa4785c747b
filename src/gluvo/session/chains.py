"""Chains as values: steps and lanes in a tuple, found, put in, taken out and moved."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import cast

import msgspec

from gluvo.steps import AnyStep, ChainItem, Lane

Chain = tuple[ChainItem, ...]


def flat(chain: Sequence[ChainItem]) -> Chain:
    """Everything in the order of the ledger: each lane is followed by its own steps."""
    return tuple(part for item in chain for part in ((item, *item.steps) if isinstance(item, Lane) else (item,)))


def lane_of(chain: Sequence[ChainItem], id: str) -> Lane | None:
    """The lane that a step is in, if it is in one."""
    return next((i for i in chain if isinstance(i, Lane) and any(s.id == id for s in i.steps)), None)


def replaced(chain: Sequence[ChainItem], item: ChainItem) -> Chain:
    """The step or lane of that id replaced."""
    return _mapped(chain, lambda old: [item if old.id == item.id else old])


def inserted(chain: Sequence[ChainItem], item: ChainItem, after: str = "", inside: str = "") -> Chain:
    """A step or lane put in after another one; at the beginning if `after` is not there.

    After a step inside a lane, a step goes into that lane; after a lane it goes behind it. `inside` names a lane whose
    first step it becomes. A lane always goes into the chain itself.
    """
    lane = lane_of(chain, after) or next((i for i in chain if i.id == inside and isinstance(i, Lane)), None)
    if lane is not None and not isinstance(item, Lane):
        steps = _after(lane.steps, item, after)
        return replaced(chain, msgspec.structs.replace(lane, steps=cast("tuple[AnyStep, ...]", steps)))
    return _after(chain, item, lane.id if lane is not None else after)


def without(chain: Sequence[ChainItem], id: str) -> Chain:
    """A step or lane taken out. Lanes that left the chain after it leave it after what stood before it."""
    ids = [item.id for item in chain]
    before = ids[ids.index(id) - 1] if id in ids and ids.index(id) > 0 else ""

    def kept(old: ChainItem) -> list[ChainItem]:
        if old.id == id:
            return []
        if isinstance(old, Lane) and old.since == id:
            return [msgspec.structs.replace(old, since=before)]
        return [old]

    return _mapped(chain, kept)


def moved(chain: Sequence[ChainItem], id: str, by: int) -> Chain:
    """A step or lane moved by so many places in the ledger's order; steps go into lanes and out of them on the way."""
    found = tuple(chain)
    for _ in range(abs(by)):
        found = _moved_once(found, id, down=by > 0)
    return found


def _moved_once(chain: Chain, id: str, down: bool) -> Chain:
    lane = lane_of(chain, id)
    row: list[ChainItem] = list(lane.steps if lane is not None else chain)
    index = next((n for n, item in enumerate(row) if item.id == id), None)
    if index is None:
        return chain
    item, to = row[index], index + (1 if down else -1)
    if lane is not None and not 0 <= to < len(row):  # out of its lane
        rest = without(chain, id)
        place = [i.id for i in rest].index(lane.id) + (1 if down else 0)
        return (*rest[:place], item, *rest[place:])
    if not 0 <= to < len(row):
        return chain
    beside = row[to]
    if isinstance(beside, Lane) and not isinstance(item, Lane):  # into a lane, at its near end
        rest = without(chain, id)
        inner = next(i for i in rest if i.id == beside.id)
        assert isinstance(inner, Lane)
        steps = (item, *inner.steps) if down else (*inner.steps, item)
        return replaced(rest, msgspec.structs.replace(inner, steps=steps))
    row[index], row[to] = row[to], row[index]
    if lane is not None:
        return replaced(chain, msgspec.structs.replace(lane, steps=tuple(row)))
    return tuple(row)


def dropped(chain: Sequence[ChainItem], id: str, before: str) -> Chain:
    """A step or lane dragged to stand before another in the ledger's order; at the end if `before` is empty.

    Dropped between a lane and its steps it goes into the lane, anywhere else into the chain.
    """
    item = next((i for i in flat(chain) if i.id == id), None)
    if item is None or id == before:
        return tuple(chain)
    own = {s.id for s in item.steps} if isinstance(item, Lane) else set()
    if before in own:
        return tuple(chain)
    rest = _mapped(chain, lambda old: [] if old.id == id else [old])
    lane = lane_of(rest, before)
    if lane is not None and not isinstance(item, Lane):
        steps = list(lane.steps)
        steps.insert([s.id for s in steps].index(before), item)
        return replaced(rest, msgspec.structs.replace(lane, steps=tuple(steps)))
    ids = [i.id for i in rest]
    place = ids.index(lane.id if lane is not None else before) if lane is not None or before in ids else len(ids)
    return (*rest[:place], item, *rest[place:])


def before_which(chain: Sequence[ChainItem], id: str) -> str:
    """What stands before an item in the chain itself (before its lane, if it is in one); nothing before the first."""
    lane = lane_of(chain, id)
    ids = ["", *(item.id for item in chain)]
    place = lane.id if lane is not None else id
    return ids[ids.index(place) - 1] if place in ids[1:] else ""


def after_which(chain: Sequence[ChainItem], id: str) -> str:
    """What stands next in the chain itself; the first if `id` is not there, nothing if it is the last."""
    ids = [item.id for item in chain]
    return next(iter(ids[ids.index(id) + 1 if id in ids else 0 :]), "")


def ends_before_it_starts(chain: Sequence[ChainItem]) -> Lane | None:
    """A lane that comes back before the point where it leaves, or leaves at a point that is not there."""
    seen = {""}
    for item in chain:
        if isinstance(item, Lane) and item.since not in seen:
            return item
        seen.add(item.id)
    return None


def _after(row: Sequence[ChainItem], item: ChainItem, after: str) -> Chain:
    place = next((n + 1 for n, i in enumerate(row) if i.id == after), 0)
    return (*row[:place], item, *row[place:])


def _mapped(chain: Sequence[ChainItem], change: Callable[[ChainItem], list[ChainItem]]) -> Chain:
    """Every item, inside lanes too, with what `change` gives in its place: one or none."""
    result: list[ChainItem] = []
    for item in chain:
        for new in change(item):
            if isinstance(item, Lane) and isinstance(new, Lane) and new.steps is item.steps:
                steps = tuple(inner for step in item.steps for inner in change(step))
                new = msgspec.structs.replace(new, steps=cast("tuple[AnyStep, ...]", steps))
            result.append(new)
    return tuple(result)
