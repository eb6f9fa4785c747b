"""What holds for every step, tested once for all that are registered."""

from __future__ import annotations

import math
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.play.engine import Engine, Monitoring
from gluvo.render.chain import Chain, run_chain
from gluvo.steps import STEP_KINDS, Band, Glue, Lane, Limiter, MidSideEq, Saturation, Step, Trim, Width, settings_of

from .conftest import RATE, material, music, noise, one, sine

ACTIVE: list[Step] = [
    Trim(gain=-3.3, invert_left=True, swap=True, remove_dc=True),
    Glue(ratio=4.0, threshold=-30.0, low_cut=120.0, low_cut_slope=24, tilt=2.0, bell_gain=4.0, auto_release=50.0),
    Glue(ratio=3.0, threshold=-28.0, rms=10.0, look_ahead=3.0, mode="mid_side", link=40.0, mix=60.0, makeup=2.0),
    Glue(limit=True, threshold=-25.0, knee=0.0, range=6.0, mode="side"),
    Glue(ratio=6.0, threshold=-32.0, low_cut=90.0, tilt=1.5, attack=2.0, feed_back=True, link=60.0),
    MidSideEq(
        bands=(
            Band(id=1, shape="low_cut", freq=30.0, slope=24, q=0.71),
            Band(id=2, freq=900.0, gain=4.0),
            Band(id=3, shape="high_shelf", freq=7000.0, gain=-3.0, q=0.71),
        ),
        output=-1.0,
    ),
    MidSideEq(
        bands=(
            Band(id=1, freq=300.0, gain=-5.0, q=2.0, target="mid"),
            Band(id=2, freq=4000.0, gain=3.0, target="side"),
            Band(id=3, freq=2500.0, gain=2.0, target="left", dynamic=True, threshold=-40.0, moves="up"),
            Band(id=4, shape="low_shelf", freq=200.0, gain=1.0, dynamic=True, threshold=-50.0, ratio=4.0),
        ),
        strength=140.0,
    ),
    MidSideEq(
        bands=(
            Band(id=1, freq=500.0, gain=4.0),
            Band(id=2, freq=3000.0, gain=-3.0, target="side"),
            Band(id=3, freq=6000.0, gain=-3.0, target="right"),
        ),
        phase="linear",
    ),
    Saturation(drive=8.0, shape="warm", tilt=2.0, low=100.0, high=8000.0, bias=20.0, side=40.0),
    Saturation(drive=2.0, shape="dense", oversampling=1, mix=50.0, output=-2.0),
    Saturation(drive=12.0, shape="edge", oversampling=8),
    Width(
        bands=4,
        width_1=0.0,
        width_2=80.0,
        width_3=130.0,
        width_4=180.0,
        balance_3=-30.0,
        crossover_1=90.0,
        crossover_2=400.0,
        crossover_3=1800.0,
    ),
    Width(mono_below=120.0, side_low_cut=200.0, width_1=140.0, output=-1.0),
    Limiter(drive=9.0, ceiling=-1.0),
    Limiter(drive=9.0, ceiling=-2.0, true_peak=False, look_ahead=0.3, attack=30.0, link=0.0, knee=3.0),
]


def named(step: Step) -> str:
    return type(step).__name__


def any_settings(kind: type[Any]) -> st.SearchStrategy[Any]:
    """Any values inside the declared ranges; up to three bands where there are bands."""
    fields: dict[str, st.SearchStrategy[Any]] = {}
    for name, s in settings_of(kind).items():
        if s.kind == "number":
            fields[name] = st.floats(s.low, s.high, allow_nan=False)
        elif s.kind == "switch":
            fields[name] = st.booleans()
        else:
            fields[name] = st.sampled_from([type(s.default)(key) for key, _ in s.options])
    if kind is MidSideEq:
        bands = st.lists(any_settings(Band), max_size=3)
        fields["bands"] = bands.map(
            lambda found: tuple(msgspec.structs.replace(b, id=n) for n, b in enumerate(found, start=1))
        )
    return st.builds(kind, **fields)


@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda k: k.__name__)
def test_neutral_is_bit_exact(kind: type[Step]) -> None:
    x = noise(0.4, 0.1)
    assert np.array_equal(run_chain([kind()], x, RATE), x)


@pytest.mark.parametrize("kind", [k for k in STEP_KINDS if "mix" in settings_of(k)], ids=lambda k: k.__name__)
def test_mix_at_nothing_is_bit_exact(kind: type[Step]) -> None:
    x = noise(0.4, 0.3)
    for step in (s for s in ACTIVE if isinstance(s, kind)):
        assert np.array_equal(run_chain([msgspec.structs.replace(step, mix=0.0)], x, RATE), x)


