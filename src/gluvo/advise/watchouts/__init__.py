"""Watch-outs: faults of this song, each told in a sentence with its evidence, a place to hear it and one edit offered.

A new kind is a file here and a line in `KINDS`.
"""

from gluvo.advise.watchouts import (
    after_limiter,
    aliasing,
    alone,
    attack,
    clicks,
    cymbals,
    dc,
    de_ess_hits,
    detector_deaf,
    ears,
    edges,
    flat_song,
    flat_tops,
    headroom,
    lingers,
    lows_drive,
    lows_lost,
    margin,
    mono,
    muted,
    one_does_all,
    one_sided,
    over_boost,
    over_cut,
    phase,
    polarity,
    pumping,
    reduction,
    release_bends,
    resonance,
    rumble,
    sibilance,
    side_lows,
    silence,
    target,
    uneven,
)
from gluvo.advise.watchouts.base import Kind, Listened, Offer, Place, Scene, WatchOut
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
        de_ess_hits,
        over_cut,
        over_boost,
        uneven,
        phase,
        aliasing,
        side_lows,
        mono,
        one_sided,
        reduction,
        attack,
        pumping,
        lingers,
        release_bends,
        lows_drive,
        detector_deaf,
        cymbals,
        lows_lost,
        one_does_all,
        after_limiter,
        flat_song,
        target,
        margin,
        edges,
        muted,
        alone,
        ears,
    )
)

__all__ = ["KINDS", "Finder", "Kind", "Listened", "Offer", "Place", "Scene", "WatchOut"]
