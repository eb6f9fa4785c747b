"""What is compared: figures by band, the references' corridor, and what is said of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from gluvo.compare.corridor import corridor_of, findings
from gluvo.compare.profile import LINES, Profile, profile_of
from gluvo.measure.spectrum import Tone, tone_of
from gluvo.measure.trace import Span
from gluvo.opened.audio import joint_of
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.session.create import reference_of
from gluvo.session.media import place_of, read_material
from gluvo.session.sounds import Sound, read_sound
from gluvo.session.store import read_session
from gluvo.steps import Band, Limiter, MidSideEq

from .conftest import RATE, material, noise, one, sine
from .test_tonal_match import pink


def profile(x: np.ndarray, rate: int = RATE, span: Span | None = None) -> Profile:
    return profile_of(joint_of(Sound(np.asarray(x, dtype=np.float32), rate)), span)


def line(key: str, p: Profile) -> float:
    return next(one_line for one_line in LINES if one_line.key == key).take(p)


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
def test_the_corridor_of_pink_noise_is_flat(rate: int) -> None:
    corridor = corridor_of([profile(pink(30.0, rate=rate), rate)])
    assert corridor is not None
    inside = (corridor.centres >= 40.0) & (corridor.centres <= 16_000.0)
    mean = corridor.mean[inside]
    assert np.abs(mean - mean.mean()).max() < 0.5
    assert np.all(corridor.spread == 1.0) and not corridor.outside(corridor.mean).any()


def test_a_corridor_holds_all_its_references_at_any_level() -> None:
    x = pink(8.0)
    bright = run_chain(
        [MidSideEq(id="e", bands=(Band(id=1, shape="high_shelf", freq=4000.0, gain=5.0, q=0.71),))], x, RATE
    )
    profiles = [profile(x), profile(bright * 0.25)]
    corridor = corridor_of(profiles)
    assert corridor is not None
    assert all(np.abs(corridor.outside(p.spectrum)).max() < 1e-9 for p in profiles)
    assert corridor_of([profile(x * 0.1)]).mean == pytest.approx(profile(x).spectrum, abs=1e-3)
    assert corridor_of([]) is None and corridor_of([profile(np.zeros((RATE, 2)))]) is None


def test_figures_by_band_are_those_of_what_was_made() -> None:
    ramp = np.minimum(1.0, np.minimum(np.arange(4 * RATE), np.arange(4 * RATE)[::-1]) / (0.5 * RATE))[:, None]
    low, high = sine(60.0, 4.0, -12.0) * ramp, sine(6000.0, 4.0, -20.0) * ramp  # no click at their ends
    p = profile(low + high * [1.0, -1.0])
    assert line("crest_low", p) == pytest.approx(3.7, abs=0.2) and line("crest_high", p) == pytest.approx(3.7, abs=0.2)
    assert line("width_low", p) < -40.0 and line("width_high", p) > 40.0
    assert line("low_correlation", p) == pytest.approx(1.0, abs=0.01)
    assert line("low_correlation", profile(low * [1.0, -1.0])) == pytest.approx(-1.0, abs=0.01)
    assert line("tilt", profile(pink(20.0))) == pytest.approx(-3.0, abs=0.1)
    assert line("tilt", profile(noise(20.0))) == pytest.approx(0.0, abs=0.1)
    clicks = np.zeros((4 * RATE, 2))
    for n in range(16):
        clicks[n * RATE // 4 + 500 : n * RATE // 4 + 700] = 0.5
    assert line("density", profile(clicks)) == pytest.approx(4.0, abs=0.3)


def test_silence_and_shreds_have_no_figures_but_no_fault() -> None:
    for x in (np.zeros((RATE, 2)), noise(0.05), np.zeros((0, 2))):
        p = profile(x)
        for one_line in LINES:
            assert isinstance(one_line.show(one_line.take(p)), str)
        assert np.all(np.isfinite(p.spectrum)) and np.all(np.isfinite(p.spread))


def test_a_fault_is_found_with_its_bus() -> None:
    reference = pink(10.0)
    bump = MidSideEq(id="e", bands=(Band(id=1, freq=250.0, gain=6.0, q=2.0), Band(id=2, freq=5000.0, gain=-5.0, q=1.5)))
    result = profile(run_chain([bump], pink(10.0, seed=2), RATE))
    buses: dict[str, tuple[str, Tone]] = {
        "low": ("Low", tone_of(sine(250.0, 4.0, -6.0), RATE)),
        "air": ("Air", tone_of(sine(5000.0, 4.0, -6.0), RATE)),
    }
    found = findings(result, {"Pier": profile(reference)}, buses)
    over = next(f for f in found if "over the corridor" in f.text)
    under = next(f for f in found if "under the corridor" in f.text)
    assert over.freq == pytest.approx(250.0, rel=0.15) and over.bus == "low" and "Low" in over.text
    assert under.freq == pytest.approx(5000.0, rel=0.2) and under.bus == "air"
    same = findings(profile(reference), {"Pier": profile(pink(10.0))}, buses)
    assert all(f.severity == 0.0 for f in same) and any("within the corridor" in f.text for f in same)
    assert findings(result, {}, buses) == () and findings(profile(np.zeros((RATE, 2))), {"P": result}, buses) == ()


@pytest.mark.thorough
def test_the_demos_faults_are_told_against_its_references(demo: Path) -> None:
    session = read_session(demo).session
    renderer = Renderer(read_material(session, demo.parent))
    section = session.section(session.view.section)
    assert section is not None
    span = Span(section.start, section.end)
    plan = renderer.plan(session)
    references = {}
    for r in session.references:
        own = next(r.section(p.own) for p in r.pairs if p.section == section.id)
        assert own is not None
        joint = joint_of(read_sound(place_of(r.media, demo.parent), renderer.rate))
        references[r.name] = profile_of(joint, Span(own.start, own.end))
    buses = {
        s.id: (s.name, renderer.joint(plan.flowing(s.id), span).tone(span)) for s in session.strips if s.into == "mix"
    }
    untouched = findings(profile_of(renderer.joint(plan.untouched, span), span), references, buses)
    built_up = next(f for f in untouched if 180.0 <= f.freq <= 300.0)  # where three players meet
    assert "over the corridor" in built_up.text and built_up.bus == "mallets"
    assert any("wider in the lows" in f.text for f in untouched)  # what arrives turned over


# --- in time -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [44_100, 88_200, 96_000, 192_000])
def test_references_at_other_rates_lie_in_time(rate: int, tmp_path: Path) -> None:
    x = np.zeros((rate * 3, 2))
    x[rate] = 0.5  # an impulse after a second
    soundfile.write(tmp_path / "r.wav", x, rate, "PCM_24")
    sound = read_sound(tmp_path / "r.wav", RATE)
    assert int(np.argmax(np.abs(sound.samples[:, 0]))) == RATE and len(sound.samples) == 3 * RATE
    assert reference_of(tmp_path / "r.wav", tmp_path).sections


def test_a_version_is_heard_in_time_through_any_latency() -> None:
    x = np.zeros((RATE, 2))
    x[20_000] = 0.25
    x += noise(1.0, 1e-6)
    chain = [
        MidSideEq(id="e", phase="linear", bands=(Band(id=1, gain=0.5),)),
        Limiter(id="l", drive=1.0, look_ahead=5.0),
    ]
    renderer = Renderer(material(x))
    result = renderer.joint(renderer.plan(one(chain)).result).audio
    assert int(np.argmax(np.abs(result[:, 0]))) == 20_000


# --- what is heard of a difference ----------------------------------------------------------------------------------------


def bell(freq: float, gain: float, q: float) -> MidSideEq:
    return MidSideEq(id="e", bands=(Band(id=1, freq=freq, gain=gain, q=q),))


def test_a_difference_counts_by_how_much_of_it_is_heard() -> None:
    """5 dB where next to nothing sounds come after 4 dB in the middle; a wide one comes before a narrow one."""
    dark = run_chain(
        [MidSideEq(id="e", bands=(Band(id=1, shape="high_cut", freq=2500.0, slope=48),))], pink(10.0), RATE
    )
    made = run_chain(
        [bell(9000.0, 6.0, 1.0), MidSideEq(id="f", bands=(Band(id=1, freq=700.0, gain=4.0, q=1.0),))], dark, RATE
    )
    first, *_ = findings(profile(made), {"Ref": profile(dark)}, {})
    assert 600.0 < first.freq < 800.0
    x = pink(10.0)
    both = run_chain(
        [bell(300.0, 4.0, 8.0), MidSideEq(id="f", bands=(Band(id=1, freq=3000.0, gain=3.9, q=0.7),))], x, RATE
    )
    first, *_ = findings(profile(both), {"Ref": profile(x)}, {})
    assert first.freq > 2000.0


@pytest.mark.parametrize("kind", [("x.mp3", "MP3", "MPEG_LAYER_III")])
def test_a_lossy_reference_is_told_and_not_judged_above_its_cut(kind: tuple[str, str, str], tmp_path: Path) -> None:
    name, container, codec = kind
    x = pink(10.0) * 0.5
    with soundfile.SoundFile(
        tmp_path / name, "w", RATE, 2, format=container, subtype=codec, compression_level=0.5
    ) as file:
        file.write(x)
    lossy, whole = profile(soundfile.read(tmp_path / name)[0]), profile(x)
    assert whole.cut is None and lossy.cut is not None and 12_000.0 < lossy.cut < 20_000.0
    told = findings(whole, {"Sent by mail": lossy}, {})
    assert any("lossy codec" in f.text and "Sent by mail" in f.text for f in told)
    assert not any(f.freq > 10_000.0 for f in told)
    corridor = corridor_of([lossy])
    assert corridor is not None and corridor.centres[-1] < lossy.cut
    with_another = corridor_of([lossy, whole])
    assert with_another is not None and with_another.centres[-1] > 19_000.0
    dull = run_chain([MidSideEq(id="e", bands=(Band(id=1, shape="high_cut", freq=8000.0, slope=24),))], x, RATE)
    assert profile(dull).cut is None and profile(np.zeros((RATE, 2))).cut is None


def test_of_a_single_file_nothing_is_said_to_come_from_it() -> None:
    x = pink(6.0)
    made = run_chain([bell(700.0, 6.0, 1.0)], x, RATE)
    tones = {"a": ("Mix.wav", tone_of(made, RATE)), "b": ("Bass", tone_of(made * 0.1, RATE))}
    for count, said in ((1, False), (2, True)):
        told = findings(profile(made), {"Ref": profile(x)}, dict(list(tones.items())[:count]))
        assert any("comes from" in f.text for f in told) is said
