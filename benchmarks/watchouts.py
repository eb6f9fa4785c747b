"""How well watch-outs find what is wrong, and how seldom they warn of nothing: songs in five styles, made here by the
program's own instruments or played by sound fonts, clean and with each fault put in at three strengths. With a session: how
long it takes, all of it and after an edit of the mix chain.

Usage: python benchmarks/watchouts.py [--songs 10] [--kinds a,b] [--fonts A.sf2 B.sf3]
       [--markdown docs/watch-outs.md] [--session FILE.gluvo]
"""

from __future__ import annotations

import argparse
import collections
import itertools
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import groupby
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from gluvo.advise.hold import held_session
from gluvo.advise.watchouts import KINDS, Finder, Scene, WatchOut
from gluvo.demo import instruments as play
from gluvo.demo.instruments import RATE
from gluvo.demo.song import Place, staged, through, with_bell
from gluvo.dsp.filters import high_cut, low_cut
from gluvo.measure.flattops import flat_tops
from gluvo.measure.hits import find_onsets
from gluvo.opened.watching import row_peak, scene_of
from gluvo.render.song import Renderer
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Deliverable, Media, Section, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.session.store import read_session
from gluvo.steps import Band, DeEsser, Glue, Limiter, MidSideEq, Saturation, Trim
from sound_fonts import Note, played

SECONDS = 26.0
STRENGTHS = ("weak", "middle", "strong")
CHORDS = {"i": (57, 60, 64), "iv": (62, 65, 69), "v": (64, 67, 71), "VI": (53, 57, 60), "III": (60, 64, 67)}
"""MIDI numbers."""

Stems = dict[str, np.ndarray]


@dataclass(frozen=True)
class Style:
    """Who plays, and how."""

    beat: float
    """s"""
    in_bar: int
    chords: tuple[str, ...]
    kick: tuple[float, ...]
    snare: tuple[float, ...]
    cymbal: tuple[float, ...]
    pattern: str
    """What plays the chords: marimba, pluck, reeds."""
    sung: bool


STYLES = {
    "waltz": Style(0.34, 3, ("i", "iv", "v", "i"), (0.0,), (1.0, 2.0), (0.0, 1.0, 2.0), "marimba", True),
    "four": Style(
        0.5, 4, ("i", "VI", "III", "v"), (0, 1, 2, 3), (1.0, 3.0), tuple(n / 2 for n in range(8)), "pluck", False
    ),
    "ballad": Style(0.75, 4, ("i", "VI", "iv", "v"), (0.0, 2.5), (2.0,), (0.0, 1.0, 2.0, 3.0), "reeds", True),
    "busy": Style(
        0.3, 4, ("i", "iv", "i", "v"), (0.0, 1.5, 2.0), (1.0, 3.0), tuple(n / 2 for n in range(8)), "marimba", False
    ),
    "sparse": Style(0.62, 4, ("VI", "i", "iv", "v"), (0.0,), (2.0,), (0.0, 2.0), "pluck", True),
}
PLACES = {
    "Kick": Place(3.0, 0.0, -30.0),
    "Snare": Place(1.0, 0.05, -16.0),
    "Cymbals": Place(-1.0, 0.2, -16.0),
    "Bass": Place(3.0, 0.0, -30.0),
    "Chords": Place(-3.0, -0.3, -13.0),
    "Pad": Place(-7.0, 0.35, -13.0),
    "Voice": Place(3.0, 0.0, -13.0),
}


class Players:
    """The program's own instruments."""

    def __init__(self, random: np.random.Generator) -> None:
        self._random = random
        self._strokes = [play.cymbal(random, 0.7, 0.4, dark=0.6) for _ in range(5)]

    def play(self, kind: str, pitch: int, length: float, strength: float, sung: str) -> np.ndarray:
        """A note."""
        random = self._random
        return {
            "kick": lambda: play.kick(random, strength),
            "snare": lambda: play.snare(random, strength),
            "cymbal": lambda: self._strokes[int(random.integers(5))],
            "bass": lambda: play.bass(random, pitch, length, strength),
            "marimba": lambda: play.marimba(random, pitch, strength),
            "pluck": lambda: play.pluck(random, pitch, 0.6, 0.6, strength),
            "reeds": lambda: play.accordion(random, pitch, length, strength),
            "voice": lambda: play.voice(random, pitch, length, strength, sung, 1.0),
        }[kind]()


