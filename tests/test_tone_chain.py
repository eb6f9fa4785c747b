"""Mid-side EQ, Saturation and Width among other steps: in files, on buses, in lanes, held one after the other."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.advise.step_analysis import analysed_step, with_low_cuts
from gluvo.deliver.write import write_deliverable
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.fades import Guard, crossfade
from gluvo.play.meters import TAP_FRAMES, Board, keep
from gluvo.render.chain import run_chain
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.records import MIX, Bus, Deliverable, Media, Session, Stem
from gluvo.steps import Band, ChainItem, Glue, Lane, Limiter, MidSideEq, Saturation, Step, Trim, Width

from .conftest import RATE, hold, material, music, noise, one, sine

EQ = MidSideEq(
    id="eq",
    hold_loudness=True,
    bands=(
        Band(id=1, shape="low_cut", freq=40.0, slope=24, q=0.71),
        Band(id=2, target="side", freq=900.0, gain=6.0),
        Band(id=3, target="mid", freq=250.0, gain=-5.0),
    ),
)
MASTER: list[Step] = [
    Trim(id="t", gain=-4.0),
    msgspec.structs.replace(EQ, phase="linear"),
    Glue(id="g", ratio=2.0, threshold=-24.0),
    Saturation(id="s", shape="warm", drive=6.0, low=100.0),
    Width(id="w", bands=2, width_2=130.0, mono_below=120.0),
    Limiter(id="l", drive=8.0, ceiling=-1.0),
]


def loudness(x: np.ndarray) -> float:
    return figures_of(trace_of(x, RATE)).integrated


# --- files -------------------------------------------------------------------------------------------------


def test_a_whole_chain_is_written_as_it_is_rendered_and_in_time(tmp_path: Path) -> None:
    """Linear phase is late by a fifth of a second, oversampling by some frames; the file begins where the song does."""
    x = music(4.0)
    path = tmp_path / "x.wav"
    wanted = Renderer(material(x)).joint(Plan(one(MASTER)).result).audio[:]
    written = write_deliverable(material(x), one(MASTER), Deliverable(id="d", name="Master", bits="32f"), path)
    read = soundfile.read(path)[0]
    assert read.shape == x.shape and np.abs(read - wanted).max() < 1e-6
    assert written.figures.true_peak <= -0.95
    hiss = noise(4.0, 0.05)
    write_deliverable(material(hiss), one(MASTER), Deliverable(id="d", name="Master", bits="32f"), path)
    spectra = [np.fft.rfft(sound[:, 0], 2 * len(hiss)) for sound in (soundfile.read(path)[0], hiss)]
    assert int(np.argmax(np.fft.irfft(spectra[0] * np.conj(spectra[1])))) == 0  # in time to the sample


def two_buses(first: list[ChainItem], second: list[ChainItem]) -> Session:
    """One sound through two buses, the second turned over: what is the same in both is silence."""
    media = Media(path="x.wav", size=1, sha256="0" * 64)
    return Session(
        rate=RATE,
        strips=(
            Bus(id=MIX, name="Mix bus", into=""),
            Bus(id="a", name="A", chain=tuple(first)),
            Bus(id="b", name="B", invert=True, chain=tuple(second)),
            Stem(id="stem-1", name="X", media=media, into="a"),
            Stem(id="stem-2", name="Y", media=msgspec.structs.replace(media, sha256="1" * 64), into="b"),
        ),
    )


@pytest.mark.parametrize("live", [False, True])
def test_a_late_equaliser_on_one_bus_keeps_the_buses_together(live: bool) -> None:
    """A linear-phase notch where there is no sound changes nothing, but comes late."""
    x = sine(3000, 3.0, -12.0)
    notch = MidSideEq(id="eq", phase="linear", bands=(Band(id=1, shape="notch", freq=60.0, q=4.0),))
    session = two_buses([notch], [])
    song = material(x, stem_2=x)
    if live:
        engine = Engine(song, {}, session)
        engine.listen(Monitoring())
        engine.play()
        out = np.zeros((2 * RATE, 2))
        for at in range(0, len(out), 512):
            engine.pull(out[at : at + 512])
        out = out[RATE:]
        assert engine.late > 0.1 * RATE
    else:
        out = Renderer(song).song(session).result.audio[RATE : 2 * RATE]
    assert np.abs(out).max() < 1e-3 < np.abs(x).max()
    alone = Renderer(song).song(session.replace(strips=session.strips[:-1])).result.audio[RATE : 2 * RATE]
    assert np.abs(alone).max() > 0.2  # each by itself is heard


# --- holding -----------------------------------------------------------------------------------------------


def test_holds_follow_one_another_down_the_chain() -> None:
    """Each finds its output from what the ones before it left, and the whole chain is as loud as it began."""
    x = music(8.0) + noise(8.0, 0.02)
    steps: list[Step] = [
        EQ,
        Saturation(id="s", shape="dense", drive=8.0),
        Width(id="w", hold_loudness=True, width_1=170.0),
    ]
    span = Span(3.0, 7.0)
    renderer = Renderer(material(x))
    held = hold(renderer, one(steps), span)
    found = [held.step(id) for id in ("eq", "s", "w")]
    assert all(abs(step.output) > 0.03 for step in found)
    frames = span.frames(RATE, len(x))
    sound = x.astype(np.float32)
    for count in (1, 2, 3):
        part: list[Step] = found[:count]  # type: ignore[assignment]
        assert loudness(run_chain(part, sound, RATE)[frames]) == pytest.approx(loudness(sound[frames]), abs=0.1)
    only = hold(renderer, one(steps), span, up_to="eq")
    assert only.step("eq") == held.step("eq") and only.step("s") == steps[1]


@pytest.mark.parametrize("place", ["bus", "lane", "stem"])
def test_a_hold_is_found_wherever_the_step_is(place: str) -> None:
    x = music(8.0)
    chain: list[ChainItem] = [EQ] if place != "lane" else [Lane(id="lane", level=-6.0, steps=(EQ,))]
    session = one([]).with_chain("stem-1", chain) if place == "stem" else two_buses(chain, [])
    song = material(x, stem_2=0.3 * x[::-1])
    held = hold(Renderer(song), session, Span(3.0, 7.0))
    alone = hold(Renderer(material(x)), one([EQ]), Span(3.0, 7.0))
    assert held.step("eq").output == pytest.approx(alone.step("eq").output, abs=0.02)


def test_what_is_off_or_not_held_is_left_alone() -> None:
    renderer = Renderer(material(music(4.0)))
    for step in (msgspec.structs.replace(EQ, on=False), msgspec.structs.replace(EQ, hold_loudness=False, output=3.0)):
        session = one([step])
        assert hold(renderer, session, None) == session


def test_another_section_is_held_for_itself() -> None:
    x = np.concatenate([sine(100, 4.0, -20.0), sine(900, 4.0, -20.0) * np.array([1.0, -1.0])])
    renderer = Renderer(material(x))
    outputs = [hold(renderer, one([EQ]), span).step("eq").output for span in (Span(0.5, 3.5), Span(4.5, 7.5))]
    assert outputs[1] == pytest.approx(-6.0, abs=0.1)  # the bell on the side stands alone there
    assert abs(outputs[0]) < 1.5


# --- what is measured about a step -------------------------------------------------------------------------


def test_what_is_around_a_step_is_of_both_of_its_sides() -> None:
    x = music(6.0)
    session = one(MASTER)
    renderer = Renderer(material(x))
    plan, span = renderer.plan(session), Span(2.0, 5.5)

    def around(id: str):  # type: ignore[no-untyped-def]
        before, after = (renderer.joint(nodes[id], span) for nodes in (plan.before, plan.after))
        return analysed_step(session.item(id), before, after, span)

    eq = around("eq")
    assert set(eq.costs) == {1, 2, 3} and eq.costs[3].change < 0.0 < eq.costs[2].change and not eq.low_cuts
    whole = with_low_cuts(eq, session.item("eq"), renderer.joint(plan.before["eq"]))
    assert set(whole.low_cuts) == {1} and whole.low_cuts[1].section == pytest.approx(eq.costs[1].change)
    assert set(around("s").new) == {"mid", "side"} and not around("w").new
    for id in ("t", "g", "w"):
        found = around(id)
        assert (
            found.step == id
            and not found.costs
            and with_low_cuts(found, session.item(id), renderer.joint(plan.result)) is found
        )
    trim = around("t")
    assert trim.loudness[1] - trim.loudness[0] == pytest.approx(-4.0, abs=0.01)
    assert trim.after.total("stereo") / trim.before.total("stereo") == pytest.approx(10**-0.4, rel=1e-3)


# --- going on where another was ----------------------------------------------------------------------------


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_mid_turns_into_left_and_right_without_a_seam(phase: str) -> None:
    """A bell on the mid, and one on each channel, are the same for a mono sound; so nothing must be heard."""
    x = sine(440, 4.0, -12.0)
    bell = Band(id=1, target="mid", freq=500.0, gain=6.0)
    both = (Band(id=1, target="left", freq=500.0, gain=6.0), Band(id=2, target="right", freq=500.0, gain=6.0))

    def session(bands: tuple[Band, ...]) -> Session:
        return one([MidSideEq(id="e", bands=bands, phase=phase)])

    engine = Engine(material(x), {}, session((bell,)))
    engine.listen(Monitoring())
    engine.play()
    out = np.zeros((3 * RATE, 2))
    for n, at in enumerate(range(0, len(out), 512)):
        if n in (100, 160):
            engine.change(session(both if n == 100 else (bell,)))
        engine.pull(out[at : at + 512])
    y = out[RATE // 2 :, 0]
    turn = 2 * np.pi * 440 / RATE
    residual = y[2:] - 2 * np.cos(turn) * y[1:-1] + y[:-2]  # nothing but the sine satisfies this
    assert np.abs(residual).max() < (3e-5 if phase == "linear" else 2e-4) < np.abs(y).max() / 100


# --- small parts of the live path --------------------------------------------------------------------------


@pytest.mark.parametrize("freq", [25.0, 100.0, 1000.0, 9000.0])
def test_the_guard_bends_no_wave(freq: float) -> None:
    """6 dB over its ceiling a tone comes out under it, and is a tone still; what was under it passes bit for bit."""
    guard, x = Guard(RATE), np.concatenate([sine(freq, 1.0, -12.0), sine(freq, 3.0, 0.0), sine(freq, 8.0, -12.0)])
    given, late = x.copy(), guard.latency
    for at in range(0, len(x), 512):
        guard.run(x[at : at + 512], 0.5)
    assert np.abs(x).max() <= 0.5 + 1e-12
    soft = RATE - late  # until it sees the loud part come
    assert np.array_equal(x[late:soft], given[: soft - late]) and np.array_equal(x[-RATE:], given[-RATE - late : -late])
    held = x[2 * RATE + late : 3 * RATE + late, 0]
    spectrum = np.abs(np.fft.rfft(held * np.blackman(len(held)))) ** 2
    near = np.abs(np.fft.rfftfreq(len(held), 1.0 / RATE) - freq) < 4.0
    assert 10 * np.log10(spectrum[~near].sum() / spectrum[near].sum()) < -55.0


def test_one_graph_fades_into_the_next_with_level_ends() -> None:
    new = np.ones((1440, 2))
    crossfade(np.zeros((1440, 2)), new, 0, 1440)
    rise = new[:, 0]
    assert rise[-1] == pytest.approx(1.0) and rise[719] == pytest.approx(0.5, abs=1e-3)
    steps = np.diff(rise)
    assert steps.max() <= 1.0 / 960 + 1e-9 and steps[0] < 0.02 * steps.max() and steps[-1] < 0.02 * steps.max()
    before = np.ones((64, 2))
    crossfade(np.zeros((64, 2)), before, -200, 1440)
    assert not before.any()  # what was given to the new graph has not come out of it yet


def test_the_tap_goes_round() -> None:
    board = Board()
    count = np.arange(3 * TAP_FRAMES // 2, dtype=np.float64)
    for at in range(0, len(count), 1000):
        block = np.repeat(count[at : at + 1000, None], 2, axis=1)
        keep(block, -block, at % TAP_FRAMES, board.tap)
        board.state[5] += len(block)
    tapped = board.tapped(TAP_FRAMES)
    assert tapped is not None
    assert np.array_equal(tapped[0][:, 1], count[-TAP_FRAMES:]) and np.array_equal(tapped[1], -tapped[0])
