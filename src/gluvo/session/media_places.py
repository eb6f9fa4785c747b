"""Where a session refers to audio files, however deep: one way to change all of these places."""

from __future__ import annotations

import functools
import types
from collections.abc import Callable
from typing import Annotated, Any, TypeVar, Union, cast, get_args, get_origin, get_type_hints

import msgspec

from gluvo.session.records import Media

R = TypeVar("R", bound=msgspec.Struct)


def with_media(record: R, change: Callable[[Media], Media]) -> R:
    """A record with every reference to an audio file in it, at any depth, changed; itself where none is another."""
    return cast("R", _changed(record, change))


def _changed(value: Any, change: Callable[[Media], Media]) -> Any:
    if isinstance(value, Media):
        return change(value)
    if isinstance(value, tuple):
        made = tuple(_changed(one, change) for one in value)
        return made if any(a is not b for a, b in zip(made, value, strict=True)) else value
    if isinstance(value, msgspec.Struct):
        fields = {
            name: (old := getattr(value, name), _changed(old, change)) for name in _fields_with_media(type(value))
        }
        others = {name: new for name, (old, new) in fields.items() if new is not old}
        return msgspec.structs.replace(value, **others) if others else value
    return value


@functools.cache
def _fields_with_media(kind: type[msgspec.Struct]) -> tuple[str, ...]:
    """The fields of a record that refer to audio files, or hold records that do."""
    return tuple(name for name, hint in get_type_hints(kind).items() if _may_hold(hint, (kind,)))


def _may_hold(hint: Any, above: tuple[Any, ...]) -> bool:
    if hint is Media:
        return True
    if get_origin(hint) in (tuple, Union, types.UnionType, Annotated):
        return any(_may_hold(inner, above) for inner in get_args(hint))
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct) and hint not in above:
        return any(_may_hold(inner, (*above, hint)) for inner in get_type_hints(hint).values())
    return False