@pytest.mark.parametrize("step", ACTIVE, ids=named)
def test_any_split_into_blocks_is_the_same(step: Step) -> None:
    x = noise(0.5, 0.3)
    whole = np.zeros_like(x)
    chain = Chain([step], RATE)
    for at in range(0, len(x), 4096):
        chain.process(x[at : at + 4096], whole[at : at + 4096])
    for size in (1, 7, 64, 512):
        chain, out = Chain([step], RATE), np.zeros_like(x)
        length = len(x) if size > 1 else 6000
        for at in range(0, length, size):
            chain.process(x[at : min(at + size, length)], out[at : min(at + size, length)])
        assert np.abs(out[:length] - whole[:length]).max() < 1e-9


@pytest.mark.parametrize("step", [*ACTIVE, *(kind() for kind in STEP_KINDS)], ids=named)
def test_latency_is_true(step: Step) -> None:
    chain = Chain([step], RATE)
    x = noise(0.25, 0.01, seed=4)
    out = np.zeros_like(x)
    for at in range(0, len(x), 4096):
        chain.process(x[at : at + 4096], out[at : at + 4096])
    both = [
        np.abs(np.fft.irfft(np.fft.rfft(out[:, c], 32768) * np.conj(np.fft.rfft(x[:, d], 32768))))
        for c, d in ((0, 0), (0, 1))
    ]
    assert int(np.argmax(np.maximum(*both))) == chain.latency


