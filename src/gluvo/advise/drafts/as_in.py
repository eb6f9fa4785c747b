"""The chain of another session as a draft: its steps, aimed anew at what they did there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from msgspec.structs import replace

from gluvo.advise.drafts.base import Draft, Part
from gluvo.errors import GluvoError
from gluvo.measure.overview import Reduced
from gluvo.session.presets import preset_of, put_in
from gluvo.session.records import MIX, AnyStrip, Session
from gluvo.steps import ChainItem
from gluvo.steps.ceiling import last_limiter

LEAST = 0.2
"""dB of reduction at peaks that a step must have made there to be aimed at it."""


@dataclass(frozen=True)
class Model:
    """A strip of another session."""

    session: Session
    strip: AnyStrip
    reduced: Mapping[str, Reduced]
    """What its steps took there, by their ids, as far as that could be measured."""


def strip_like(session: Session, strip: AnyStrip) -> AnyStrip:
    """The strip of another session that is the same as one here: of its name, the mix bus for the mix bus. Raises `GluvoError`
    where there is none with a chain."""
    found = session.mix if strip.id == MIX else next((s for s in session.strips if s.name == strip.name), None)
    if found is None:
        raise GluvoError(f"{session.name} has no strip that is called {strip.name}.")
    if not found.chain:
        raise GluvoError(f"{found.name} of {session.name} has no steps.")
    return found


def draft_as_in(session: Session, strip: AnyStrip, model: Model) -> Draft:
    """The steps of a strip of another session, in place of those that are here; thresholds and drives are found on this
    song, for what they took there, and the target is this song's."""
    limiter = last_limiter(model.strip.chain)
    parts = [
        _part(items, model, reaches=strip.id == MIX and limiter in items, strip=strip.id)
        for items in _together(model.strip.chain)
    ]
    return Draft(strip.id, tuple(parts), replaces=bool(strip.chain))


def _together(chain: Sequence[ChainItem]) -> list[list[ChainItem]]:
    """The items that are on, those together that lie beside each other: a lane with what comes after the place where it
    branches off."""
    found: list[list[ChainItem]] = []
    for item in chain:
        if not item.on:
            continue
        here = [item]
        if item.contains_steps and item.since:
            while found and all(one.id != item.since for one in found[-1]):
                here = found.pop() + here
        found.append(here)
    return found


def _part(items: Sequence[ChainItem], model: Model, reaches: bool, strip: str) -> Part:
    aimed = [_aimed(item, model.reduced.get(item.id), reaches) for item in items]
    preset = preset_of([item for item, _ in aimed], model.session.name)

    def edit(session: Session) -> Session:
        there = session.strip(strip)
        last = there.chain[-1].id if there is not None and there.chain else ""
        return put_in(session, preset, strip, last)

    why = "It is brought to this song's target." if reaches else f"{model.strip.name} of {model.session.name} has it."
    told = dict.fromkeys(words for _, words in aimed)
    return Part(", ".join(item.called for item in items), why, "; ".join(told), edit, reaches)


def _aimed(item: ChainItem, reduced: Reduced | None, reaches: bool) -> tuple[ChainItem, str]:
    """An item that is to take as much here as it took there, and that in words."""
    solved = next((s for s in item.solved_settings.values() if s.aim), None)
    if reaches and reduced is not None:
        return item, f"it took {reduced.peaks:.1f} dB at peaks there"
    if solved is not None and getattr(item, solved.switch):
        return item, f"{getattr(item, solved.aim):.1f} dB asked for there, found anew"
    if solved is not None and reduced is not None and reduced.peaks >= LEAST:
        aim = round(reduced.peaks, 1)
        by = {solved.aim_by: "peaks"} if solved.aim_by else {}
        return replace(item, **{solved.aim: aim, solved.switch: True, **by}), f"{aim:.1f} dB at peaks there, found anew"
    return item, "as it is set there"
