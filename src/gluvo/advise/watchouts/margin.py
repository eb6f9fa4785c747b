"""`margin`: what a decoder makes of a lossy file passes the target's true peak."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from msgspec.structs import replace

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, is_heard, share_of
from gluvo.session.records import Deliverable, Session

LIMIT = 0.1
"""dB over the target's true peak."""
MOST = 3.0
"""dB of margin that are offered at most."""


def places(scene: Scene) -> Iterable[Place]:
    if scene.decoded_peak is None:
        return []
    rows = tuple((d.id, d.format, d.bit_rate, d.margin, d.target) for d in scene.session.deliverables)
    return [Place(p.strip, depends=(*p.depends, scene.session.target, rows)) for p in scene.mix()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    result = scene.render.result
    if (
        scene.decoded_peak is None
        or not is_heard(result)
        or not any(i.on and i.has_ceiling for i in scene.session.mix.chain)
    ):
        return
    for row in scene.session.deliverables:
        target = row.target or scene.session.target
        if result.figures().true_peak > target.true_peak + LIMIT:
            continue  # that is told as such
        peak = scene.decoded_peak(result.heard_in(scene.loud), scene.rate, row)
        if peak is None:
            continue
        over = peak - row.margin - target.true_peak
        if over < LIMIT:
            continue
        margin = round(min(MOST, row.margin + over + 0.05), 2)
        yield WatchOut(
            "margin",
            place.strip,
            "",
            f"Decoded, {row.name} goes {over:.1f} dB over the true peak of {target.name}.",
            "Encoding moves peaks; a margin under the ceiling leaves room for that.",
            over,
            LIMIT,
            "dB",
            scene.loud,
            0.2 + 0.3 * share_of(over, LIMIT, 3.0),
            None,
            Offer(f"A margin of {margin:.2f} dB for {row.name}", partial(_with_margin, id=row.id, margin=margin)),
            place=row.id,
        )


def _with_margin(session: Session, id: str, margin: float) -> Session:
    def changed(row: Deliverable) -> Deliverable:
        return replace(row, margin=margin) if row.id == id else row

    return session.replace(deliverables=tuple(changed(row) for row in session.deliverables))


KIND = Kind(
    "margin",
    "delivery",
    "Over the ceiling once decoded",
    "True peak of the loudest stretch after encoding and decoding as a lossy row has it, less its margin, over the target's.",
    "A tenth of a decibel is what two decoders differ by.",
    "ITU-R BS.1770-5, annex 2; EBU Tech 3343",
    places,
    look,
)
