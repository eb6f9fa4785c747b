"""Mends what is wrong with the strip itself, by the edits that watch-outs offer."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.drafts.base import Look, Part
from gluvo.session.records import Session

LEFT_OUT = ("reduction", "attack", "pumping", "lows-drive", "lows-lost", "one-does-all", "after-limiter", "muted")
"""Kinds that are about settings which the user has made: those are told, and not made again."""


def mends(look: Look) -> Iterable[Part]:
    names = {strip.id: strip.name for strip in look.scene.session.strips}
    for one in look.found:
        if one.strip != look.strip or one.offer is None or one.kind in LEFT_OUT:
            continue
        if _elsewhere(look, one.offer.edit):
            continue
        value, limit = (f"{x:.1f}".replace("-", "−") for x in (one.value, one.limit))
        title = one.offer.words.removesuffix(f" on {names.get(look.strip, '')}")
        yield Part(title, one.text, f"{value} {one.unit}, limit {limit}", one.offer.edit)


def _elsewhere(look: Look, edit: object) -> bool:
    """Whether an edit changes another strip: what belongs to a stem is mended there."""
    assert callable(edit)
    before = look.scene.session
    after: Session = edit(before)
    return any(strip != after.strip(strip.id) for strip in before.strips if strip.id != look.strip)
