"""When a step or a setting is of use, and when it is not: what its tip, which says what it does, leaves open."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Words:
    when: str
    when_not: str


STEPS: Mapping[str, Words] = {
    "trim": Words(
        "To bring a mix to the level that the next step is meant for.",
        "Not to make anything louder for the ear: the match takes that back.",
    ),
    "glue": Words(
        "To draw parts together that move apart, by a dB or three at peaks.",
        "Not on what is dense already: it only becomes smaller.",
    ),
    "mid_side_eq": Words(
        "To mend one range, on what is shared or what differs.",
        "Not where the range belongs to one stem: mend it there.",
    ),
    "saturation": Words(
        "For density that a level meter does not see.", "Not on what is harsh: it grows new sound where the old hurts."
    ),
    "width": Words("To firm lows, or to open what is narrow.", "Not where a mono sum already loses what matters."),
    "limiter": Words(
        "As the last step, to reach a target under a ceiling.",
        "Not to do alone what Glue, Clipper and balance should share.",
    ),
    "clipper": Words(
        "To take the tops of hits that are too short to be missed.",
        "Not on sustained sound: every peak that is clipped is new sound.",
    ),
    "de_esser": Words(
        "On a voice whose esses stand over its words.", "Not on the whole mix, where it takes cymbals along."
    ),
    "resonance_tamer": Words("For what rings whatever is played.", "Not for notes that belong to the music."),
    "transient_shaper": Words(
        "To give hits more or less of their beginning or their end.", "Not where there are no hits: it finds some."
    ),
    "outboard": Words(
        "For what a unit outside does better, once all that comes before it is settled.",
        "Not while what flows in still changes: each change asks for another pass.",
    ),
}
"""By kind of step, as sessions name it."""

SETTINGS: Mapping[tuple[str, str], Words] = {
    ("glue", "threshold"): Words(
        "Set by hand where you know the level; else give an aim, and let it be found.",
        "Not as a measure of how much is taken: that is read below.",
    ),
    ("glue", "ratio"): Words(
        "2:1 glues, 4:1 holds, 10:1 stops.", "Not high with much reduction: hits and rests become one."
    ),
    ("glue", "knee"): Words("Wide where nobody should hear it set in.", "Narrow, or none, where only hits are meant."),
    ("glue", "attack"): Words(
        "Slow (20–50 ms) lets hits by and takes what follows; quick (under 3 ms) takes the hit.",
        "Not quick on a whole mix that should keep its punch.",
    ),
    ("glue", "release"): Words(
        "So that the level is back before the next hit; longer for calm.",
        "Not so short that lows are bent, nor so long that it never comes back.",
    ),
    ("glue", "auto_release"): Words(
        "Where loud stretches and single hits want different times.", "Not where it should move in time with the beat."
    ),
    ("glue", "low_cut"): Words(
        "Where kick and bass move all the rest.", "Not where the lows themselves should be held."
    ),
    ("glue", "mix"): Words(
        "For heavy reduction that should be felt and not heard.", "Not as a repair for too much of it: take less."
    ),
    ("glue", "link"): Words(
        "100 % keeps the middle in the middle.", "Less only where one side must not duck the other."
    ),
    ("glue", "aim"): Words(
        "With what you read off a meter: 2 to 3 dB at peaks on a mix.",
        "Not as a rule for every song: look at the hits.",
    ),
    ("glue", "look_ahead"): Words(
        "Where even a quick attack comes too late.", "Not for punch: it takes the hit before it sounds."
    ),
    ("limiter", "ceiling"): Words(
        "At what the target allows between the samples, a little lower before lossy files.",
        "Not at 0 where files are encoded: decoders go over.",
    ),
    ("limiter", "drive"): Words(
        "Found by Reach; by hand for taste.", "Not past the point where a dB brings less than a tenth of one."
    ),
    ("limiter", "release"): Words(
        "Longer is cleaner, shorter is louder.", "Not under 30 ms with much bass: waves are bent."
    ),
    ("saturation", "drive"): Words(
        "Until it is heard, and back by a third.", "Not by looking: new sound is told beside it."
    ),
    ("saturation", "mix"): Words("To keep tops clean under a dense rest.", "Not with a drive that hurts alone."),
    ("saturation", "shape"): Words(
        "Soft for little, dense for much, edge for bite.", "Not chosen by name: hear them at equal loudness."
    ),
    ("width", "mono_below"): Words(
        "80 to 150 Hz, so that lows are firm on every loudspeaker.", "Not up into voices and guitars."
    ),
    ("width", "side_low_cut"): Words(
        "Where only the side's lows are too much.", "Not where an instrument of the lows stands at a side."
    ),
    ("de_esser", "threshold"): Words(
        "Found for what is to be taken at most.", "Not so low that every consonant is met."
    ),
    ("trim", "gain"): Words(
        "So that steps behind it meet the level they are set for.",
        "Not between a compressor and what it was set by, without moving its threshold along.",
    ),
}
"""By kind of step and setting."""


def words_of(kind: str, setting: str = "") -> Words | None:
    """When a setting, or a step, is of use; the step's where nothing is said of the setting."""
    return SETTINGS.get((kind, setting)) or STEPS.get(kind)
