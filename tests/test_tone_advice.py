"""What bands cost, what rings, notes, held outputs, spectra compared: against closed forms and the render."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gluvo.advise.tone import cost, cut_for, cut_found, low_cut_cost, lowest_played, movements
from gluvo.compare.tones import Frozen, difference
from gluvo.dsp.notes import hz_of, hz_of_note, note_of
from gluvo.measure.figures import figures_of
from gluvo.measure.resonances import resonances
from gluvo.measure.spectrum import octaves, tone_of
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.steps import Band, MidSideEq, Saturation, Step, Width, settings_of

from .conftest import RATE, hold, material, music, noise, one, sine


def power(x: np.ndarray) -> float:
    return float(np.mean(x.astype(np.float64) ** 2))


STEADY = np.tile(music(3.0)[RATE:], (6, 1)) + noise(12.0, 0.02)
PART = {
    "stereo": lambda x: x,
    "mid": lambda x: (x[:, 0] + x[:, 1]) / 2,
    "side": lambda x: (x[:, 0] - x[:, 1]) / 2,
    "left": lambda x: x[:, 0],
    "right": lambda x: x[:, 1],
}


@pytest.mark.parametrize("target", list(PART))
@pytest.mark.parametrize(
    "settings",
    [{"gain": -9.0, "freq": 120.0}, {"shape": "low_cut", "freq": 200.0, "slope": 24}, {"gain": 4.0, "q": 0.4}],
)
def test_the_cost_of_a_band_is_what_it_does_to_the_energy(target: str, settings: dict[str, object]) -> None:
    """Measured on the sound itself, with the other bands at work."""
    x = STEADY
    band = Band(id=2, target=target, **settings)
    step = MidSideEq(bands=(Band(id=1, freq=500.0, gain=3.0), band))
    found = cost(step, band, tone_of(x, RATE), RATE)
    with_it, without = run_chain([step], x, RATE), run_chain([step.without_band(2)], x, RATE)
    change = 10 * np.log10(power(PART[target](with_it)) / power(PART[target](without)))
    assert found.change == pytest.approx(change, abs=0.1)
    taken = (power(with_it) - power(without)) / power(x)
    assert found.share == pytest.approx(taken, abs=0.01)


def test_a_band_that_is_off_or_flat_costs_nothing() -> None:
    tone = tone_of(music(3.0), RATE)
    step = MidSideEq(bands=(Band(id=1, gain=6.0, on=False), Band(id=2)))
    assert all(cost(step, band, tone, RATE).change == pytest.approx(0.0, abs=1e-9) for band in step.bands)
    silent = cost(
        MidSideEq(bands=(Band(id=1, gain=6.0),)), Band(id=1, gain=6.0), tone_of(np.zeros((RATE, 2)), RATE), RATE
    )
    assert silent.change == 0.0 and silent.share == 0.0


def test_a_low_cut_tells_which_note_it_hurts() -> None:
    bass = sum(sine(f, 6.0, -18.0 - 4 * n) for n, f in enumerate((41.2, 82.4, 123.6, 164.8)))
    x = bass + noise(6.0, 1e-4)
    tone = tone_of(x, RATE)
    assert note_of(lowest_played(tone, "stereo")) == "E1"
    gentle, harsh = (Band(id=1, shape="low_cut", freq=f, slope=24, q=0.71) for f in (25.0, 45.0))
    for band, hurts in ((gentle, False), (harsh, True)):
        step = MidSideEq(bands=(band,))
        found = low_cut_cost(step, band, tone, tone, RATE)
        assert bool(found.lowest_hurt) is hurts and found.lowest_hurt in ("", "E1")
        h = float(-20 * np.log10(np.abs(band.response(np.array([41.203]), RATE))[0]))
        assert found.note_loss == pytest.approx(h, abs=0.01) and "E1" in found.describe()
        edge = 20 * np.log10(
            np.abs(band.response(np.array([found.loses_below, found.loses_below * 2 ** (1 / 12)]), RATE))
        )
        assert edge[0] < -1.0 <= edge[1]
        lost = 10 * np.log10(power(run_chain([step], x, RATE)) / power(x))
        assert found.song == pytest.approx(lost, abs=0.1) and found.section == found.song


def test_movements_are_those_of_the_static_curve() -> None:
    """A steady tone 20 dB over the threshold at a ratio of 2 would sink by 10 dB; the range allows 6."""
    x = np.concatenate([sine(1000, 3.0, -20.0), sine(1000, 3.0, -80.0)])
    band = Band(id=5, freq=1000.0, dynamic=True, threshold=-40.0, ratio=2.0, range=6.0, attack=1.0, release=20.0)
    found = movements(MidSideEq(bands=(band, Band(id=1, gain=3.0))), x, RATE)
    assert set(found) == {5} and found[5].most == pytest.approx(-6.0, abs=0.05)
    assert found[5].share == pytest.approx(0.5, abs=0.02)
    assert movements(MidSideEq(bands=(Band(id=1, gain=3.0),)), x, RATE) == {}


# --- resonances --------------------------------------------------------------------------------------------


def test_a_ringing_tone_is_found_where_it_is() -> None:
    x = noise(8.0, 0.05)
    ring = sine(1230, 8.0, -36.0)
    for part, sign in (("mid", 1.0), ("side", -1.0)):
        found = resonances(x + ring * np.array([1.0, sign]), RATE, part)
        assert len(found) == 1 and found[0].freq == pytest.approx(1230, rel=0.01)
        assert found[0].steady > 0.95 and found[0].prominence > 6.0 and found[0].part == part
        assert resonances(x, RATE, part) == ()


def test_prominence_is_how_far_a_build_up_stands_out() -> None:
    """A bell of known height on noise."""
    for gain in (6.0, 10.0):
        x = run_chain([MidSideEq(bands=(Band(id=1, freq=800.0, gain=gain, q=5.0),))], noise(10.0, 0.05), RATE)
        best = resonances(x, RATE, "mid")[0]
        assert best.freq == pytest.approx(800.0, rel=0.06) and 0.65 * gain < best.prominence < 1.1 * gain


def test_what_comes_and_goes_is_no_resonance() -> None:
    x = noise(8.0, 0.05)
    tone = sine(1230, 8.0, -20.0)
    tone[round(2.4 * RATE) :] = 0.0  # 30 % of the time
    assert resonances(x + tone, RATE, "mid") == ()
    assert resonances(np.zeros((RATE, 2)), RATE, "mid") == ()


def test_its_cut_takes_it_down() -> None:
    x = noise(8.0, 0.05) + sine(1230, 8.0, -36.0)
    found = resonances(x, RATE, "mid")[0]
    band = cut_for(found)
    assert band.target == "mid" and band.gain < 0.0
    step, _ = MidSideEq().with_new_band(band)
    after = resonances(run_chain([step], x, RATE), RATE, "mid")
    assert not after or after[0].prominence < found.prominence - 2.0


def test_a_cut_after_a_hunt_is_wider_than_the_bell() -> None:
    band = cut_found("side", 4512.3, 3.0, 8.0)
    assert (band.target, band.gain, band.q, band.freq) == ("side", -3.0, 4.0, 4512.0)


# --- notes -------------------------------------------------------------------------------------------------


@given(st.integers(16, 119))
def test_notes_are_read_as_they_are_written(number: int) -> None:
    hz = hz_of_note(number)
    assert hz_of(note_of(hz)) == pytest.approx(hz)
    assert settings_of(Band)["freq"].read(note_of(hz)) == pytest.approx(min(20_000.0, hz))


def test_notes_with_flats_and_cents() -> None:
    assert hz_of("Bb3") == pytest.approx(hz_of("A#3")) and hz_of("a4 +100") == pytest.approx(hz_of("A#4"))
    assert hz_of("H2") is None and hz_of("440") is None and settings_of(Band)["freq"].read("2k") == 2000.0
    assert settings_of(Band)["gain"].read("A4") is None  # a gain is no note


# --- held outputs ------------------------------------------------------------------------------------------

HELD: list[Step] = [
    MidSideEq(
        id="s", hold_loudness=True, bands=(Band(id=1, freq=150.0, gain=9.0), Band(id=2, target="side", gain=-6.0))
    ),
    MidSideEq(id="s", hold_loudness=True, phase="linear", bands=(Band(id=1, shape="high_cut", freq=900.0, slope=24),)),
    Saturation(id="s", shape="dense", drive=6.0),
    Saturation(id="s", shape="warm", drive=20.0, low=60.0, mix=60.0),
    Width(id="s", hold_loudness=True, width_1=180.0),
    Width(id="s", hold_loudness=True, width_1=0.0, mono_below=300.0),
]


@pytest.mark.parametrize("step", HELD)
def test_a_held_output_keeps_the_section_as_loud(step: Step) -> None:
    x = music(8.0) + noise(8.0, 0.03)
    span = Span(3.0, 7.5)
    renderer = Renderer(material(x))
    held = hold(renderer, one([step], step="s"), span)
    found = held.step("s")
    assert found is not None and found != step
    cut = x.astype(np.float32)
    after = run_chain([found], cut, RATE)
    frames = span.frames(RATE, len(x))
    was, now = (figures_of(trace_of(sound[frames], RATE)).integrated for sound in (cut, after))
    assert now == pytest.approx(was, abs=0.1)
    assert hold(renderer, held, span) == held  # it has come to rest


def test_silence_is_held_at_nothing() -> None:
    session = one([Saturation(id="s", drive=12.0)], step="s")
    assert hold(Renderer(material(np.zeros((2 * RATE, 2)))), session, None) == session


# --- spectra -----------------------------------------------------------------------------------------------


def test_spectra_are_compared_at_equal_loudness() -> None:
    x = noise(10.0, 0.05)
    louder = run_chain([MidSideEq(bands=(Band(id=1, freq=1000.0, gain=6.0, q=0.7),), output=-9.0)], x, RATE)
    frozen = [
        Frozen(n, tone_of(s, RATE), figures_of(trace_of(s, RATE)).integrated) for n, s in (("b", louder), ("a", x))
    ]
    centres = octaves(RATE, 100.0, 3)
    found = difference(frozen[0], frozen[1], "mid", 3, centres)
    assert centres[int(np.argmax(found))] == pytest.approx(1000.0, rel=0.15)
    assert found.max() - found.min() == pytest.approx(6.0, abs=0.4)
    assert np.abs(difference(frozen[0], frozen[0], "side", 6, centres)).max() == 0.0


# --- twins -------------------------------------------------------------------------------------------------


def test_a_doubled_band_sounds_as_the_stereo_one_did() -> None:
    x = music(2.0)
    step = MidSideEq(bands=(Band(id=1, freq=700.0, gain=5.0),))
    doubled, made = step.with_twin(1)
    assert [b.target for b in doubled.bands] == ["mid", "side"] and doubled.bands[0].twin == made.id
    assert np.abs(run_chain([doubled], x, RATE) - run_chain([step], x, RATE)).max() < 1e-9


def test_twins_follow_each_other_until_unlinked() -> None:
    step, made = MidSideEq(bands=(Band(id=1, target="mid", freq=700.0),)).with_twin(1)
    step = step.with_edit(made.id, gain=-4.0, freq=900.0)
    assert [(b.target, b.gain, b.freq) for b in step.bands] == [("mid", -4.0, 900.0), ("side", -4.0, 900.0)]
    alone = step.without_twin(1).with_edit(1, gain=2.0)
    assert [b.gain for b in alone.bands] == [2.0, -4.0] and all(b.twin == 0 for b in alone.bands)
    left = step.without_band(made.id)
    assert len(left.bands) == 1 and left.bands[0].twin == 0
    assert msgspec.json.decode(msgspec.json.encode(step), type=MidSideEq) == step


@pytest.mark.parametrize(("cut", "gain", "name"), [(3.0, -3.0, "Cut"), (-4.0, 4.0, "Boost")])
def test_a_hunt_leaves_a_cut_or_a_boost(cut: float, gain: float, name: str) -> None:
    made = cut_found("mid", 700.0, cut, 8.0)
    assert made.gain == gain and made.q == 4.0 and made.target == "mid", name