PROGRAMS = (
    {"bass": 32, "marimba": 12, "pluck": 25, "reeds": 21, "voice": 52},
    {"bass": 33, "marimba": 0, "pluck": 27, "reeds": 48, "voice": 53},
    {"bass": 38, "marimba": 4, "pluck": 46, "reeds": 89, "voice": 73},
)
"""What sound fonts play the kinds with, by turns: General MIDI programs, from 0."""


def song(style: Style, seed: int, font: Path | None = None) -> Stems:
    """The stems of a song of three parts: soft, fuller, all of it; clean. Played by a sound font, if one is given."""
    random = np.random.default_rng(seed)
    beat = style.beat * float(random.uniform(0.93, 1.07))
    shift = int(random.integers(-4, 5))
    frames = int(SECONDS * RATE)
    tracks = {name: np.zeros(frames) for name in PLACES}
    band, written = Players(random), collections.defaultdict[str, list[Note]](list)

    def put(
        name: str,
        at: float,
        kind: str,
        strength: float,
        pitch: int = 0,
        length: float = 0.5,
        gain: float = 1.0,
        sung: str = "",
    ) -> None:
        note = band.play(kind, pitch, length, strength, sung) if font is None else np.zeros(0)
        at += float(random.normal(0.0, 0.003))
        if font is not None:
            written[name].append(Note(max(0.0, at), kind, pitch, length, min(1.0, strength * gain)))
        first = max(0, int(at * RATE))
        n = min(len(note), frames - first)
        if n > 0:
            tracks[name][first : first + n] += note[:n] * gain

    bars = int((SECONDS - 1.5) / (style.in_bar * beat))
    for bar in range(bars):
        start, part = 0.05 + bar * style.in_bar * beat, min(2, 3 * bar // bars)
        energy = (0.35, 0.6, 0.9)[part]
        chord = [n + shift for n in CHORDS[style.chords[bar % len(style.chords)]]]
        for b in style.kick if part else style.kick[:1]:
            put("Kick", start + b * beat, "kick", 0.5 + 0.4 * energy)
        for b in style.snare if part else ():
            put("Snare", start + b * beat, "snare", 0.3 + 0.5 * energy)
        for b in style.cymbal:
            put("Cymbals", start + b * beat, "cymbal", 0.4, gain=2.0 * energy)
        root = chord[0] - 24 if chord[0] - 24 >= 28 else chord[0] - 12
        for b in (0.0, style.in_bar / 2.0):
            put("Bass", start + b * beat, "bass", 0.5 + 0.4 * energy, root, 0.9 * beat * style.in_bar / 2.0)
        for n in range(2 * style.in_bar):
            note = chord[n % 3] + (12 if n % 4 == 3 else 0)
            if style.pattern != "reeds":
                higher = 12 if style.pattern == "pluck" else 0
                put("Chords", start + n * beat / 2.0, style.pattern, 0.3 + 0.4 * energy, note + higher)
        if style.pattern == "reeds" or part == 2:
            for note in chord:
                put("Pad", start, "reeds", 0.3 + 0.3 * energy, note, 0.95 * beat * style.in_bar, 0.7)
        if style.sung and part and bar % 2:
            for n, vowel in enumerate(("ha", "o", "e")):
                put("Voice", start + n * beat, "voice", 0.5 + 0.4 * energy, chord[n % 3] + 12, 0.9 * beat, sung=vowel)
    if font is not None:
        for name, notes in written.items():
            tracks[name] = played(notes, font, PROGRAMS[seed % len(PROGRAMS)], frames, RATE)
    stems = {
        name: staged(x / max(1e-9, np.abs(x).max()) * 0.5, PLACES[name])
        for name, x in tracks.items()
        if np.abs(x).max() > 0
    }
    peak = np.abs(np.sum(list(stems.values()), axis=0)).max()
    return {name: x * (0.35 / peak) for name, x in stems.items()}


def session_of(stems: Stems, chain: tuple[Any, ...] = (), chains: dict[str, tuple[Any, ...]] | None = None) -> Session:
    strips = [
        Stem(
            id=f"stem-{n}",
            name=name,
            media=Media(path=f"{name}.wav", size=1, sha256=f"{n:064x}"),
            chain=(chains or {}).get(name, ()),
        )
        for n, name in enumerate(stems)
    ]
    sections = tuple(
        Section(id=f"section-{n}", name=name, start=n * (SECONDS - 1.0) / 3, end=(n + 1) * (SECONDS - 1.0) / 3)
        for n, name in enumerate(("Soft", "Fuller", "All"))
    )
    mix = Bus(id=MIX, name="Mix bus", into="", chain=chain)
    rows = (Deliverable(id="d", name="Master"),)
    return Session(strips=(mix, *strips), sections=sections, rate=RATE, deliverables=rows)


def scene(stems: Stems, session: Session) -> Scene:
    sounds = {s.id: Sound(np.ascontiguousarray(stems[s.name], dtype=np.float32), RATE) for s in session.stems}
    renderer = Renderer(Material(RATE, sounds, max(len(s.samples) for s in sounds.values())))
    held = held_session(renderer, session)
    flat = {id: flat_tops(sound.samples) for id, sound in sounds.items()}
    return Scene(held, renderer.song(held), renderer, flat, row_peak)


# --- faults --------------------------------------------------------------------------------------------------------

Made = tuple[Stems, Session]
Fault = Callable[[Stems, int, np.random.Generator], Made]
"""Puts a fault in at a strength, 0 to 2."""


def of_stem(name: str, change: Callable[[np.ndarray, int, np.random.Generator], np.ndarray]) -> Fault:
    def fault(stems: Stems, strength: int, random: np.random.Generator) -> Made:
        there = name if name in stems else "Chords" if "Chords" in stems else next(iter(stems))
        made = {**stems, there: change(stems[there], strength, random)}
        return made, session_of(made)

    return fault


def of_chain(chain: Callable[[int], tuple[Any, ...]], loud: float = 1.0) -> Fault:
    def fault(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
        made = {name: x * loud for name, x in stems.items()}
        return made, session_of(made, chain(strength))

    return fault


def _clip(x: np.ndarray, k: int, _r: np.random.Generator) -> np.ndarray:
    over = (10 ** (1.0 / 20), 10 ** (4.5 / 20), 10 ** (8.0 / 20))[k]
    return np.clip(x / np.abs(x).max() * over, -1.0, 1.0) * 0.999


def _rumble(x: np.ndarray, k: int, _r: np.random.Generator) -> np.ndarray:
    t = np.arange(len(x)) / RATE
    level = np.sqrt((x**2).mean()) * 10 ** ((-34.0, -24.0, -14.0)[k] / 20)
    return x + (level * 1.41 * np.sin(2 * np.pi * 16.0 * t + np.sin(2 * np.pi * 0.3 * t)))[:, None]


def _clicks(x: np.ndarray, k: int, random: np.random.Generator) -> np.ndarray:
    made, height = x.copy(), np.abs(x).max() * (0.15, 0.4, 0.9)[k]
    for at in random.integers(RATE, len(x) - RATE, 6):
        made[at] += height
    return made


def _turned(x: np.ndarray, k: int, _r: np.random.Generator) -> np.ndarray:
    mono = x.mean(axis=1)
    return np.stack([mono, -mono * (0.5, 0.8, 1.0)[k]], axis=1) + 0.1 * (2 - k) * x


def _turned_lows(x: np.ndarray, k: int, _r: np.random.Generator) -> np.ndarray:
    """The lows of the right turned over, more and more of them."""
    spectra = np.fft.rfft(x, axis=0)
    low = np.fft.rfftfreq(len(x), 1.0 / RATE) < 130.0
    spectra[low, 1] *= (0.3, -0.7, -1.0)[k]
    return np.fft.irfft(spectra, len(x), axis=0)


def _esses(x: np.ndarray, k: int, random: np.random.Generator) -> np.ndarray:
    made, level = (
        x.copy(),
        np.sqrt((x[np.abs(x).max(axis=1) > 0.02 * np.abs(x).max()] ** 2).mean()) if np.abs(x).max() > 0 else 0.0,
    )
    envelope = np.hanning(int(0.09 * RATE))[:, None]
    for start in np.arange(9.0, SECONDS - 2.0, 0.9):
        noise = through(low_cut(5500.0, 24, RATE), random.standard_normal((len(envelope), 1)) * np.ones((1, 2)))
        noise *= envelope / np.sqrt((noise**2).mean())
        at = int(start * RATE)
        made[at : at + len(envelope)] += noise * level * 10 ** ((-8.0, 11.0, 15.0)[k] / 20)
    return made


def _cut_end(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    total = np.abs(np.sum(list(stems.values()), axis=0)).max(axis=1)
    aimed = 10 ** ((-46.0, -30.0, -18.0)[strength] / 20)
    near = np.convolve(total, np.ones(240) / 240.0, "same")
    after = np.flatnonzero(near[15 * RATE :] > aimed)
    end = 15 * RATE + int(after[len(after) // 2]) if len(after) else len(total)
    made = {name: x[:end] for name, x in stems.items()}
    return made, session_of(made)


def _in_all(change: Callable[[np.ndarray, int], np.ndarray]) -> Fault:
    def fault(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
        made = {name: change(x, strength) for name, x in stems.items()}
        return made, session_of(made)

    return fault


def _deep(strength: int) -> tuple[Any, ...]:
    freqs = (180.0, 320.0, 520.0, 880.0, 1400.0, 2300.0)[: (3, 5, 6)[strength]]
    bands = tuple(Band(id=n, freq=f, gain=-(2.0, 9.0, 14.0)[strength], q=3.5) for n, f in enumerate(freqs, start=1))
    return (MidSideEq(id="eq", bands=bands),)


def _raised(strength: int) -> tuple[Any, ...]:
    gain = (2.5, 5.0, 8.0)[strength]
    return tuple(
        MidSideEq(id=f"eq{n}", bands=(Band(id=1, shape="high_shelf", freq=5000.0 + 800.0 * n, gain=gain, q=0.71),))
        for n in range(2)
    )


def glue(aim: float, **more: Any) -> Glue:
    made = Glue(id="g", ratio=4.0, aim=aim, hold_aim=True, attack=10.0, release=120.0)
    return msgspec.structs.replace(made, **more)


def of_drums(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    made = glue((1.0, 8.0, 14.0)[strength], attack=0.05, release=30.0, ratio=10.0)
    return stems, session_of(stems, chains={"Snare": (made,)})


def _stereo_lost(x: np.ndarray, k: int) -> np.ndarray:
    middle = through(high_cut(3000.0, 12, RATE), through(low_cut(400.0, 12, RATE), x))
    shared = middle.mean(axis=1, keepdims=True)
    return x - middle + shared * np.array([1.0, -(0.1, 0.6, 0.9)[k]])


def _uneven(x: np.ndarray, k: int, random: np.random.Generator) -> np.ndarray:
    made = x.copy()
    edges = [round(at * RATE) for at in find_onsets(x, RATE, gap=0.2)] + [len(x)]
    for a, b in itertools.pairwise(edges):
        made[a:b] *= 10 ** (random.choice([-1.0, 1.0]) * (0.5, 5.5, 9.0)[k] / 20)
    return made


def _drifted(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    """Louder into a Glue whose threshold was found before."""
    held = scene(stems, session_of(stems, (Trim(id="t"), glue(2.0, aim_by="peaks")))).session
    found = held.item("g")
    assert isinstance(found, Glue)
    chain = (
        Trim(id="t", gain=(0.5, 4.0, 9.0)[strength]),
        msgspec.structs.replace(found, hold_aim=False, threshold_for=2.0),
    )
    return stems, session_of(stems, chain)


def _over_the_kick(x: np.ndarray, k: int, _r: np.random.Generator) -> np.ndarray:
    """A bass that is far too loud where the kick is."""
    return with_bell(x * (0.7, 4.0, 8.0)[k], 62.0, (0.0, 9.0, 12.0)[k], 0.7)


def _dense(strength: int) -> tuple[Any, ...]:
    return (Limiter(id="l", drive=(0.0, 16.0, 22.0)[strength], ceiling=-1.0),)


def _encoded(session: Session, strength: int) -> Session:
    row = Deliverable(id="d", name="Preview", format="aac", bit_rate=(256, 96, 64)[strength])
    return session.replace(deliverables=(row,))


def _with_rests(chain: Callable[[int], tuple[Any, ...]]) -> Fault:
    """Half a second of nearly nothing every two and a half."""

    def fault(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
        made = {}
        for name, x in stems.items():
            t = np.arange(len(x)) / RATE
            made[name] = x * np.where(t % 2.5 < 1.8, 1.0, 0.01)[:, None]
        return made, session_of(made, chain(strength))

    return fault


def of_strip(name: str, chain: Callable[[int], tuple[Any, ...]]) -> Fault:
    return lambda stems, k, _: (stems, session_of(stems, chains={name: chain(k)}))


def _washed(stems: Stems, strength: int, random: np.random.Generator) -> Made:
    """A cymbal that rings all along, under a compressor that hears the drums."""
    wash = through(low_cut(6000.0, 12, RATE), random.standard_normal(stems["Cymbals"].shape))
    wash *= 0.12 * np.abs(stems["Kick"]).max() / np.abs(wash).max()
    made = {**stems, "Cymbals": stems["Cymbals"] + wash}
    return made, session_of(made, (glue((2.0, 13.0, 17.0)[strength], attack=0.5, release=90.0, ratio=12.0),))


def _steep(strength: int) -> tuple[Any, ...]:
    freq, slope = ((30.0, 24), (78.0, 96), (90.0, 96))[strength]
    return (
        MidSideEq(
            id="eq", bands=tuple(Band(id=n, shape="low_cut", freq=freq, slope=slope) for n in range(strength + 1))
        ),
    )


def _deaf(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    """A detector whose low cut leaves out most of a kick, with a threshold that is over the rest of it."""
    kick, freq = stems["Kick"], (120.0, 500.0, 500.0)[strength]
    window = np.ones(round(0.02 * RATE)) / round(0.02 * RATE)

    def loudest(x: np.ndarray) -> float:
        """RMS over 20 ms, as the detector reads it, dBFS."""
        return float(10.0 * np.log10(2.0 * np.convolve((x**2).max(axis=1), window, "same").max()))

    heard, all_of_it = loudest(through(low_cut(freq, 48, RATE), kick)), loudest(kick)
    threshold = max(-60.0, heard + (-6.0, 0.5, 0.7)[strength] * max(1.0, all_of_it - heard))
    step = Glue(id="g", ratio=4.0, threshold=threshold, knee=0.0, low_cut=freq, low_cut_slope=48, rms=20.0)
    return stems, session_of(stems, chains={"Kick": (step,)})


def _driven_by_the_kick(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    made = {**stems, "Kick": stems["Kick"] * (1.0, 3.0, 4.0)[strength]}
    return made, session_of(made, (glue((3.0, 9.0, 15.0)[strength], attack=3.0, release=170.0, ratio=10.0),))


def _low_heavy(stems: Stems, strength: int, _random: np.random.Generator) -> Made:
    """A mix of which so much of the energy lies under 120 Hz, before a compressor that hears it as it is."""
    total = np.sum(list(stems.values()), axis=0)
    powers = (np.abs(np.fft.rfft(total, axis=0)) ** 2).sum(axis=1)
    low = np.fft.rfftfreq(len(total), 1.0 / RATE) < 120.0
    share, wanted = powers[low].sum() / powers.sum(), (0.3, 0.86, 0.92)[strength]
    gain = float(np.clip(10.0 * np.log10(wanted / (1.0 - wanted) * (1.0 - share) / share), -15.0, 15.0))
    shelf = MidSideEq(id="eq", bands=(Band(id=1, shape="low_shelf", freq=150.0, gain=gain),))
    return stems, session_of(stems, (shelf, glue(3.0, rms=10.0)))


FAULTS: dict[str, Fault] = {
    "uneven": of_stem("Bass", _uneven),
    "drift": _drifted,
    "clash": of_stem("Bass", _over_the_kick),
    "margin": lambda stems, k, _: (stems, _encoded(session_of(stems, _dense(k)), k)),
    "phase": of_chain(_steep),
    "aliasing": of_strip(
        "Cymbals", lambda k: (Saturation(id="s", drive=(6.0, 30.0, 36.0)[k], oversampling=(4, 1, 1)[k]),)
    ),
    "detector-deaf": _deaf,
    "cymbals": _washed,
    "lingers": _with_rests(lambda k: (glue((1.5, 6.0, 12.0)[k], attack=3.0, release=2500.0, ratio=8.0),)),
    "release-bends": of_strip(
        "Bass", lambda k: (glue((2.0, 8.0, 12.0)[k], attack=0.1, release=(80.0, 10.0, 6.0)[k], ratio=10.0),)
    ),
    "de-ess-hits": of_chain(lambda k: (DeEsser(id="d", threshold=(4.0, -14.0, -19.0)[k], range=12.0),)),
    "headroom": of_chain(lambda k: (glue(2.0),), 1.0),
    "flat-tops": of_stem("Chords", _clip),
    "dc": of_stem("Bass", lambda x, k, _: x + (0.0018, 0.006, 0.03)[k]),
    "rumble": of_stem("Bass", _rumble),
    "polarity": of_stem("Chords", _turned),
    "silence": of_stem("Snare", lambda x, k, _: x * (1e-4, 0.0, 0.0)[k]),
    "clicks": of_stem("Bass", _clicks),
    "resonance": of_stem("Cymbals", lambda x, k, _: with_bell(x, 3300.0, (5.0, 14.0, 20.0)[k], 5.0)),
    "sibilance": of_stem("Voice", _esses),
    "over-cut": of_chain(_deep),
    "over-boost": of_chain(_raised),
    "side-lows": of_stem("Bass", _turned_lows),
    "mono": _in_all(_stereo_lost),
    "one-sided": _in_all(lambda x, k: x * np.array([1.0, 10 ** (-(1.0, 3.5, 7.0)[k] / 20)])),
    "reduction": of_chain(lambda k: (glue((3.5, 7.0, 11.0)[k], ratio=8.0),)),
    "attack": of_drums,
    "pumping": _driven_by_the_kick,
    "lows-drive": _low_heavy,
    "lows-lost": of_chain(
        lambda k: (
            MidSideEq(id="eq", bands=(Band(id=1, shape="low_shelf", freq=100.0, gain=(10.0, 14.0, 15.0)[k]),)),
            glue((1.5, 14.0, 18.0)[k], attack=0.3, release=40.0, ratio=20.0),
        )
    ),
    "one-does-all": of_chain(
        lambda k: (Limiter(id="l", drive=0.0, aim=(2.0, 5.0, 9.0)[k], aim_by="peaks", hold_aim=True),)
    ),
    "after-limiter": of_chain(
        lambda k: (Limiter(id="l", drive=14.0, ceiling=-1.0), Trim(id="t", gain=(0.05, 1.5, 5.0)[k]))
    ),
    "flat-song": of_chain(
        lambda k: (
            Glue(id="g", ratio=(1.3, 6.0, 20.0)[k], threshold=-44.0, attack=80.0, release=1500.0, rms=50.0, knee=12.0),
        )
    ),
    "target": of_chain(lambda k: (Limiter(id="l", drive=(-1.0, 14.0, 20.0)[k] if k else 0.0, ceiling=-1.0),)),
    "edges": _cut_end,
    "muted": lambda stems, k, _: (stems, _muted(session_of(stems), k)),
}


def _muted(session: Session, strength: int) -> Session:
    for strip in session.stems[: strength + 1]:
        session = session.with_strip(msgspec.structs.replace(strip, mute=True))
    return session


def found(kind_ids: list[str], made: Made) -> tuple[WatchOut, ...]:
    stems, session = made
    return Finder([k for k in KINDS if k.id in kind_ids]).find(scene(stems, session))


HEAD = """# Watch-outs

What Gluvo looks for by itself: faults of a song that can be computed and shown. Each stands on the page of the watch-outs
(Ctrl+5, or its number in the header) with its measured number, its limit, where in the song it is, and what it comes from, at the
place where it was made. Looking changes nothing. A warning of nothing costs more trust than a fault that is not found, so the
limits lie on the safe side.
"""


Line = tuple[str, list[float], int]
"""A kind, the shares of songs in % in which its fault was found at each strength, and of how many clean songs it was told."""


def page(own: list[Line], by_fonts: list[Line], songs: int) -> str:
    """docs/watch-outs.md: every kind as it is declared, and how often it was found."""
    parts = [HEAD]
    for group, kinds in groupby(KINDS, key=lambda k: k.group):
        parts.append(f"## {group[0].upper()}{group[1:]}\n")
        parts += [
            f"### {k.title}\n\n`{k.id}` · {k.formula}\n\n*Its limit:* {k.why}\n\n*From:* {k.source}.\n" for k in kinds
        ]
    fonts = {id: (rates, alarm) for id, rates, alarm in by_fonts}

    def cells(rates: list[float], alarm: int) -> str:
        return f"{' | '.join(f'{r:.0f} %' for r in rates)} | {alarm or 'none'}"

    parts.append(
        "## How often each is found\n\n"
        f"In {songs} songs of five styles that `benchmarks/watchouts.py` makes with instruments of its own, and in {songs} "
        "that three sound fonts play (`--fonts`): clean, and with each fault put in at three strengths, of which weak is hardly "
        "a fault and strong is plain to hear. The glue of the clean songs hears the lows as they are, which is told where most "
        "of what triggers it lies there; what is told of the clean ones of the sound fonts is in their recordings: a constant "
        "part of two basses, and what moves under three pads. What is about how one works (`alone`, `ears`, `stale`), or needs "
        "other records (`references`), is not in it.\n\n"
        "| Kind | Weak | Middle | Strong | Clean | Fonts: weak | Middle | Strong | Clean |\n"
        + "|---" * 9
        + "|\n"
        + "\n".join(
            f"| `{id}` | {cells(rates, alarm)} | {cells(*fonts.get(id, ([], 0)))} |" for id, rates, alarm in own
        )
        + "\n"
    )
    return "\n".join(parts)


def timed(path: Path) -> None:
    """Looks through a session, and again after an edit of the first Glue of its mix chain."""
    session = read_session(path).session
    there, finder = scene_of(session, path.resolve().parent), Finder(KINDS)
    glue = next((item for item in session.mix.chain if isinstance(item, Glue)), Glue(id="g"))
    edited = session.with_step(msgspec.structs.replace(glue, attack=1.3 * glue.attack, hold_aim=False))
    for name, now in (("all", session), ("after an edit of the mix chain", edited)):
        made = replace(there, session=now, render=there.renderer.song(now))
        began = time.perf_counter()
        count = len(finder.find(made))
        print(f"{path.stem}, {name}: {time.perf_counter() - began:.2f} s, {count} found")


def songs_of(count: int, fonts: Sequence[Path]) -> list[tuple[str, Stems]]:
    """Clean songs of the styles by turns, with their names; played by sound fonts by turns, if there are any."""
    styles, songs = list(STYLES.items()), []
    for n in range(count):
        name, style = styles[n % len(styles)]
        font = fonts[n % len(fonts)] if fonts else None
        songs.append((name if font is None else f"{name}, {font.stem}", song(style, 100 + n, font)))
    return songs


def calibrated(songs: Sequence[tuple[str, Stems]], kinds: Sequence[Any]) -> list[Line]:
    """How often kinds are told of the songs as they are, and of each with their faults."""
    per_group: collections.Counter[tuple[int, str]] = collections.Counter()
    alarms: collections.Counter[str] = collections.Counter()
    for n, (name, stems) in enumerate(songs):
        clean = session_of(
            stems,
            (Trim(id="t0", gain=-1.0), glue(2.0, attack=25.0, ratio=2.0), Limiter(id="l", drive=4.0, ceiling=-1.0)),
        )
        for w in found([k.id for k in kinds], (stems, clean)):
            group = next(k.group for k in KINDS if k.id == w.kind)
            per_group[n, group] += 1
            alarms[w.kind] += 1
            print(f"clean {name} {n}: {w.kind}: {w.text}", flush=True)
    most = max(per_group.values(), default=0)
    print(f"clean songs: {sum(alarms.values())} in {len(songs)}; most of a kind-group in one song: {most}")
    lines: list[Line] = []
    for kind in kinds:
        fault, hits = FAULTS.get(kind.id), [0, 0, 0]
        if fault is None:
            continue
        for n, (_, stems) in enumerate(songs):
            for k in range(3):
                hits[k] += any(w.kind == kind.id for w in found([kind.id], faulty(kind.id, fault, stems, n, k)))
        lines.append((kind.id, [100.0 * h / len(songs) for h in hits], alarms[kind.id]))
        told = " ".join(f"{s} {h:.0f} %" for s, h in zip(STRENGTHS, lines[-1][1], strict=True))
        print(f"{kind.id:14} {told}  clean {alarms[kind.id]}", flush=True)
    return lines


def faulty(kind: str, fault: Fault, stems: Stems, n: int, strength: int) -> Made:
    """Song `n` with a fault."""
    random = np.random.default_rng(7 * n + strength)
    if kind == "headroom":
        gain = 10 ** ((-3.0, 0.5, 4.0)[strength] / 20) / np.abs(np.sum(list(stems.values()), axis=0)).max()
        loud = {name: x * gain for name, x in stems.items()}
        return loud, session_of(loud, (glue(2.0),))
    if kind == "sibilance" and "Voice" not in stems:
        stems = {**stems, "Voice": np.roll(stems["Chords"], RATE // 5, axis=0)}
    return fault(stems, strength, random)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=10)
    parser.add_argument("--kinds", default="")
    parser.add_argument("--fonts", type=Path, nargs="*", default=[], help="sound fonts that play the songs by turns")
    parser.add_argument("--markdown", type=Path, help="where docs/watch-outs.md is written")
    parser.add_argument("--session", type=Path, help="only time it on this one")
    asked = parser.parse_args()
    if asked.session is not None:
        timed(asked.session)
        return
    kinds = [k for k in KINDS if not asked.kinds or k.id in asked.kinds.split(",")]
    made = [calibrated(songs_of(asked.songs, fonts), kinds) for fonts in ([], asked.fonts)[: 1 + bool(asked.fonts)]]
    if asked.markdown is not None:
        asked.markdown.write_text(page(made[0], made[-1] if asked.fonts else [], asked.songs), encoding="utf-8")
    missed = sorted({id for lines in made for id, rates, _ in lines if rates[1] < 90.0})
    print("under 90 % at the middle strength: " + (", ".join(missed) or "none"))


if __name__ == "__main__":
    main()
