"""`target`: the song passes what it is to be handed over at."""

from __future__ import annotations

from collections.abc import Iterable

from gluvo.advise.loudness_target import level_of
from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut, share_of
from gluvo.measure.loudness import SILENT


def places(scene: Scene) -> Iterable[Place]:
    return [Place(p.strip, depends=(*p.depends, scene.session.target)) for p in scene.mix()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    target, result = scene.session.target, scene.render.result
    level = level_of(result, target)
    over = level - target.loudness - target.tolerance
    peak = result.figures().true_peak - target.true_peak
    works = any(item.on and item.has_ceiling for item in scene.session.mix.chain)
    if level <= SILENT or not works or (over <= 0.0 and peak <= 0.05):
        return
    told = f"{over + target.tolerance:.1f} LU louder than" if over > 0.0 else f"{peak:.2f} dB over the true peak of"
    yield WatchOut(
        "target",
        place.strip,
        "",
        f"The song is {told} its target, {target.name}.",
        "Reach (Ctrl+R) brings it there from above as well.",
        over if over > 0.0 else peak,
        0.0,
        "LU" if over > 0.0 else "dB",
        scene.loud,
        0.2 + 0.4 * share_of(max(over, peak), 0.0, 6.0),
    )


KIND = Kind(
    "target",
    "delivery",
    "Over the target",
    "Loudness by the target's measure over target and tolerance, or true peak over the target's, where a limiter is at work.",
    "The target's own tolerance; a song that is softer is not finished rather than wrong.",
    "ITU-R BS.1770-5; EBU R 128",
    places,
    look,
)
