"""Mid-side EQ against analogue prototypes, closed forms and an independent library."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from scipy import signal

from gluvo.dsp.convolution import PARTITION, Convolver
from gluvo.render.chain import run_chain
from gluvo.steps import Band, MidSideEq
from gluvo.steps.bands import SHAPES, SLOPES, WITH_GAIN
from gluvo.steps.mid_side_eq import MOST_BANDS

from .conftest import RATE, music, noise, sine

FREQS = np.geomspace(10.0, 20_000.0, 800)
ENDS = np.array([25.0, 90.0, 400.0, 1500.0, 4000.0, 8000.0, 12_000.0, 16_000.0, 19_500.0])


def db(x: np.ndarray) -> np.ndarray:
    return np.asarray(20 * np.log10(np.maximum(np.abs(x), 1e-9)))


def off(band: Band, rate: int = 44_100, deepest: float = -50.0) -> float:
    """How far a band lies off its prototype at most, dB, where the prototype is not below `deepest`."""
    got, wanted = db(band.response(FREQS, rate)), db(band.prototype_response(FREQS))
    return float(np.abs(got - wanted)[wanted > deepest].max())


@pytest.mark.sampled(5)
@pytest.mark.parametrize("freq", ENDS)
@pytest.mark.parametrize("shape", ["bell", "low_shelf", "high_shelf", "tilt"])
def test_gains_follow_the_analogue_prototype(shape: str, freq: float) -> None:
    """Within 0.3 dB to 20 kHz at 44.1 kHz for gains to ±12 dB and Q to 10; within 1 dB beyond."""
    for gain in (-12.0, -3.0, 1.0, 6.0, 12.0):
        for q in (0.1, 0.4, 0.71, 1.5, 4.0, 10.0) if shape == "bell" else (0.5, 0.71, 1.5):
            assert off(Band(shape=shape, freq=freq, gain=gain, q=q)) < 0.3, (gain, q)
    for gain in (-24.0, 24.0):
        for q in (0.1, 1.0, 40.0) if shape == "bell" else (0.4, 2.0):
            assert off(Band(shape=shape, freq=freq, gain=gain, q=q)) < 1.0, (gain, q)


@pytest.mark.parametrize("slope", [int(s) for s, _ in SLOPES])
def test_slopes_are_what_they_say(slope: int) -> None:
    for shape, at, far in (("low_cut", 1000.0, 125.0), ("high_cut", 250.0, 2000.0)):
        band = Band(shape=shape, freq=at, slope=slope, q=0.71)
        corner, down = db(band.prototype_response(np.array([at, far])))
        assert corner == pytest.approx(-3.0, abs=0.15)
        assert down == pytest.approx(max(-180.0, -3 * slope), abs=0.6)
    for freq in (40.0, 1000.0, 12_000.0):
        for shape in ("low_cut", "high_cut"):
            assert off(Band(shape=shape, freq=freq, slope=slope, q=0.71)) < (0.5 if slope <= 24 else 1.2)
    shelf = db(
        Band(shape="low_shelf", freq=500.0, gain=8.0, slope=slope, q=0.71).response(np.array([1.0, 500.0]), RATE)
    )
    assert shelf == pytest.approx([8.0, 4.0], abs=0.1)


@pytest.mark.sampled(3)
@pytest.mark.parametrize("freq", [1000.0, 4000.0, 8000.0, 10_000.0, 13_000.0, 16_000.0, 20_000.0])
def test_what_ends_near_the_top_follows_it_at_the_lowest_rate(freq: float) -> None:
    """At 44.1 kHz, where Nyquist's frequency is near, down to −40 dB."""
    for q in (0.3, 0.5, 0.71, 1.0, 2.0, 4.0, 12.0, 40.0):
        assert off(Band(shape="notch", freq=freq, q=q), deepest=-40.0) < 0.37, q
        assert off(Band(shape="band_pass", freq=freq, q=q), deepest=-40.0) < (0.32 if q <= 4.0 else 0.5), q
    for q in (0.3, 0.71, 1.0, 2.0):
        for slope in (6, 12, 24, 48):
            assert off(Band(shape="high_cut", freq=freq, q=q, slope=slope), deepest=-40.0) < (
                0.31 if slope <= 24 else 0.36
            ), (q, slope)


