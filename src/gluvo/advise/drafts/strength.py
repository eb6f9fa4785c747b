"""More or less of an edit: what it sets lies between what was there and what it sets, or as far beyond."""

from __future__ import annotations

import math
from typing import Any

from msgspec.structs import replace

from gluvo.session.records import Session
from gluvo.steps import ChainItem, Trim
from gluvo.steps.bands import Band
from gluvo.steps.mid_side_eq import equaliser
from gluvo.steps.settings import Setting, settings_of
from gluvo.steps.trim import as_trim


def strengthened(before: Session, after: Session, share: float) -> Session:
    """The session `after` an edit with so much of it, 1 for all. Amounts grow with it: what a new step aims at, what a new
    band raises or cuts, numbers that were changed. What is a kind or a place, such as a low cut, is there or not."""
    if share == 1.0:
        return after
    for item in after.items:
        was = before.item(item.id)
        made = _new(item, share) if was is None else _changed(was, item, share) if was != item else item
        if made is not item:
            after = after.with_step(made)
    return after


def _new(item: ChainItem, share: float) -> ChainItem:
    if (eq := equaliser(item)) is not None:
        return replace(eq, bands=tuple(_gained(band, 0.0, share) for band in eq.bands))
    if (trim := as_trim(item)) is not None:
        return replace(trim, gain=_between(settings_of(Trim)["gain"], 0.0, trim.gain, share))
    solved = next((s for s in item.solved_settings.values() if s.aim and getattr(item, s.switch)), None)
    if solved is None:
        return item
    own = settings_of(type(item))[solved.aim]
    return replace(item, **{solved.aim: _between(own, 0.0, getattr(item, solved.aim), share)})


def _changed(was: ChainItem, now: ChainItem, share: float) -> ChainItem:
    if type(was) is not type(now):
        return now
    changes: dict[str, Any] = {}
    for name, setting in settings_of(type(now)).items():
        a, b = getattr(was, name), getattr(now, name)
        if setting.kind == "number" and a != b:
            changes[name] = _between(setting, a, b, share)
    eq, before = equaliser(now), equaliser(was)
    if eq is not None and before is not None:
        known = {band.id: band.gain for band in before.bands}
        changes["bands"] = tuple(_gained(band, known.get(band.id, 0.0), share) for band in eq.bands)
    return replace(now, **changes) if changes else now


def _gained(band: Band, was: float, share: float) -> Band:
    return replace(band, gain=round(was + share * (band.gain - was), 2)) if band.gain != was else band


def _between(setting: Setting, a: float, b: float, share: float) -> Any:
    if setting.scale == "log" and min(a, b) > 0.0:
        return setting.clamp(math.exp(math.log(a) + share * (math.log(b) - math.log(a))))
    return setting.clamp(round(a + share * (b - a), 3))
