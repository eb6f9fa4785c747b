"""A step as text: how it is copied within a window, to another one, and into a message."""

from __future__ import annotations

import msgspec

from gluvo.errors import GluvoError
from gluvo.session.codec import Format
from gluvo.session.migrations import VERSION, with_new_names
from gluvo.steps import ChainItem


class _Copied(msgspec.Struct, frozen=True, kw_only=True):
    format: str = "gluvo-step"
    version: int = VERSION
    item: ChainItem


FORMAT = Format("gluvo-step", _Copied, "step")


def copied(item: ChainItem) -> str:
    """The text for a step, a lane or a Split."""
    return FORMAT.encoded(_Copied(item=item), indent=None).decode()


def pasted(text: str) -> ChainItem:
    """The step that a text holds. Raises `GluvoError` if it holds none."""
    try:
        raw = msgspec.json.decode(text)
        if isinstance(raw, dict) and FORMAT.key in raw:  # as it was copied when no version was told
            raw = {"format": FORMAT.key, "version": VERSION, "item": with_new_names(raw[FORMAT.key])}
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        raise GluvoError("The clipboard holds no step. Copy one from a ledger first.") from None
    return FORMAT.converted(raw, "The clipboard").record.item
