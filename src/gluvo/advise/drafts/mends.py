"""Mends what is wrong with the strip itself, by the edits that watch-outs offer."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from gluvo.advise.drafts.base import Look, Part
from gluvo.session.records import Session

LEFT_OUT = ("reduction", "attack", "pumping", "lows-drive", "lows-lost", "one-does-all", "after-limiter")
"""Kinds that are about settings which the user has made: those are told, and not made again."""


def mends(look: Look) -> Iterable[Part]:
    names = {strip.id: strip.name for strip in look.scene.session.strips}
    for one in look.found:
        if one.strip != look.strip or one.offer is None or one.kind in LEFT_OUT:
            continue
        if not _of_this_chain(look, one.offer.edit):
            continue
        value, limit = (f"{x:.1f}".replace("-", "−") for x in (one.value, one.limit))
        title = one.offer.words.removesuffix(f" on {names.get(look.strip, '')}")
        yield Part(title, one.text, f"{value} {one.unit}, limit {limit}", one.offer.edit)


def _of_this_chain(look: Look, edit: Callable[[Session], Session]) -> bool:
    """Whether an edit changes the strip's chain and nothing else: what belongs to a stem is mended there."""
    before, after = look.scene.session, edit(look.scene.session)
    strip = after.strip(look.strip)
    return strip is not None and strip != before.strip(look.strip) and before.with_strip(strip) == after
