"""Watch-outs: each kind finds its fault and mends it, is silent where there is none, and looks only where something changed."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner

from gluvo.advise.hold import held_session
from gluvo.advise.watchouts import KINDS, Finder, Kind, Listened, Scene, WatchOut
from gluvo.cli import cli
from gluvo.demo import instruments
from gluvo.measure.clicks import found_in
from gluvo.measure.flattops import flat_tops
from gluvo.measure.sharpness import sharpness
from gluvo.measure.trace import trace_of
from gluvo.opened.watching import row_peak, watched
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.codec import round_trip
from gluvo.session.create import new_session
from gluvo.session.dismissals import GROWN, brought_back, is_dismissed, with_dismissed, with_kind_dismissed
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Deliverable, Media, Section, Session, Stem, Target, View
from gluvo.session.sounds import Sound
from gluvo.session.store import write_session
from gluvo.steps import Band, DeEsser, Glue, Lane, Limiter, MidSideEq, Saturation, Trim

from .conftest import RATE, music, noise, sine

BY_ID = {kind.id: kind for kind in KINDS}
SECONDS = 12.0


def scene_of(
    stems: dict[str, np.ndarray],
    chain: tuple[Any, ...] = (),
    rate: int = RATE,
    **more: Any,
) -> Scene:
    """Stems on a mix bus with a chain, its holds found."""
    strips = [
        Stem(id=f"stem-{n}", name=name, media=Media(path=f"{name}.wav", size=1, sha256=f"{n:064x}"))
        for n, name in enumerate(stems)
    ]
    session = Session(strips=(Bus(id=MIX, name="Mix bus", into="", chain=chain), *strips), rate=rate, **more)
    sounds = {s.id: Sound(stems[s.name].astype(np.float32), rate) for s in strips}
    renderer = Renderer(Material(rate, sounds, max(len(s.samples) for s in sounds.values())))
    held = held_session(renderer, session)
    return Scene(held, renderer.song(held), renderer, {id: flat_tops(s.samples) for id, s in sounds.items()})


def found(scene: Scene, *kinds: str) -> list[WatchOut]:
    return list(Finder([BY_ID[kind] for kind in kinds] or KINDS).find(scene))


def mended(scene: Scene, one: WatchOut) -> Scene:
    """The scene with what is offered, its holds found."""
    assert one.offer is not None
    session = held_session(scene.renderer, one.offer.edit(scene.session))
    return replace(scene, session=session, render=scene.renderer.song(session))


def clean(seed: int = 3, seconds: float = SECONDS) -> np.ndarray:
    x = music(seconds, seed=seed) * 0.5
    return x * np.minimum(1.0, (len(x) - np.arange(len(x))) / (0.5 * RATE))[:, None]  # it ends


def drums(every: float = 0.5, seconds: float = SECONDS) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    hiss = np.random.default_rng(2).standard_normal(len(t))
    hit = np.exp(-(t % every) / 0.09) * (0.5 * np.sin(2 * np.pi * 180 * t) + 0.25 * hiss)
    return np.repeat((0.6 * hit)[:, None], 2, axis=1)


def turned(x: np.ndarray, below: float | None = None) -> np.ndarray:
    """The right turned over, all of it or its lows."""
    spectra = np.fft.rfft(x, axis=0)
    low = np.fft.rfftfreq(len(x), 1.0 / RATE) < (below or 1e9)
    spectra[low, 1] = -spectra[low, 0]
    return np.fft.irfft(spectra, len(x), axis=0)


def with_esses(x: np.ndarray) -> np.ndarray:
    made, random = x.copy(), np.random.default_rng(1)
    burst = np.hanning(round(0.09 * RATE))[:, None]
    for start in np.arange(1.0, SECONDS - 1.0, 0.8):
        at = round(start * RATE)
        hiss = np.diff(random.standard_normal((len(burst) + 1, 1)), axis=0) * burst
        made[at : at + len(burst)] += 0.35 * hiss
    return made


def with_bell(x: np.ndarray, freq: float, gain: float, q: float) -> np.ndarray:
    return run_chain([MidSideEq(bands=(Band(id=1, freq=freq, gain=gain, q=q),))], x, RATE)


def uneven_bass() -> np.ndarray:
    """Held notes of chance pitches, every third of them 12 dB louder."""
    x, random = np.zeros((round(SECONDS * RATE), 2)), np.random.default_rng(4)
    t = np.arange(round(0.38 * RATE)) / RATE
    for n in range(int(SECONDS / 0.4) - 1):
        first = round(0.4 * n * RATE)
        note = np.sin(2 * np.pi * random.choice([55.0, 65.4, 73.4]) * t) * np.minimum(1.0, (0.38 - t) / 0.03)
        x[first : first + len(t)] += (0.4 if n % 3 == 0 else 0.1) * note[:, None]
    return x


def kicks() -> np.ndarray:
    t = np.arange(round(SECONDS * RATE)) / RATE
    return np.repeat((0.1 * np.sin(2 * np.pi * 60.0 * (t % 0.5)) * np.exp(-(t % 0.5) / 0.06))[:, None], 2, axis=1)


def highs() -> np.ndarray:
    """A cymbal that rings on and on."""
    return 0.25 * np.diff(noise(SECONDS, 0.3, seed=8), axis=0, prepend=0.0)


def hats() -> np.ndarray:
    """Bright hits."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    return 0.6 * np.diff(noise(SECONDS, 0.4, seed=9), axis=0, prepend=0.0) * np.exp(-(t % 0.5) / 0.03)[:, None]