@pytest.mark.parametrize("rate", [48_000, 96_000, 192_000])
def test_other_rates_follow_it_too(rate: int) -> None:
    for shape in ("bell", "high_shelf", "notch", "band_pass", "high_cut"):
        for freq in (30.0, 2000.0, 15_000.0):
            assert off(Band(shape=shape, freq=freq, gain=9.0, q=1.4), rate, -30.0) < 0.3


def test_a_notch_takes_its_place_out_and_a_band_pass_leaves_only_it() -> None:
    at = np.array([100.0, 700.0, 5000.0])
    notch = db(Band(shape="notch", freq=700.0, q=2.0).response(at, RATE))
    only = db(Band(shape="band_pass", freq=700.0, q=2.0).response(at, RATE))
    assert notch[1] < -100 and np.all(notch[[0, 2]] > -0.5)
    assert only[1] == pytest.approx(0.0, abs=0.15) and np.all(only[[0, 2]] < -20)


@pytest.mark.parametrize("shape", [s for s, _ in SHAPES])
def test_sections_are_stable_and_minimum_phase(shape: str) -> None:
    for freq in ENDS:
        for q in (0.1, 1.0, 40.0):
            for section in Band(shape=shape, freq=freq, gain=-18.0, q=q, slope=48).sections(44_100):
                assert np.all(np.abs(np.roots(section[3:])) < 1.0)
                assert np.all(np.abs(np.roots(np.trim_zeros(section[:3]))) < 1.0 + 1e-9)


def test_the_sound_is_filtered_as_the_sections_say() -> None:
    """Beside scipy."""
    bands = (
        Band(id=1, freq=120.0, gain=5.0),
        Band(id=2, freq=3000.0, gain=-7.0, q=3.0),
        Band(id=3, shape="low_cut", freq=30.0, slope=36, q=0.71),
    )
    x = noise(0.5)
    sos = np.concatenate([band.sections(RATE) for band in bands])
    assert np.abs(run_chain([MidSideEq(bands=bands)], x, RATE) - signal.sosfilt(sos, x, axis=0)).max() < 1e-11


