"""Edits that several kinds offer."""

from __future__ import annotations

from msgspec.structs import replace

from gluvo.advise.watchouts.base import Offer
from gluvo.session.records import Session
from gluvo.steps import Band, ChainItem, MidSideEq
from gluvo.steps.mid_side_eq import MOST_BANDS
from gluvo.steps.trim import as_trim


def first_place(session: Session, strip_id: str) -> str:
    """The id of what a new step is put after, so that it comes first but for a Trim."""
    strip = session.strip(strip_id)
    first = next(iter(strip.chain), None) if strip is not None else None
    return first.id if first is not None and as_trim(first) is not None else ""


def with_first(session: Session, strip_id: str, step: ChainItem) -> Session:
    """A step as the first of a strip's chain, or right after the Trim that it begins with."""
    return session.with_new_step(step, strip_id, first_place(session, strip_id))


def with_last(session: Session, strip_id: str, step: ChainItem) -> Session:
    """A step as the last of a strip's chain, but before what holds a ceiling."""
    strip = session.strip(strip_id)
    chain = strip.chain if strip is not None else ()
    after = ""
    for item in chain:
        if item.on and item.has_ceiling:
            break
        after = item.id
    return session.with_new_step(step, strip_id, after)


def with_band(session: Session, strip_id: str, band: Band) -> Session:
    """A band in a strip's first equaliser that is on and has room, or in a new one at its beginning."""
    strip = session.strip(strip_id)
    for item in strip.chain if strip is not None else ():
        if isinstance(item, MidSideEq) and item.on and len(item.bands) < MOST_BANDS:
            return session.with_step(item.with_new_band(band)[0])
    made, _ = MidSideEq(hold_loudness=False).with_new_band(band)
    return with_first(session, strip_id, made)


def with_changes(session: Session, step_id: str, **changes: object) -> Session:
    """Settings of a step changed."""
    step = session.item(step_id)
    return session.with_step(replace(step, **changes)) if step is not None else session


LOWS_OUT = 110.0
"""Hz at which lows are offered to be kept out of a detector."""


def lows_out_offer(step_id: str, name: str, peaks: float) -> Offer:
    """To keep lows out of the detector of a step on the strip `name`, at as much reduction at peaks, in dB, as now."""
    aim = max(0.1, round(peaks, 1))

    def edit(session: Session) -> Session:
        return with_changes(
            session, step_id, low_cut=LOWS_OUT, low_cut_slope=24, aim=aim, aim_by="peaks", hold_aim=True
        )

    return Offer(f"Detector's low cut {LOWS_OUT:.0f} Hz on {name}, {aim:.1f} dB at peaks held", edit)