def phrases() -> np.ndarray:
    """Loud for a second and a half, and nearly nothing for half a second."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    return 1.5 * clean() * np.where(t % 2.0 < 1.4, 1.0, 0.02)[:, None]


T = np.arange(round(SECONDS * RATE)) / RATE
BUSY = Glue(id="g", ratio=8.0, aim=9.0, aim_by="peaks", hold_aim=True, attack=3.0, release=160.0)
ROWS = (Deliverable(id="d", name="Master"),)
SECTIONS = tuple(Section(id=f"s{n}", name=f"Part {n}", start=4.0 * n, end=4.0 * n + 4.0) for n in range(3))


def cut_off(x: np.ndarray) -> np.ndarray:
    return x[: round(7.02 * RATE)]


RUMBLE_OF_TAKE = clean() + 0.05 * np.sin(2 * np.pi * 16.0 * T)[:, None]

FAULTS: dict[str, Callable[[], Scene]] = {
    "headroom": lambda: scene_of(
        {"Mix": clean() / np.abs(clean()).max() * 1.1}, (msgspec.structs.replace(BUSY, aim=1.0),)
    ),
    "flat-tops": lambda: scene_of({"Take": np.clip(clean() * 6.0, -0.999, 0.999)}),
    "dc": lambda: scene_of({"Take": clean() + 0.01}),
    "rumble": lambda: scene_of({"Take": RUMBLE_OF_TAKE}),
    "polarity": lambda: scene_of({"Pad": turned(clean()), "Take": clean(5)}),
    "silence": lambda: scene_of({"Take": clean(), "Nothing": np.zeros_like(clean())}),
    "clicks": lambda: scene_of({"Take": clean() + 0.3 * (np.arange(len(T)) == round(5.27 * RATE))[:, None]}),
    "resonance": lambda: scene_of({"Hiss": with_bell(noise(SECONDS, 0.05), 3300.0, 16.0, 5.0), "Take": clean()}),
    "sibilance": lambda: scene_of({"Voice": with_esses(clean())}),
    "over-cut": lambda: scene_of(
        {"Mix": clean()},
        (
            MidSideEq(
                id="eq",
                bands=tuple(
                    Band(id=n, freq=f, gain=-12.0, q=4.0) for n, f in enumerate((110.0, 220.5, 331.0, 1212.0, 517.0), 1)
                ),
            ),
        ),
    ),
    "over-boost": lambda: scene_of(
        {"Mix": clean()},
        tuple(
            MidSideEq(id=f"eq{n}", bands=(Band(id=1, shape="high_shelf", freq=6000.0, gain=6.0, q=0.71),))
            for n in range(2)
        ),
    ),
    "side-lows": lambda: scene_of({"Bass": turned(clean(), 150.0)}),
    "mono": lambda: scene_of({"Mix": turned(noise(SECONDS, 0.1), 6000.0) * np.array([1.0, 0.9])}),
    "one-sided": lambda: scene_of({"Mix": clean() * np.array([1.0, 0.5])}),
    "reduction": lambda: scene_of({"Mix": clean()}, (BUSY,)),
    "attack": lambda: scene_of(
        {"Drums": drums()}, (msgspec.structs.replace(BUSY, attack=0.05, release=30.0, ratio=10.0),)
    ),
    "pumping": lambda: scene_of({"Mix": drums() + 0.2 * sine(700.0, SECONDS)}, (BUSY,)),
    "lows-drive": lambda: scene_of(
        {
            "Low": sine(60.0, SECONDS, -8.0) * (0.6 + 0.4 * np.sin(2 * np.pi * 2 * T))[:, None],
            "Take": clean() * 1.5,
        },
        (msgspec.structs.replace(BUSY, aim=3.0),),
    ),
    "lows-lost": lambda: scene_of(
        {"Low": sine(60.0, SECONDS, -6.0) * ((T % 1.0) < 0.4)[:, None], "Take": 0.3 * noise(SECONDS, 0.1)},
        (msgspec.structs.replace(BUSY, aim=10.0, attack=0.3, release=40.0),),
    ),
    "one-does-all": lambda: scene_of({"Mix": clean()}, (Limiter(id="l", aim=6.0, aim_by="peaks", hold_aim=True),)),
    "after-limiter": lambda: scene_of(
        {"Mix": clean()}, (Limiter(id="l", drive=14.0, ceiling=-1.0), Trim(id="t", gain=3.0))
    ),
    "flat-song": lambda: scene_of(
        {"Mix": clean() * np.interp(T, [0, 3.8, 4.2, 7.8, 8.2, 12], [0.15, 0.15, 0.5, 0.5, 1, 1])[:, None]},
        (Glue(id="g", ratio=20.0, threshold=-48.0, attack=80.0, release=1500.0, rms=50.0),),
        sections=SECTIONS,
    ),
    "target": lambda: scene_of(
        {"Mix": clean()}, (Limiter(id="l", drive=16.0, ceiling=-1.0),), target=Target(name="T", loudness=-16.0)
    ),
    "edges": lambda: scene_of({"Mix": cut_off(clean() + 0.1 * sine(300.0, SECONDS))}, deliverables=ROWS),
    "uneven": lambda: scene_of({"Bass": uneven_bass()}),
    "margin": lambda: replace(
        scene_of(
            {"Mix": clean() + drums()},
            (Limiter(id="l", drive=20.0, ceiling=-1.0),),
            deliverables=(Deliverable(id="d", name="Preview", format="aac", bit_rate=96),),
        ),
        decoded_peak=row_peak,
    ),
    "alone": lambda: scene_of(
        {"Take": clean(), "Other": clean(7)}, deliverables=ROWS, view=View(page="deliver", solo=("stem-1",))
    ),
    "drift": lambda: scene_of(
        {"Drums": drums()}, (Trim(id="t", gain=9.0), Glue(id="g", ratio=4.0, threshold=-18.0, threshold_for=2.0))
    ),
    "clash": lambda: scene_of({"Kick": kicks(), "Bass": sine(62.0, SECONDS, -4.0)}),
    "stale": lambda: replace(scene_of({"Take": clean()}), stale=("Master", "Preview")),
    "references": lambda: (
        lambda scene, far: replace(scene, references=(Joint(far.astype(np.float32), trace_of(far, RATE)),))
    )(scene_of({"Mix": clean()}), with_bell(clean(), 250.0, -14.0, 0.5)),
    "ears": lambda: replace(scene_of({"Take": clean()}), listened=Listened(95.0, -16.0)),
    "phase": lambda: scene_of(
        {"Take": clean()},
        (MidSideEq(id="a", bands=tuple(Band(id=n, shape="low_cut", freq=75.0, slope=96) for n in (1, 2))),),
    ),
    "aliasing": lambda: scene_of(
        {"Take": sine(6100.0, SECONDS, -6.0)}, (Saturation(id="s", drive=24.0, oversampling=1),)
    ),
    "detector-deaf": lambda: scene_of(
        {"Drums": sine(90.0, SECONDS, -6.0) * np.exp(-(T % 0.5) / 0.09)[:, None] + 0.02 * hats()},
        (Glue(id="g", ratio=4.0, threshold=-24.0, low_cut=500.0, low_cut_slope=48),),
    ),
    "cymbals": lambda: scene_of(
        {"Drums": drums(), "Ride": highs()}, (msgspec.structs.replace(BUSY, attack=0.5, release=80.0),)
    ),
    "lingers": lambda: scene_of(
        {"Take": phrases()},
        (Glue(id="g", ratio=8.0, aim=9.0, aim_by="peaks", hold_aim=True, attack=2.0, release=2500.0),),
    ),
    "release-bends": lambda: scene_of(
        {"Bass": sine(70.0, SECONDS, -6.0)},
        (Glue(id="g", ratio=8.0, aim=6.0, aim_by="peaks", hold_aim=True, attack=0.1, release=12.0),),
    ),
    "de-ess-hits": lambda: scene_of(
        {"Hat": hats(), "Voice": 0.2 * clean()}, (DeEsser(id="d", threshold=-20.0, range=12.0),)
    ),
    "muted": lambda: (
        lambda s: Scene(
            s.session.with_strip(msgspec.structs.replace(s.session.stems[0], mute=True)),
            s.renderer.song(s.session.with_strip(msgspec.structs.replace(s.session.stems[0], mute=True))),
            s.renderer,
        )
    )(scene_of({"Take": clean(), "Other": clean(7)}, deliverables=ROWS)),
}
MENDS_IT = {
    "references",
    "drift",
    "margin",
    "alone",
    "uneven",
    "aliasing",
    "detector-deaf",
    "cymbals",
    "lingers",
    "release-bends",
    "headroom",
    "dc",
    "rumble",
    "polarity",
    "resonance",
    "sibilance",
    "over-cut",
    "over-boost",
    "side-lows",
    "reduction",
    "attack",
    "lows-drive",
    "after-limiter",
    "edges",
    "muted",
}
"""Kinds whose edit leaves nothing of the fault here."""


def test_every_kind_has_a_fault_here_and_says_where_it_comes_from() -> None:
    assert set(FAULTS) == set(BY_ID) and len(BY_ID) == len(KINDS)
    for kind in KINDS:
        assert kind.title and kind.formula.endswith(".") and kind.why.endswith(".") and kind.source


@pytest.mark.sampled(2)
@pytest.mark.parametrize("id", list(FAULTS))
def test_a_kind_finds_its_fault_and_its_edit_mends_it(id: str) -> None:
    scene = FAULTS[id]()
    there = found(scene, id)
    assert there, f"{id} finds nothing"
    one = there[0]
    assert one.kind == id and one.text.endswith(".") and not one.text.startswith(" ") and "\n" not in one.text
    assert scene.session.strip(one.strip) is not None and (not one.step or scene.session.item(one.step) is not None)
    assert 0.0 <= one.span.start < one.span.end <= scene.seconds + 1e-6 and 0.0 < one.audible <= 1.0
    assert one.excess > 0.0 or id in ("muted", "alone", "clicks", "silence")
    if one.evidence is not None:
        assert len(one.evidence.xs) == len(one.evidence.ys) > 0 and np.isfinite(one.evidence.ys).all()
    assert (one.offer is not None) or id not in MENDS_IT
    if id in MENDS_IT:
        after = mended(scene, one)
        round_trip(after.session)
        left = [w for w in found(after, id) if w.key == one.key]
        assert not left, f"{left[0].text} is left of {one.text}"


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_clean_song_is_left_alone(rate: int) -> None:
    x = music(10.0, rate=rate) * 0.35
    x *= np.minimum(1.0, (len(x) - np.arange(len(x))) / (0.5 * rate))[:, None]
    chain = (
        Trim(id="t", gain=-1.0),
        Glue(id="g", ratio=2.0, aim=2.0, hold_aim=True, attack=25.0, low_cut=120.0, low_cut_slope=24),
        Limiter(id="l", drive=1.0),
    )
    told = found(scene_of({"Take": x}, chain, rate=rate))
    assert [w.text for w in told] == []


def speech() -> np.ndarray:
    """Words with rests between them."""
    random, x = np.random.default_rng(7), np.zeros(6 * RATE)
    for n in range(9):
        word = instruments.voice(random, 45 + int(random.integers(6)), 0.35, 0.5, ("ha", "o", "e")[n % 3], 1.0)
        first = round((0.1 + 0.62 * n) * RATE)
        x[first : first + len(word)] += 0.3 * word[: len(x) - first]
    return np.repeat(x[:, None], 2, axis=1)


NASTY: dict[str, np.ndarray] = {
    "speech": speech(),
    "silence": np.zeros((2 * RATE, 2)),
    "one sample": np.full((1, 2), 0.5),
    "mono": np.repeat(clean()[:, :1], 2, axis=1),
    "a tone": sine(440.0, 3.0, -12.0),
    "noise": noise(3.0, 0.1),
    "a very loud one": 40.0 * noise(2.0, 1.0),
    "clipped": np.sign(noise(2.0, 1.0)),
    "almost nothing": 1e-6 * noise(2.0, 1.0),
}


@pytest.mark.sampled(5)
@pytest.mark.parametrize("name", list(NASTY))
@pytest.mark.parametrize("with_chain", [False, True])
def test_whatever_comes_in_no_watch_out_makes_no_sense(name: str, with_chain: bool) -> None:
    chain = (BUSY, MidSideEq(id="eq"), Lane(id="lane"), Limiter(id="l", drive=6.0)) if with_chain else ()
    told = found(scene_of({"Voice": NASTY[name]}, chain, deliverables=ROWS, sections=SECTIONS))
    for one in told:
        assert (
            np.isfinite([one.value, one.limit, one.audible]).all() and "nan" not in one.text and "inf" not in one.text
        )
    assert len({one.key for one in told}) == len(told)
    if name in ("silence", "almost nothing"):
        assert {one.kind for one in told} <= {"silence", "dc"}
    if name == "a tone":
        assert not {one.kind for one in told} & {"resonance", "rumble", "sibilance", "flat-tops", "clicks"}


def test_all_muted_and_no_stems_and_missing_files() -> None:
    scene = scene_of({"Take": clean(), "Other": clean(7)}, deliverables=ROWS)
    session = scene.session
    for strip in session.stems:
        session = session.with_strip(msgspec.structs.replace(strip, mute=True))
    told = found(Scene(session, scene.renderer.song(session), scene.renderer))
    assert [w.kind for w in told if w.kind in ("muted", "target", "mono", "edges")] == ["muted"]
    assert "Take, Other are muted" in next(w.text for w in told if w.kind == "muted")
    bare = Session(rate=RATE)
    renderer = Renderer(Material(RATE, {}, RATE))
    assert found(Scene(bare, renderer.song(bare), renderer)) == []
    missing = Renderer(Material(RATE, {}, 4 * RATE, missing={"stem-0": "gone", "stem-1": "gone"}))
    assert found(Scene(scene.session, missing.song(scene.session), missing)) == []


@pytest.mark.thorough
def test_forty_stems_are_looked_at() -> None:
    stems = {f"Take {n}": clean(seed=n, seconds=3.0) * 0.1 for n in range(40)}
    stems["Take 17"] = stems["Take 17"] + 0.02
    told = found(scene_of(stems), "dc", "silence", "polarity", "clicks")
    assert [(w.kind, w.text.split(" stands")[0]) for w in told] == [("dc", "Take 17")]


def test_only_what_has_changed_is_looked_at_again() -> None:
    scene = scene_of({"Take": clean(), "Other": clean(7)}, (BUSY,))
    looked: list[tuple[str, str]] = []

    def counting(kind: Kind) -> Kind:
        def look(scene: Scene, place: Any) -> Any:
            looked.append((kind.id, place.strip))
            return kind.look(scene, place)

        return replace(kind, look=look)

    finder = Finder([counting(kind) for kind in KINDS])
    first = finder.find(scene)
    looked.clear()
    assert finder.find(scene) == first and looked == []
    session = scene.session.with_step(msgspec.structs.replace(scene.session.item("g"), attack=9.0))
    finder.find(Scene(session, scene.renderer.song(session), scene.renderer, scene.flat))
    assert {strip for kind, strip in looked} == {MIX} and "clicks" not in {kind for kind, _ in looked}


@pytest.mark.thorough
def test_an_edit_is_offered_on_the_session_as_it_then_is() -> None:
    """What was changed meanwhile stays, and what is gone makes no trouble."""
    scene = FAULTS["rumble"]()
    one = found(scene, "rumble")[0]
    assert one.offer is not None
    later = scene.session.with_chain(MIX, (Trim(id="new", gain=-2.0),))
    made = one.offer.edit(later)
    assert made.item("new") is not None and made.strip(one.strip).chain
    for id in sorted(MENDS_IT):
        scene = FAULTS[id]()
        one = found(scene, id)[0]
        assert one.offer is not None
        gone = scene.session.with_chain(MIX, ())
        round_trip(one.offer.edit(gone))


# --- dismissing --------------------------------------------------------------------------------------------------


class Said:
    def __init__(self, kind: str, key: str, excess: float) -> None:
        self.kind, self.key, self.excess = kind, key, excess


def test_what_is_dismissed_comes_back_when_it_has_grown_by_a_third() -> None:
    one = Said("rumble", "rumble/a//low", 6.0)
    session = with_dismissed(Session(), one)
    assert is_dismissed(session, one) and round_trip(session) == session
    assert is_dismissed(session, Said("rumble", one.key, 6.0 * GROWN - 0.1))
    assert not is_dismissed(session, Said("rumble", one.key, 6.0 * GROWN + 0.2))
    assert not is_dismissed(session, Said("rumble", "rumble/b//low", 1.0))
    assert not is_dismissed(brought_back(session, one), one)
    both = with_kind_dismissed(session, "rumble", [one, Said("rumble", "rumble/b//low", 9.0)])
    assert is_dismissed(both, Said("rumble", "rumble/c//low", 11.0)) and len(both.dismissed) == 1
    assert not is_dismissed(both, Said("rumble", "rumble/c//low", 13.0))
    assert not is_dismissed(brought_back(both, one), Said("rumble", "rumble/c//low", 1.0))
    again = with_dismissed(session, Said("rumble", one.key, 20.0))
    assert len(again.dismissed) == 1 and again.dismissed[0].excess == 20.0


# --- measures ----------------------------------------------------------------------------------------------------


def test_clicks_are_told_from_onsets_and_from_noise() -> None:
    x = clean()
    assert not len(found_in(x)) and not len(found_in(drums())) and not len(found_in(noise(3.0, 0.2)))
    for height in (0.08, -0.4):
        made = x.copy()
        made[[40_000, 200_000]] += height
        assert found_in(made).tolist() == [40_000, 200_000]
    one_side = x.copy()
    one_side[123_456, 1] += 0.2
    assert found_in(one_side).tolist() == [123_456]
    assert not len(found_in(np.zeros((50, 2)))) and not len(found_in(np.ones((500, 2))))


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_sharpness_is_the_level_of_what_is_sharp_over_the_voice(rate: int) -> None:
    seconds = 1.0
    t = np.arange(round(seconds * rate)) / rate
    for sharp in (-20.0, 0.0, 10.0):
        wave = np.sin(2 * np.pi * 400 * t) + 10 ** (sharp / 20) * np.sin(2 * np.pi * 7000 * t)
        over = sharpness(np.repeat(0.1 * wave[:, None], 2, axis=1), rate)
        assert float(np.median(over[60:])) == pytest.approx(sharp, abs=1.0)
    assert (sharpness(np.zeros((rate, 2)), rate) < -150.0).all() and len(sharpness(np.zeros((0, 2)), rate)) == 0


# --- the command line ----------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_files_are_watched_from_the_command_line(tmp_path: Path) -> None:
    good, bad = tmp_path / "Good.wav", tmp_path / "Bad.wav"
    soundfile.write(good, clean(), RATE, "PCM_24")
    soundfile.write(bad, clean() + 0.009, RATE, "PCM_24")
    run = CliRunner().invoke(cli, ["watch", str(good)])
    assert run.exit_code == 0 and run.stdout == ""
    run = CliRunner().invoke(cli, ["watch", str(good), str(bad), "--json"])
    told = json.loads(run.stdout)
    assert run.exit_code == 1 and [one["id"] for one in told] == ["dc"]
    keys = {"id", "file", "strip", "step", "section", "value", "limit", "unit", "start", "end", "text"}
    assert keys <= set(told[0]) and told[0]["file"].endswith("Bad.wav") and told[0]["value"] > told[0]["limit"]
    run = CliRunner().invoke(cli, ["watch", str(bad), "--kinds", "rumble, mono"])
    assert run.exit_code == 0
    run = CliRunner().invoke(cli, ["watch", str(bad), "--kinds", "nonsense"])
    assert run.exit_code != 0 and "no kind of watch-out “nonsense”" in str(run.exception)
    run = CliRunner().invoke(cli, ["watch", str(bad), str(tmp_path / "None.wav")])
    assert run.exit_code == 2 and "dc: Bad" in run.output


def test_what_is_dismissed_in_a_session_is_not_told(tmp_path: Path) -> None:
    bad, path = tmp_path / "Bad.wav", tmp_path / "Bad.gluvo"
    soundfile.write(bad, clean() + 0.009, RATE, "PCM_24")
    session = new_session([bad], [], tmp_path, "Bad")
    write_session(path, session)
    assert CliRunner().invoke(cli, ["watch", str(path)]).exit_code == 1
    _, (one,) = watched(path, Finder(KINDS))
    write_session(path, with_dismissed(session, one))
    assert CliRunner().invoke(cli, ["watch", str(path)]).exit_code == 0


@pytest.mark.thorough
def test_a_session_is_watched_from_the_command_line(demo: Path) -> None:
    run = CliRunner().invoke(cli, ["watch", str(demo), "--json"])
    told = json.loads(run.stdout)
    found = {(one["id"], one["strip"]) for one in told}
    assert {
        ("rumble", "Upright bass"),
        ("side-lows", "Accordion"),
        ("resonance", "Mix bus"),
        ("resonance", "Accordion"),
        ("sibilance", "Voice high"),
        ("sibilance", "Voice low"),
    } <= found
    assert run.exit_code == 1 and len(told) <= 10
    places = {one["id"]: one["text"] for one in told if one["strip"] in ("Upright bass", "Accordion")}
    assert "18 Hz" in places["rumble"] and "4.5 kHz" in places["resonance"]
    folder = demo.parent
    for name in ("Pier Lights.wav", "Cold Rope.wav"):
        run = CliRunner().invoke(cli, ["watch", str(folder / name), "--json"])
        assert len(json.loads(run.stdout or "[]")) <= 2


OF_THE_WORK = ("alone", "ears", "stale", "references")
"""Kinds that no song can be made for."""


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.id)
def test_the_document_tells_each_kind_as_it_is_declared(kind: Kind) -> None:
    page = (Path(__file__).parent.parent / "docs" / "watch-outs.md").read_text(encoding="utf-8")
    for words in (
        f"### {kind.title}\n",
        f"`{kind.id}` · {kind.formula}\n",
        kind.why,
        kind.source,
        f"`{kind.id}`" if kind.id in OF_THE_WORK else f"\n| `{kind.id}` |",
    ):
        assert words in page, "python benchmarks/watchouts.py --markdown docs/watch-outs.md writes it"
