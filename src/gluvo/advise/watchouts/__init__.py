"""Watch-outs: faults of this song, each told in a sentence with its evidence, a place to hear it and one edit offered.

A new kind is a file here and a line in `KINDS`.
"""

from gluvo.advise.watchouts import (
    after_limiter,
    attack,
    clicks,
    dc,
    edges,
    flat_song,
    flat_tops,
    headroom,
    lows_drive,
    lows_lost,
    mono,
    muted,
    one_does_all,
    one_sided,
    over_boost,
    over_cut,
    polarity,
    pumping,
    reduction,
    resonance,
    rumble,
    sibilance,
    side_lows,
    silence,
    target,
)
from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut
from gluvo.advise.watchouts.finder import Finder

KINDS: tuple[Kind, ...] = tuple(
    module.KIND
    for module in (
        headroom,
        flat_tops,
        dc,
        rumble,
        polarity,
        silence,
        clicks,
        resonance,
        sibilance,
        over_cut,
        over_boost,
        side_lows,
        mono,
        one_sided,
        reduction,
        attack,
        pumping,
        lows_drive,
        lows_lost,
        one_does_all,
        after_limiter,
        flat_song,
        target,
        edges,
        muted,
    )
)

__all__ = ["KINDS", "Finder", "Kind", "Offer", "Place", "Scene", "WatchOut"]
