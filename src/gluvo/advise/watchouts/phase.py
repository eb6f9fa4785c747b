"""`phase`: lows that come late by all filters of a path together, and crossovers that lie beside each other."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

import numpy as np

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of
from gluvo.dsp.kernel import Floats
from gluvo.measure.evidence import Evidence
from gluvo.session import chains
from gluvo.session.records import MIX
from gluvo.steps import MidSideEq, Split

LIMIT = 12.0
"""ms by which lows over 70 Hz come later than 1 kHz."""
LOWEST, AGAINST = 70.0, 1000.0
"""Hz"""
CLOSE, SAME = 0.5, 0.02
"""Octaves between crossovers that are close, and under which they are the same."""
FREQS = np.geomspace(40.0, 4000.0, 400)


def places(scene: Scene) -> Iterable[Place]:
    """The path of each stem to the end, as its equalisers and Splits make it."""
    found = []
    for place in scene.stems():
        items = _items(scene, place.strip)
        if items:
            found.append(Place(place.strip, depends=tuple(items)))
    return found


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    name, items = scene.name(place.strip), _items(scene, place.strip)
    late = _late(items, scene.rate)
    worst = int(np.argmax(np.where(FREQS >= LOWEST, late, -1.0)))
    if late[worst] >= LIMIT:
        yield WatchOut(
            "phase",
            place.strip,
            "",
            f"On its way the lows of {name} come {late[worst]:.0f} ms later than the rest, around {FREQS[worst]:.0f} Hz.",
            f"{sum(isinstance(i, MidSideEq) for i in items)} equalisers add up; steep cuts are what most of it comes from.",
            float(late[worst]),
            LIMIT,
            "ms",
            scene.loud_of(scene.end(place.strip)),
            0.15 + 0.4 * share_of(float(late[worst]), LIMIT, 40.0),
            Evidence(FREQS, late, "frequency", "ms", limit=LIMIT, mark=float(FREQS[worst])),
            None,
            place="late",
        )
    edges = [
        (edge, item) for item in items if isinstance(item, Split) for edge in (*item.crossovers, *item.side_crossovers)
    ]
    for (a, first), (b, second) in itertools.combinations(edges, 2):
        apart = abs(float(np.log2(a / b)))
        if first.id == second.id or not SAME < apart < CLOSE:
            continue
        yield WatchOut(
            "phase",
            place.strip,
            second.id,
            f"Two Splits on the way of {name} cross at {a:.0f} and {b:.0f} Hz: close to each other, but not together.",
            "Each turns the phase there; at the same frequency, or an octave apart, they would do it once or apart.",
            CLOSE - apart,
            0.0,
            "octaves",
            scene.loud_of(scene.end(place.strip)),
            0.15,
            None,
            None,
            place=f"{a:.0f}/{b:.0f}",
        )
        break


def _items(scene: Scene, strip: str) -> list[MidSideEq | Split]:
    """The equalisers and Splits from a strip to the end, in their order."""
    found: list[MidSideEq | Split] = []
    at = strip
    while True:
        there = scene.session.strip(at)
        if there is None:
            return found
        found += [i for i in chains.flat_on(there.chain) if isinstance(i, MidSideEq | Split)]
        if at == MIX:
            return found
        at = there.into or MIX


def _late(items: list[MidSideEq | Split], rate: int) -> Floats:
    """Group delay of the equalisers against that at 1 kHz, ms; a linear-phase one has none against itself."""
    total = np.zeros(len(FREQS))
    for item in items:
        if isinstance(item, MidSideEq) and item.phase == "minimum" and item.bands:
            turned = np.unwrap(np.angle(item.response(("stereo", "mid"), FREQS, rate)))
            total -= np.gradient(turned, 2.0 * np.pi * FREQS)
    return np.asarray(1000.0 * (total - np.interp(AGAINST, FREQS, total)))


KIND = Kind(
    "phase",
    "tone",
    "Late lows, crossovers that meet",
    "Group delay of all minimum-phase equalisers from a stem to the end, added up, over 70 Hz against 1 kHz; and crossovers of "
    "two Splits within half an octave.",
    "Lows that lag by more than a dozen milliseconds lose their grip on the kick.",
    "Blauert and Laws, 'Group delay distortions in electroacoustical systems', JASA 63, 1978",
    places,
    look,
)
