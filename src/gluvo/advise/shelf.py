"""The presets that come with the program, by what they do to the sound.

What needs a threshold has an aim and holds it: its own threshold is at its top, so that nothing is taken until it has
been found for the song at hand.
"""

from __future__ import annotations

from gluvo.session.presets import Preset
from gluvo.steps import (
    Band,
    ChainItem,
    Clipper,
    DeEsser,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    Outboard,
    ResonanceTamer,
    Saturation,
    Split,
    SplitBand,
    TransientShaper,
    Trim,
    Width,
)


def _preset(name: str, does: str, when: str, when_not: str, *items: ChainItem) -> Preset:
    return Preset(name=name, does=does, when=when, when_not=when_not, items=items)


def _glue(aim: float, **settings: object) -> Glue:
    """A Glue that holds its aim, and takes nothing until its threshold has been found."""
    return Glue(threshold=0.0, aim=aim, hold_aim=True, **settings)  # type: ignore[arg-type]


def _split(*rows: tuple[ChainItem, ...], crossovers: tuple[float, ...]) -> Split:
    bands = tuple(SplitBand(id=n, steps=row) for n, row in enumerate(rows, start=1))  # type: ignore[arg-type]
    return Split(bands=bands, crossovers=crossovers)


BUILT_IN: tuple[Preset, ...] = (
    # --- trim ------------------------------------------------------------------------------------------------
    _preset(
        "Room to work",
        "Lowers everything by 6 dB, so that the steps after it have headroom.",
        "The mix comes in close to full scale.",
        "It already peaks below −6 dBTP.",
        Trim(gain=-6.0),
    ),
    _preset(
        "Take out an offset",
        "Cuts below 1 Hz: a constant offset that eats headroom goes, nothing that is heard does.",
        "The wave does not stand about its middle line.",
        "There is no offset: it then does nothing worth having.",
        Trim(remove_dc=True),
    ),
    # --- outboard --------------------------------------------------------------------------------------------
    _preset(
        "In place of the sound",
        "What came back is heard alone.",
        "The unit is to work on all of it, as an insert does.",
        "It squeezes hard: then some of the sound beside it keeps the hits.",
        Outboard(mix=100.0),
    ),
    _preset(
        "Under the sound",
        "A third of what came back, in step with two thirds of what was sent.",
        "The unit crushes or bends, and body is wanted, not its edge.",
        "What came back is late by something that was not made good: hear it in mono first.",
        Outboard(mix=33.0),
    ),
    # --- equaliser -------------------------------------------------------------------------------------------
    _preset(
        "Clear the floor",
        "Low cut at 25 Hz on all, and at 90 Hz on the side: rumble goes, and lows stand in the middle.",
        "At the start of a mix bus or of a bus with room microphones.",
        "The lowest notes live below 30 Hz; look at what the cut removes.",
        MidSideEq(
            bands=(
                Band(id=1, shape="low_cut", freq=25.0, slope=24, q=0.71),
                Band(id=2, shape="low_cut", freq=90.0, slope=12, q=0.71, target="side"),
            )
        ),
    ),
    _preset(
        "Less mud",
        "Takes 2 dB around 250 Hz and a little around 400 Hz.",
        "Words and snare drums sound boxed in, and the tone view shows a hill there.",
        "The mix is thin already.",
        MidSideEq(
            bands=(Band(id=1, freq=250.0, gain=-2.0, q=1.0), Band(id=2, freq=420.0, gain=-0.8, q=1.4)),
            hold_loudness=True,
        ),
    ),
    _preset(
        "Air on the sides",
        "Lifts 1.5 dB above 10 kHz in the side alone, and leaves the middle as it is.",
        "The mix is a little closed, but the voice is bright enough.",
        "Cymbals are loud on the sides.",
        MidSideEq(
            bands=(Band(id=1, shape="high_shelf", freq=10_000.0, gain=1.5, q=0.71, target="side"),), hold_loudness=True
        ),
    ),
    _preset(
        "Harshness that sinks",
        "A band at 4.5 kHz that sinks by up to 4 dB when that range gets loud; its threshold is yours to find (T).",
        "Loud passages sting, quiet ones do not.",
        "It stings all the time: a still band costs less life.",
        MidSideEq(
            bands=(Band(id=1, freq=4500.0, q=1.4, dynamic=True, threshold=0.0, ratio=3.0, range=4.0, attack=5.0),)
        ),
    ),
    # --- glue ------------------------------------------------------------------------------------------------
    _preset(
        "Hold a mix together",
        "Two decibels at peaks at 2 : 1, slow enough to let hits through; lows drive it less.",
        "On the mix bus, from the start of the work.",
        "The mix has been squeezed before it came here.",
        _glue(2.0, ratio=2.0, attack=30.0, release=150.0, auto_release=40.0, low_cut=90.0, hold_loudness=True),
    ),
    _preset(
        "Drums that breathe",
        "Four decibels at peaks at 4 : 1 with a quick release: the body comes up between the hits.",
        "On a drum bus with room in it.",
        "Cymbals ring long: put it on the drums without them.",
        _glue(4.0, ratio=4.0, attack=20.0, release=80.0, low_cut=60.0, hold_loudness=True),
    ),
    _preset(
        "Even out a voice",
        "Six decibels at peaks at 3 : 1 by how loud it sounds, not by its peaks.",
        "Words get lost, or jump out.",
        "Only single words jump out: ride the fader.",
        _glue(6.0, ratio=3.0, attack=8.0, release=160.0, rms=10.0, auto_release=30.0, hold_loudness=True),
    ),
    _preset(
        "Bring up what is quiet",
        "Lifts what lies low by up to 2 dB on average and at most 6; hits and loud notes stay as they are.",
        "Detail and room should come forward without squeezing the peaks.",
        "There is noise between the notes: it would come up, too. What is equally loud all along has little to lift.",
        Glue(rms=20.0, knee=3.0, lift_ratio=2.0, lift_threshold=-60.0, lift_range=6.0, lift_aim=2.0, hold_lift=True),
    ),
    # --- de-esser --------------------------------------------------------------------------------------------
    _preset(
        "Soften sharp words",
        "Lowers sibilants by 2 dB where they stick out, at most by 6; nothing else is touched.",
        "On a voice, or a bus of voices.",
        "On a whole mix: hats and snares would set it off.",
        DeEsser(threshold=0.0, range=6.0, aim=4.0, hold_aim=True),
    ),
    _preset(
        "Sharp words in a mix",
        "Lowers the range in the middle only, by 0.5 dB where it works, at most by 3.",
        "The voice cannot be reached any more: only the finished mix is there.",
        "The voice has a stem of its own: work there.",
        DeEsser(threshold=0.0, range=3.0, aim=1.5, hold_aim=True, mode="mid", low=6000.0),
    ),
    # --- tamer -----------------------------------------------------------------------------------------------
    _preset(
        "Calm ringing notes",
        "Takes up to 4 dB from what stands 10 dB over its neighbours for a quarter of a second.",
        "Single notes of a mallet, a room or a guitar ring out.",
        "One place rings all the time: a narrow cut is cleaner.",
        ResonanceTamer(at_most=4.0, stands_out=10.0, at_least=250.0),
    ),
    _preset(
        "Smooth harsh highs",
        "Takes up to 6 dB from what whistles above 2 kHz, quickly; the lows are left alone.",
        "Cymbals, strings or hard mallets scratch.",
        "The sound is dull already.",
        ResonanceTamer(
            at_most=6.0, stands_out=4.0, at_least=90.0, weight_1=0.0, weight_2=0.0, weight_3=30.0, weight_5=120.0
        ),
    ),
    # --- shaper ----------------------------------------------------------------------------------------------
    _preset(
        "More stick, less ring",
        "Attacks 3 dB up, what follows 3 dB down.",
        "Drums lie back in the mix, or ring into each other.",
        "They are loud and dry already.",
        TransientShaper(attack=3.0, sustain=-3.0),
    ),
    _preset(
        "Rounder hits",
        "Attacks 3 dB down: hits sit further back.",
        "Mallets, picks or claps poke out.",
        "The song lives by its hits.",
        TransientShaper(attack=-3.0, length=12.0),
    ),
    # --- saturation ------------------------------------------------------------------------------------------
    _preset(
        "A little density",
        "Soft curve with 4 dB of drive, lows below 150 Hz left alone, as loud as before.",
        "On a mix bus that sounds thin at the same level as a reference.",
        "The mix is dense: look whether the crest factor is low.",
        Saturation(shape="soft", drive=4.0, low=150.0, hold_loudness=True),
    ),
    _preset(
        "Warmer mids",
        "Warm curve between 200 Hz and 5 kHz, on the mid more than on the side.",
        "A voice or a piano needs body.",
        "Chords are thick: what is new will blur them.",
        Saturation(shape="warm", drive=6.0, low=200.0, high=5000.0, mid=100.0, side=50.0, hold_loudness=True),
    ),
    _preset(
        "Softer hits",
        "Rounds the peaks before a limiter has to, lows below 60 Hz left alone.",
        "Drums poke out a little, and a limiter would duck everything for them.",
        "The hits are what drives the song.",
        Saturation(shape="soft", drive=3.0, low=60.0, high=9000.0),
    ),
    _preset(
        "Fuller low middle",
        "Even harmonics from 120 to 1200 Hz, for body on small loudspeakers.",
        "A bass or a piano is gone where there are no lows.",
        "The low middle is where the mix is thick already.",
        Saturation(shape="warm", drive=2.0, low=120.0, high=1200.0, mix=70.0),
    ),
    _preset(
        "Nearer voices",
        "Warmth in the mid alone between 300 Hz and 6 kHz, where voices are.",
        "A voice lies behind its band on a finished mix.",
        "The voice has a stem of its own: work there.",
        Saturation(shape="warm", drive=0.0, low=300.0, high=6000.0, side=0.0, mix=70.0),
    ),
    _preset(
        "Airier sides",
        "A little fizz on the side's highs above 2 kHz.",
        "The middle is bright enough, and the sides are not.",
        "It will be heard in mono: there is nothing left of it there.",
        Saturation(shape="warm", drive=6.0, low=2000.0, mid=0.0, mix=50.0),
    ),
    _preset(
        "Raise the quiet",
        "Brings up what lies under the peaks, and leaves the peaks where they are.",
        "Rooms, tails and soft words are lost.",
        "There is noise between the notes.",
        Saturation(shape="dense", drive=-6.0, low=40.0),
    ),
    _preset(
        "Square off the tops",
        "Cuts the highest peaks off at a corner: short and hard.",
        "Single peaks cost loudness, and a hard edge suits the song.",
        "Held notes reach it: they would crackle.",
        Saturation(shape="edge", drive=3.0, oversampling=8),
    ),
    # --- width -----------------------------------------------------------------------------------------------
    _preset(
        "Firm below, open above",
        "Mono below 120 Hz, and 15 % wider above 4 kHz.",
        "Lows wander, and the top could be wider.",
        "It will be heard in mono a lot: look at what mono loses.",
        Width(bands=2, crossover_1=4000.0, width_2=115.0, mono_below=120.0, hold_loudness=True),
    ),
    # --- ceiling ---------------------------------------------------------------------------------------------
    _preset(
        "Shave single tops",
        "Clips what passes −1 dB with a soft corner, before a limiter has to move for it.",
        "Single drum hits stand far over all else.",
        "Sustained notes reach it: they would crackle.",
        Clipper(ceiling=-1.0, knee=30.0),
    ),
    _preset(
        "Safe for encoding",
        "A ceiling of −1 dBTP, without any drive of its own.",
        "Last in the chain, when loudness is where it should be.",
        "It must get louder: reach a target instead.",
        Limiter(ceiling=-1.0),
    ),
    _preset(
        "Loud and open",
        "Quick look ahead and an automatic release to −1 dBTP; then reach your target.",
        "Dense songs that have to be loud.",
        "Quiet acoustic music: a longer release is calmer.",
        Limiter(ceiling=-1.0, look_ahead=1.5, release=40.0, auto_release=70.0),
    ),
    # --- lane ------------------------------------------------------------------------------------------------
    _preset(
        "Crushed beside it",
        "A second compressor that takes 12 dB at peaks, blended in at −14 dB and held at the same loudness.",
        "Drums or a mix need body without losing their hits.",
        "There is noise or bleed between the hits.",
        Lane(
            name="Crushed",
            level=-14.0,
            hold_loudness=True,
            steps=(_glue(12.0, ratio=8.0, attack=1.0, release=60.0, knee=3.0),),
        ),
    ),
    # --- split -----------------------------------------------------------------------------------------------
    _preset(
        "Even out three bands",
        "A gentle Glue in each of lows, mids and highs, 2 dB at peaks each.",
        "The balance changes from part to part.",
        "One band alone moves: work on that band only.",
        _split(
            (_glue(2.0, ratio=2.0, attack=40.0, release=220.0),),
            (_glue(2.0, ratio=1.8, attack=20.0, release=150.0),),
            (_glue(2.0, ratio=1.8, attack=8.0, release=90.0),),
            crossovers=(160.0, 4000.0),
        ),
    ),
    _preset(
        "Tighten the lows",
        "Six decibels at peaks on what lies below 200 Hz, quickly: notes come out alike.",
        "Bass notes are uneven, or boom.",
        "One note alone booms: cut that note. Or the beginnings of notes are what drives the song.",
        _split(
            (_glue(6.0, ratio=6.0, attack=3.0, release=150.0, rms=5.0),),
            (),
            crossovers=(200.0,),
        ),
    ),
    _preset(
        "Soften the highs",
        "A quick Glue above 5 kHz, 2 dB at peaks and never more than 4.",
        "Cymbals and consonants get hard when it is loud.",
        "It is dull in the quiet parts: an equaliser comes first.",
        _split((), (_glue(2.0, ratio=2.5, attack=2.0, release=70.0, range=4.0),), crossovers=(5000.0,)),
    ),
    _preset(
        "Three-band peaks",
        "A limiter in each band, so that a kick does not pull the highs down; a wide one belongs after it.",
        "Loud songs whose lows drive the last limiter.",
        "Levels are far under full scale: nothing would happen.",
        _split(
            (Limiter(ceiling=-3.0, release=120.0),),
            (Limiter(ceiling=-3.0, release=60.0),),
            (Limiter(ceiling=-6.0, release=30.0),),
            crossovers=(160.0, 3500.0),
        ),
    ),
    # --- chains ----------------------------------------------------------------------------------------------
    _preset(
        "A plain mix bus",
        "Room, a cleared floor, two decibels of Glue and a safe ceiling: the usual order, ready to be changed.",
        "A new song, to have somewhere to begin.",
        "The chain stands already.",
        Trim(gain=-6.0),
        MidSideEq(
            bands=(
                Band(id=1, shape="low_cut", freq=25.0, slope=24, q=0.71),
                Band(id=2, shape="low_cut", freq=90.0, slope=12, q=0.71, target="side"),
            )
        ),
        _glue(2.0, ratio=2.0, attack=30.0, release=150.0, auto_release=40.0, low_cut=90.0, hold_loudness=True),
        Limiter(ceiling=-1.0),
    ),
    _preset(
        "A voice bus",
        "Low cut, an even level, softer consonants and a touch of warmth.",
        "On a bus that voices flow into.",
        "Each voice is worked on by itself already.",
        MidSideEq(bands=(Band(id=1, shape="low_cut", freq=80.0, slope=12, q=0.71),)),
        _glue(5.0, ratio=2.5, attack=8.0, release=160.0, rms=10.0, hold_loudness=True),
        DeEsser(threshold=0.0, range=6.0, aim=3.0, hold_aim=True),
        Saturation(shape="warm", drive=2.0, low=200.0, high=6000.0, hold_loudness=True),
    ),
)
"""In the order in which they are shown."""