@pytest.mark.parametrize(
    ("target", "mix"),
    [("stereo", (1, 1)), ("mid", (1, 0)), ("side", (0, 1)), ("left", None), ("right", None)],
)
def test_each_target_gets_its_own_part(target: str, mix: tuple[int, int] | None) -> None:
    x = noise(0.5)
    band = Band(id=1, freq=1000.0, gain=9.0, target=target)
    y, through = run_chain([MidSideEq(bands=(band,))], x, RATE), signal.sosfilt(band.sections(RATE), x, axis=0)
    if mix is None:
        wanted = x.copy()
        wanted[:, int(target == "right")] = through[:, int(target == "right")]
    else:
        (m, s), (fm, fs) = ((v @ [0.5, 0.5], v @ [0.5, -0.5]) for v in (x, through))
        mid, side = fm if mix[0] else m, fs if mix[1] else s
        wanted = np.stack([mid + side, mid - side], axis=1)
    assert np.abs(y - wanted).max() < 1e-11


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_targets_go_together(phase: str) -> None:
    """Mid and side first, then left and right: as two steps in a row would."""
    sides = (Band(id=1, freq=300.0, gain=4.0, target="mid"), Band(id=2, freq=5000.0, gain=-4.0, target="side"))
    channels = (Band(id=3, freq=900.0, gain=6.0, target="left"), Band(id=4, freq=2000.0, gain=-6.0, target="right"))
    x = noise(1.5)
    both = run_chain([MidSideEq(bands=(*channels, *sides), phase=phase)], x, RATE)
    row = run_chain([MidSideEq(bands=b, phase=phase) for b in (sides, channels)], x, RATE)
    assert np.abs(both - row)[: -RATE // 2].max() < 2e-4


def test_strength_scales_all_gains() -> None:
    eq = MidSideEq(
        bands=(Band(id=1, freq=200.0, gain=-4.0), Band(id=2, shape="high_shelf", freq=6000.0, gain=2.0, q=0.71))
    )
    at = np.array([200.0, 18_000.0])
    for strength in (0.0, 50.0, 200.0):
        level = db(msgspec.structs.replace(eq, strength=strength).response(("stereo",), at, RATE))
        assert level == pytest.approx([-4.0 * strength / 100, 2.0 * strength / 100], abs=0.15)
    x = music(0.5)
    assert np.array_equal(run_chain([msgspec.structs.replace(eq, strength=0.0)], x, RATE), x)


def test_bands_that_do_nothing_leave_the_bits_alone() -> None:
    x = noise(0.2)
    bands = tuple(Band(id=n, shape=s) for n, s in enumerate(WITH_GAIN, 1))
    off_band = Band(id=9, freq=100.0, gain=6.0, on=False, target="side")
    for phase in ("minimum", "linear"):
        eq = MidSideEq(bands=(*bands, off_band), phase=phase)
        assert np.array_equal(run_chain([eq], x, RATE), x) and eq.make(RATE).latency == 0


def test_there_is_room_for_24_bands() -> None:
    bands = tuple(
        Band(id=n, freq=50.0 * n, gain=1.0, target="mid" if n % 2 else "side") for n in range(1, MOST_BANDS + 1)
    )
    assert np.isfinite(run_chain([MidSideEq(bands=bands)], noise(0.1), RATE)).all()
    with pytest.raises(msgspec.ValidationError):
        msgspec.convert(msgspec.to_builtins(MidSideEq(bands=(*bands, Band(id=25)))), MidSideEq)


# --- linear phase ------------------------------------------------------------------------------------------

CURVES = [
    (Band(id=1, freq=60.0, gain=-6.0, q=1.4), Band(id=2, freq=3000.0, gain=4.0, q=2.0)),
    (
        Band(id=1, shape="low_cut", freq=30.0, slope=24, q=0.71),
        Band(id=2, shape="high_shelf", freq=9000.0, gain=5.0, q=0.71),
    ),
    (Band(id=1, freq=100.0, gain=12.0, q=8.0), Band(id=2, shape="tilt", freq=800.0, gain=2.0)),
    (
        Band(id=1, shape="low_cut", freq=80.0, slope=48, q=0.71),
        Band(id=2, shape="high_cut", freq=12_000.0, slope=24, q=0.71),
    ),
]


@pytest.mark.parametrize("bands", CURVES)
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_linear_phase_is_symmetric_and_has_the_curve(bands: tuple[Band, ...], rate: int) -> None:
    """Within 0.05 dB above 30 Hz, symmetric to 1e-9, and as late as it says."""
    eq = MidSideEq(bands=bands, phase="linear")
    late, told = eq.lateness(rate)
    processor = eq.make(rate)
    assert processor.latency == late > PARTITION and told < 0.05
    pulse = np.zeros((3 * late, 2))
    pulse[0] = 1.0
    out = np.zeros_like(pulse)
    for at in range(0, len(pulse), 4096):
        processor.process(pulse[at : at + 4096], out[at : at + 4096])
    reach = late - PARTITION
    taps = out[late - reach : late + reach + 1, 0]
    assert np.abs(taps - taps[::-1]).max() < 1e-9 and np.abs(out[: late - reach]).max() < 1e-12
    size = 2**19
    got = np.fft.rfft(np.roll(np.pad(taps, (0, size - len(taps))), -reach))
    freqs = np.fft.rfftfreq(size, 1.0 / rate)
    inside = (freqs >= 30) & (freqs <= 20_000)
    wanted = db(eq.response(("stereo",), freqs[inside], rate))
    assert np.abs(db(got[inside]) - wanted)[wanted > -60].max() < 0.05
    assert np.abs(got.imag).max() < 1e-9  # no phase at all


def test_linear_phase_beside_a_library() -> None:
    eq = MidSideEq(bands=CURVES[0], phase="linear")
    late, _ = eq.lateness(RATE)
    processor, x = eq.make(RATE), noise(1.0)
    pulse = np.zeros((2 * late, 2))
    pulse[0] = 1.0
    taps = np.concatenate([_block(processor, pulse[at : at + 4096]) for at in range(0, len(pulse), 4096)])[:, 0]
    wanted = signal.fftconvolve(x[:, 0], taps)[late : late + len(x)]
    assert np.abs(run_chain([eq], x, RATE)[:, 0] - wanted).max() < 1e-10


def _block(processor: object, x: np.ndarray) -> np.ndarray:
    out = np.zeros_like(x)
    processor.process(x, out)  # type: ignore[attr-defined]
    return out


def test_convolution_takes_a_matrix() -> None:
    random = np.random.default_rng(1)
    a, b = random.standard_normal((2, 3000))
    unit, x = Convolver([[a, b], [None, a]]), noise(0.3)
    out = np.zeros_like(x)
    for at in range(0, len(x), 777):
        unit.run(x[at : at + 777], out[at : at + 777])
    left = np.convolve(x[:, 0], a) + np.convolve(x[:, 1], b)
    assert np.abs(out[PARTITION:, 0] - left[: len(x) - PARTITION]).max() < 1e-9
    assert np.abs(out[PARTITION:, 1] - np.convolve(x[:, 1], a)[: len(x) - PARTITION]).max() < 1e-9


# --- bands that move ---------------------------------------------------------------------------------------


def steady(band: Band, level: float, freq: float = 1000.0) -> float:
    """By how many dB a steady tone is changed in the end."""
    x = sine(freq, 2.0, level)
    y = run_chain([MidSideEq(bands=(band,))], x, RATE)[-RATE // 2 :]
    return float(10 * np.log10((y**2).mean() / (x[-RATE // 2 :] ** 2).mean()))


MOVING = Band(id=1, freq=1000.0, q=1.0, dynamic=True, threshold=-30.0, ratio=2.0, range=24.0, attack=1.0, release=300.0)


@pytest.mark.parametrize(("level", "moved"), [(-40.0, 0.0), (-20.0, -5.0), (-10.0, -10.0)])
def test_a_moving_bell_follows_its_curve(level: float, moved: float) -> None:
    assert steady(MOVING, level) == pytest.approx(moved, abs=0.3)
    assert steady(msgspec.structs.replace(MOVING, moves="up"), level) == pytest.approx(-moved, abs=0.3)
    assert steady(msgspec.structs.replace(MOVING, range=3.0), level) == pytest.approx(max(-3.0, moved), abs=0.1)
    shelf = msgspec.structs.replace(MOVING, shape="high_shelf", freq=100.0)
    assert steady(shelf, level, 4000.0) == pytest.approx(moved, abs=0.3)


def test_a_moving_band_hears_its_own_range_and_part_only() -> None:
    assert steady(MOVING, -6.0, 60.0) == pytest.approx(0.0, abs=0.1)
    mono = sine(1000.0, 1.0, -6.0)
    side = msgspec.structs.replace(MOVING, target="side")
    assert np.array_equal(run_chain([MidSideEq(bands=(side,))], mono, RATE), mono)


def test_a_moving_bands_times_are_what_they_say() -> None:
    band = msgspec.structs.replace(MOVING, attack=40.0, release=100.0, q=0.3)
    loud = np.where(np.arange(3 * RATE) % (3 * RATE) < RATE, 1.0, 0.001)
    x = sine(1000.0, 3.0, -6.0) * loud[:, None]
    processor = MidSideEq(bands=(band,)).make(RATE)
    moved = []
    for at in range(0, len(x), 480):
        out = np.zeros((480, 2))
        processor.process(x[at : at + 480], out)
        moved.append(processor.moved[1][:480].copy())
    curve = -np.concatenate(moved)
    top = curve[RATE - 1]
    assert np.argmax(curve > 0.63 * top) / RATE * 1000 == pytest.approx(40.0, rel=0.15)
    assert np.argmax(curve[RATE:] < 0.37 * top) / RATE * 1000 == pytest.approx(100.0, rel=0.15)


@pytest.mark.parametrize(("band_range", "strength"), [(24.0, 1e-307), (4.5e-94, 1.0), (1e-300, 200.0)])
def test_a_band_that_may_hardly_move_passes_the_sound(band_range: float, strength: float) -> None:
    band = Band(id=1, dynamic=True, range=band_range, threshold=-60.0)
    x = noise(0.2, 0.3)
    y = run_chain([MidSideEq(bands=(band,), strength=strength)], x, RATE)
    assert np.abs(y - x).max() < 1e-6
