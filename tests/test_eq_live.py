"""Bands while they play: as rendered, without zipper noise, heard alone, hunted below a ceiling, tapped for the analyser."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from scipy import signal

from gluvo.advise.aimed import aimed
from gluvo.advise.step_analysis import analysed_step
from gluvo.advise.tone import hunting
from gluvo.compare.readings import hear_readings
from gluvo.measure.figures import figures_of
from gluvo.measure.overview import ReducedBy
from gluvo.measure.trace import Span, trace_of
from gluvo.play.engine import Engine, Monitoring
from gluvo.progress import no_progress
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Session
from gluvo.steps import Band, Limiter, MidSideEq, Saturation, Step, Trim, Width

from .conftest import FADED, RATE, material, music, one, sine

BANDS = (
    Band(id=1, shape="low_cut", freq=60.0, slope=24, q=0.71),
    Band(id=2, target="mid", freq=220.0, gain=-6.0, q=2.0),
    Band(id=3, target="side", freq=3000.0, gain=5.0, dynamic=True, threshold=-50.0),
)


def chain(bands: tuple[Band, ...], **settings: object) -> list[Step]:
    eq = MidSideEq(id="e", bands=bands, **settings)
    return [
        Trim(id="t", gain=-3.0),
        eq,
        Saturation(id="s", drive=0.0, low=100.0),
        Width(id="w", width_1=120.0),
        Limiter(id="l", drive=3.0),
    ]


def pulled(engine: Engine, frames: int, size: int = 512) -> np.ndarray:
    out = np.zeros((frames, 2))
    for at in range(0, frames, size):
        engine.pull(out[at : at + size])
    return out


def playing(session: Session, x: np.ndarray, **monitoring: object) -> Engine:
    engine = Engine(material(x), {}, session)
    engine.listen(Monitoring(**monitoring))
    engine.play()
    return engine


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_bands_edited_while_playing_end_where_the_render_is(phase: str) -> None:
    """Edit by edit through other bands, shapes and targets; then the sound is that of the last session."""
    x = music(8.0)
    engine = playing(one(chain(BANDS, phase=phase), step="e"), x)
    edits = [
        (*BANDS[:2], msgspec.structs.replace(BANDS[2], gain=-5.0)),
        (*BANDS, Band(id=4, target="left", freq=900.0, gain=3.0)),
        BANDS[1:],
        (msgspec.structs.replace(BANDS[0], slope=48), *BANDS[1:]),
    ]
    pulled(engine, RATE)
    for bands in edits:
        engine.change(one(chain(bands, phase=phase), step="e"))
        pulled(engine, 10_240)
    pulled(engine, 2 * RATE)
    start = RATE + 4 * 10_240 + 2 * RATE
    live = pulled(engine, RATE)
    offline = run_chain(chain(edits[-1], phase=phase), x.astype(np.float32), RATE)
    late = engine.late
    assert np.abs(live - offline[start - late : start - late + RATE]).max() < 1e-6


@pytest.mark.parametrize(("phase", "every"), [("minimum", 512), ("minimum", 2048), ("linear", 16_384)])
def test_a_bell_swept_over_a_sine_makes_no_zipper_noise(phase: str, every: int) -> None:
    """At its top the sine reaches full scale; what lies well away from it must stay 80 dB below that."""

    def session(freq: float) -> Session:
        bell = Band(id=1, freq=freq, gain=12.0, q=4.0)
        return one([MidSideEq(id="e", bands=(bell,), phase=phase)], step="e")

    engine = playing(session(300.0), sine(1000, 8.0, -12.0))
    sounds = [pulled(engine, RATE, 256)]
    for freq in np.geomspace(300.0, 3000.0, 60) if phase == "minimum" else np.geomspace(600.0, 1500.0, 16):
        engine.change(session(float(freq)))
        sounds.append(pulled(engine, every, 256))
    y = np.concatenate(sounds)[:, 0]
    assert np.abs(y).max() > 0.8  # the bell has passed over it
    above = signal.ellip(12, 0.1, 130.0, 2000.0, "high", fs=RATE, output="sos")
    assert np.abs(signal.sosfilt(above, y)[RATE // 2 :]).max() < 1e-4


@pytest.mark.parametrize("target", ["stereo", "mid", "side", "left"])
def test_a_band_alone_is_with_less_without(target: str) -> None:
    x = music(3.0)
    bands = (BANDS[0], Band(id=7, target=target, freq=500.0, gain=6.0))
    steps = chain(bands)
    session = one(steps, step="e", band=7, hear="band")
    live = pulled(playing(session, x, path="band"), 2 * RATE)
    late = playing(session, x).late
    sound = x.astype(np.float32)
    difference = run_chain(steps[:2], sound, RATE) - run_chain([steps[0], MidSideEq(bands=bands[:1])], sound, RATE)
    assert np.abs(live[late + FADED :] - difference[FADED : len(live) - late]).max() < 1e-9
    assert np.abs(difference).max() > 1e-3
    readings = hear_readings(Renderer(material(x)), session, Span(0.5, 2.5))
    assert readings["band"].quiet_by_nature
    assert "band" not in hear_readings(Renderer(material(x)), session.looking(hear="result"), Span(0.5, 2.5))


def test_what_a_low_cut_takes_is_what_lies_below_it() -> None:
    """In linear phase that and nothing else; in minimum phase the turned phase of the rest is heard a little, too."""
    x = sine(30, 3.0, -12.0) + sine(2000, 3.0, -12.0)
    for phase, rest in (("linear", -80.0), ("minimum", -30.0)):
        eq = MidSideEq(id="e", bands=(BANDS[0],), phase=phase)
        taken = pulled(playing(one([eq], step="e", band=1, hear="band"), x, path="band"), 2 * RATE)[RATE:]
        bins = np.abs(np.fft.rfft(taken[:, 0] * np.hanning(RATE))) / (RATE / 4)
        assert 20 * np.log10(bins[30]) == pytest.approx(-12.0, abs=1.5) and 20 * np.log10(bins[2000]) < rest


@pytest.mark.parametrize("mastered", [True, False])
def test_hunting_is_heard_but_never_over_the_ceiling(mastered: bool) -> None:
    x = music(4.0)
    steps = [MidSideEq(id="e", bands=BANDS), *([Limiter(id="l", drive=3.0)] if mastered else [])]
    session = one(steps, step="e")
    plain = run_chain(steps, x.astype(np.float32), RATE)
    highest = figures_of(trace_of(plain, RATE)).sample_peak
    engine = playing(session, x, ceiling=min(0.0, highest))
    pulled(engine, RATE // 2)
    eq = steps[0]
    assert isinstance(eq, MidSideEq)
    for freq in (90.0, 110.0, 140.0):
        engine.change(session.with_step(hunting(eq, "mid", freq, 15.0, 6.0)))
        boosted = pulled(engine, RATE // 2)
        assert np.abs(boosted).max() <= 10 ** (min(0.0, highest) / 20) + 1e-9
    engine.change(session)
    pulled(engine, RATE // 2)
    at = 2 * RATE + RATE // 2 - engine.late
    assert np.abs(boosted - plain[at - RATE // 2 : at]).max() > 0.02  # it was another sound
    assert session.step("e") == eq and len(eq.bands) == len(BANDS)


def test_a_hunt_switches_the_step_on_and_needs_no_room() -> None:
    full = MidSideEq(id="e", on=False, bands=tuple(Band(id=n + 1) for n in range(24)))
    made = hunting(full, "side", 700.0, 9.0, 12.0)
    assert made.on and len(made.bands) == 25 and made.bands[-1].target == "side"
    Engine(material(music(0.5)), {}, one([made], step="e"))


def test_the_tap_holds_both_sides_of_the_chosen_step() -> None:
    x = music(4.0)
    steps = chain(BANDS)
    engine = playing(one(steps, step="e"), x)
    assert engine.board.tapped(4096) is None
    pulled(engine, 3 * RATE)
    tapped = engine.board.tapped(8192)
    assert tapped is not None
    sound = x.astype(np.float32)
    end = 3 * RATE
    for side, count in zip(tapped, (1, 2), strict=True):
        wanted = run_chain(steps[:count], sound, RATE)[end - 8192 : end]
        assert np.abs(side - wanted).max() < 1e-9
    off = playing(one([Trim(id="t", on=False)], step="t"), x)
    pulled(off, RATE)
    assert off.board.tapped(64) is None


def test_the_board_tells_how_far_bands_have_moved() -> None:
    """A steady tone 20 dB over the threshold at a ratio of 2, in the second band of three."""
    moving = Band(id=9, freq=1000.0, dynamic=True, threshold=-40.0, ratio=2.0, range=20.0, attack=1.0)
    bands = (BANDS[0], moving, Band(id=1, freq=12_000.0, gain=2.0, q=4.0))
    engine = playing(one([MidSideEq(id="e", bands=bands)], step="e"), sine(1000, 3.0, -20.0))
    pulled(engine, RATE)
    assert engine.board.moves[:3].tolist() == [0.0, pytest.approx(-10.0, abs=0.1), 0.0]
    engine.change(
        one([MidSideEq(id="e", bands=(bands[0], msgspec.structs.replace(moving, moves="up"), bands[2]))], step="e")
    )
    pulled(engine, RATE)
    assert engine.board.moves[1] == pytest.approx(10.0, abs=0.1)


@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize("key", ["", "other"])
def test_a_bands_threshold_is_found_for_how_far_it_moves(by: ReducedBy, key: str) -> None:
    """As what was measured of it tells, and as it moves."""
    x = music(4.0) * np.repeat([1.0, 0.3, 0.7, 0.05], RATE)[:, None]
    band = Band(id=3, target="mid", freq=400.0, dynamic=True, ratio=4.0, range=9.0, aim=1.5, aim_by=by, key=key)
    eq = MidSideEq(id="e", bands=(*BANDS[:2], band), strength=90.0)
    before, span = Joint(x.astype(np.float32), trace_of(x, RATE)), Span(0.5, 3.3)
    keys = (Joint((0.5 * x).astype(np.float32), trace_of(0.5 * x, RATE)),) if key else ()
    wish = aimed(eq, 3)
    assert wish is not None and wish.by == by
    found = wish.find(before, span, no_progress, keys)
    assert found.met and found.reached == pytest.approx(1.5, abs=0.05)
    put = wish.put(eq, found.value, "")
    around = analysed_step(put, before, before, span, keys=keys)
    told = around.moved[3]
    assert told.of(by) == pytest.approx(1.5, abs=0.05) and told.mean <= told.peaks <= told.most
    assert told.most == pytest.approx(abs(around.moves[3].most), abs=0.02)