@pytest.mark.parametrize("step", [*ACTIVE, *(kind() for kind in STEP_KINDS)], ids=named)
def test_damaged_input_does_no_lasting_harm(step: Step) -> None:
    chain = Chain([step], RATE)
    bad = noise(0.05)
    bad[100], bad[200], bad[300] = np.nan, np.inf, -np.inf
    bad[400:500] = 1e-310
    bad[600] = 1e300
    out = np.zeros_like(bad)
    chain.process(bad, out)
    assert np.isfinite(out).all()
    chain.process(np.zeros((4096, 2)), out2 := np.zeros((4096, 2)))
    for _ in range(300):
        chain.process(np.zeros((4096, 2)), out2)
    clean = noise(1.0, 0.05, seed=2)
    after = np.concatenate([_run(chain, clean)])
    fresh = _run(Chain([step], RATE), clean)
    assert np.isfinite(after).all()
    assert np.abs(after[-RATE // 4 :] - fresh[-RATE // 4 :]).max() < 1e-3


def _run(chain: Chain, x: np.ndarray) -> np.ndarray:
    out = np.zeros_like(x)
    for at in range(0, len(x), 4096):
        chain.process(x[at : at + 4096], out[at : at + 4096])
    return out


@pytest.mark.parametrize("step", [*ACTIVE, *(kind() for kind in STEP_KINDS)], ids=named)
def test_silence_stays_silence(step: Step) -> None:
    assert not run_chain([step], np.zeros((RATE // 2, 2)), RATE).any()


@pytest.mark.parametrize("step", ACTIVE, ids=named)
@pytest.mark.parametrize("rate", [44_100, 96_000, 192_000])
def test_rates_behave_alike(step: Step, rate: int) -> None:
    def level(r: int) -> float:
        y = run_chain([step], sine(500, 1.2, -8.0, r) * np.array([1.0, 0.4]), r)
        return float(20 * np.log10(np.sqrt((y[r // 2 : r] ** 2).mean())))

    assert level(rate) == pytest.approx(level(48_000), abs=0.1)


@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda k: k.__name__)
def test_any_settings_are_finite_and_split_alike(kind: type[Step]) -> None:
    x = noise(0.09, 0.5)

    @settings(max_examples=25, deadline=None)
    @given(step=any_settings(kind), size=st.sampled_from([13, 333, 1024]))
    def check(step: Step, size: int) -> None:
        whole = _run(Chain([step], RATE), x)
        chain, out = Chain([step], RATE), np.zeros_like(x)
        for at in range(0, len(x), size):
            chain.process(x[at : at + size], out[at : at + size])
        assert np.isfinite(out).all()
        assert np.abs(out - whole).max() <= 1e-9 * max(1.0, np.abs(whole).max())

    check()


@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda k: k.__name__)
def test_a_changed_setting_never_clicks(kind: type[Step]) -> None:
    """Each setting jumps across its range under a steady tone: no step between samples is larger than those of the
    sounds before and after it, and what a 20 ms ramp of the whole change would add."""
    tone = sine(200, 1.2, -12.0).astype(np.float32)
    base = next((s for s in ACTIVE if isinstance(s, kind)), kind.examples()[-1])
    slope = 2 * np.pi * 200 / RATE
    for name, s in settings_of(kind).items():
        if s.kind != "number" or s.group == "Aim":
            continue
        for value in (s.low, s.high):
            other = msgspec.structs.replace(base, **{name: value})
            engine = Engine(material(tone), {}, one([msgspec.structs.replace(base, id="a")]))
            engine.listen(Monitoring())
            engine.play()
            out = np.zeros((RATE // 2, 2))
            for n, at in enumerate(range(0, len(out) - 512, 512)):
                if n == 20:
                    engine.change(one([msgspec.structs.replace(other, id="a")]))
                engine.pull(out[at : at + 512])
            step = np.abs(np.diff(out[4096:-1024, 0])).max()
            top = np.abs(out[4096:-1024]).max()
            steady = max(np.abs(np.diff(part)).max() for part in (out[4096:9000, 0], out[-6000:-1024, 0]))
            assert step <= max(top * slope * 1.6, 1.05 * steady) + 2 * top / (0.020 * RATE), (name, value)


def test_settings_are_declared_whole() -> None:
    for kind in STEP_KINDS:
        assert kind.title and kind.summary
        for s in settings_of(kind).values():
            assert s.label and s.tip.endswith(".") and s.group, s.name
            if s.kind == "number":
                assert s.low <= s.default <= s.high
                for position in (0.0, 0.25, 0.5, 1.0):
                    assert s.to_position(s.to_value(position)) == pytest.approx(position, abs=1e-6)
                assert s.read(s.show(s.default)) == pytest.approx(s.default, abs=s.fine)


@pytest.mark.parametrize(
    ("setting", "text", "value"),
    [
        ("attack", "1.5 s", 300.0),
        ("attack", "12,5", 12.5),
        ("bell_freq", "2k", 2000.0),
        ("bell_freq", "2.5 kHz", 2500.0),
        ("threshold", "−18.5 dBFS", -18.5),
        ("threshold", "-99", -60.0),
        ("release", "0.2s", 200.0),
    ],
)
def test_typed_values_are_understood(setting: str, text: str, value: float) -> None:
    assert settings_of(Glue)[setting].read(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "loud", "1..2", "nan", "inf"])
def test_what_is_no_number_is_refused(text: str) -> None:
    assert settings_of(Glue)["threshold"].read(text) is None


def test_trim_does_what_it_says() -> None:
    x = music(1.0)
    y = run_chain([Trim(gain=-6.0, invert_right=True, swap=True)], x, RATE)
    gain = 10 ** (-6 / 20)
    assert y[:, 0] == pytest.approx(x[:, 1] * gain) and y[:, 1] == pytest.approx(-x[:, 0] * gain)
    offset = run_chain([Trim(remove_dc=True)], sine(300, 4.0, -10) + 0.2, RATE)
    assert abs(offset[-RATE:].mean()) < 1e-4
    assert math.isclose(np.abs(offset[-RATE:]).max(), 10 ** (-10 / 20), rel_tol=0.01)


def test_faders_have_a_place_for_nothing() -> None:
    level = settings_of(Lane)["level"]
    assert level.show(level.low) == "−∞" and level.show(-14.0) == "−14.0" and level.show(3.0) == "+3.0"
    for text in ("off", "-inf", "−∞ dB", "-80"):
        assert level.read(text) == level.low
    assert settings_of(Glue)["threshold"].read("off") is None
    assert Lane().gain == 0.0 and Lane(level=0.0).gain == 1.0 and Lane(level=0.0, mute=True).gain == 0.0


def test_a_lane_passes_what_comes_and_adds_its_own() -> None:
    x, side = noise(0.1), noise(0.1, seed=5)
    processor, out = Lane(level=-6.0, blend=-2.0).make(RATE), np.zeros_like(x[:4096])
    processor.keys = (side[:4096],)
    processor.process(x[:4096], out)
    assert out == pytest.approx((x[:4096] + 10 ** (-6 / 20) * side[:4096]) * 10 ** (-2 / 20))
    silent = Lane().make(RATE)
    silent.keys = (side[:4096],)
    silent.process(x[:4096], out)
    assert np.array_equal(out, x[:4096])


@pytest.mark.parametrize(
    ("mode", "kept"), [("stereo", (1, 1)), ("mid", (1, 0)), ("side", (0, 1)), ("mid_side", (1, 1))]
)
def test_the_detectors_ear_hears_what_the_detector_hears(mode: str, kept: tuple[int, int]) -> None:
    """Filtered, and without the part of the stereo signal that is not listened to."""
    x = sine(1000, 0.5, -12) * np.array([1.0, 0.3]) + sine(40, 0.5, -12)
    ear, out = Glue(mode=mode, low_cut=300.0, low_cut_slope=24).ear(RATE), np.zeros_like(x)
    for at in range(0, len(x), 4096):
        ear.process(x[at : at + 4096], out[at : at + 4096])
    tail, alone = out[RATE // 4 :], (sine(1000, 0.5, -12) * np.array([1.0, 0.3]))[RATE // 4 :]
    mid, side = ((tail[:, 0] + s * tail[:, 1]) / 2 for s in (1, -1))
    wanted = [np.abs((alone[:, 0] + s * alone[:, 1]) / 2).max() * k for s, k in zip((1, -1), kept, strict=True)]
    assert np.abs(mid).max() == pytest.approx(wanted[0], rel=0.03, abs=2e-3)
    assert np.abs(side).max() == pytest.approx(wanted[1], rel=0.03, abs=2e-3)
