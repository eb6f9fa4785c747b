"""Steps as text: how they are copied within a window, to another one, and into a message."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import msgspec

from gluvo.errors import GluvoError
from gluvo.session.codec import Format
from gluvo.session.migrations import VERSION, with_new_names
from gluvo.steps import ChainItem

MOST_COPIED = 1000
"""Steps in a text."""


class _Copied(msgspec.Struct, frozen=True, kw_only=True):
    format: str = "gluvo-step"
    version: int = VERSION
    item: ChainItem


class _SeveralCopied(msgspec.Struct, frozen=True, kw_only=True):
    format: str = "gluvo-steps"
    version: int = VERSION
    items: Annotated[tuple[ChainItem, ...], msgspec.Meta(min_length=1, max_length=MOST_COPIED)]


FORMAT = Format("gluvo-step", _Copied, "step")
SEVERAL = Format("gluvo-steps", _SeveralCopied, "steps")


def copied(items: Sequence[ChainItem]) -> str:
    """The text for steps, lanes and Splits, in their order; one alone is told as older windows read it."""
    if len(items) == 1:
        return FORMAT.encoded(_Copied(item=items[0]), indent=None).decode()
    return SEVERAL.encoded(_SeveralCopied(items=tuple(items)), indent=None).decode()


def pasted(text: str) -> tuple[ChainItem, ...]:
    """The steps that a text holds. Raises `GluvoError` if it holds none."""
    try:
        raw = msgspec.json.decode(text)
        if isinstance(raw, dict) and FORMAT.key in raw:  # as it was copied when no version was told
            raw = {"format": FORMAT.key, "version": VERSION, "item": with_new_names(raw[FORMAT.key])}
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        raise GluvoError("The clipboard holds no step. Copy one from a ledger first.") from None
    if isinstance(raw, dict) and raw.get("format") == SEVERAL.key:
        return SEVERAL.converted(raw, "The clipboard").record.items
    return (FORMAT.converted(raw, "The clipboard").record.item,)
