"""The demo: deterministic, musical in its figures, with its faults in place, and never overwritten."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from gluvo.deliver.outboard import outboard_of, stale
from gluvo.demo.score import STEMS, ScoreSection
from gluvo.demo.session import demo_session
from gluvo.demo.song import performed
from gluvo.measure.figures import figures_of
from gluvo.measure.hits import find_onsets
from gluvo.measure.spectrum import spectrum
from gluvo.measure.stereo import stereo_bands
from gluvo.measure.trace import Span, trace_of
from gluvo.progress import no_progress
from gluvo.render.song import Renderer
from gluvo.session.media import place_of, read_material
from gluvo.session.records import Bus
from gluvo.session.sounds import read_sound
from gluvo.session.store import read_session
from gluvo.session.tree import rows
from gluvo.steps import Glue

from .conftest import hold


@pytest.mark.thorough
def test_the_song(demo: Path) -> None:
    session = read_session(demo).session
    sound = read_sound(demo.parent / "Ferry Hours (rough print).wav")
    trace = trace_of(sound.samples, sound.rate)
    whole = figures_of(trace)
    assert sound.rate == 48_000 and 70 <= sound.seconds <= 80
    assert whole.sample_peak == pytest.approx(-0.3, abs=0.01)
    assert whole.loudness_range > 5.0 and 10.0 < whole.plr < 20.0
    loud = {s.name: figures_of(trace, Span(s.start, s.end)).integrated for s in session.sections}
    assert max(loud, key=lambda k: loud[k]) == "Last chorus" and loud["Intro"] < loud["Verse 1"] < loud["Chorus 1"]
    assert session.view.loop and session.section(session.view.section).name == "Last chorus"
    section = session.section(session.view.section)
    assert section is not None
    hits = find_onsets(sound.samples[int(section.start * 48_000) : int(section.end * 48_000)], 48_000)
    assert len(hits) > 20


@pytest.mark.thorough
def test_it_is_glued_as_it_says(demo: Path) -> None:
    session = read_session(demo).session
    assert [(s.name, depth) for s, depth in rows(session) if isinstance(s, Bus)] == [
        ("Pulse", 1),
        ("Kit", 1),
        ("Mallets & reeds", 1),
        ("Voices", 1),
        ("Mix bus", 0),
    ]
    renderer = Renderer(read_material(session, demo.parent))
    section = session.section(session.view.section)
    assert section is not None
    span = Span(section.start, section.end)
    held = hold(renderer, session, span)
    for item in session.items:
        if isinstance(item, Glue):
            assert held.step(item.id).threshold == pytest.approx(item.threshold, abs=0.01)
            joint = renderer.section(session, span).joint(item.id)
            assert joint is not None and joint.reduced(span).peaks == pytest.approx(item.aim, abs=0.05), item.id
    for id in ("lane-1", "eq-1", "saturation-1", "width-1"):
        assert held.item(id) == session.item(id)
    rough = read_sound(demo.parent / "Ferry Hours (rough print).wav").samples
    assert (
        np.abs(
            renderer.section(session, span).untouched.heard_in(span)
            - rough[round(span.start * 48_000) : round(span.end * 48_000)]
        ).max()
        < 1e-5
    )


@pytest.mark.thorough
def test_the_references(demo: Path) -> None:
    session = read_session(demo).session
    made = {r.name: read_sound(place_of(r.media, demo.parent)) for r in session.references}
    loudness = {name: figures_of(trace_of(s.samples, s.rate)) for name, s in made.items()}
    assert loudness["Pier Lights"].integrated == pytest.approx(-12.5, abs=0.2)
    assert loudness["Cold Rope"].integrated == pytest.approx(-9.8, abs=0.2)
    assert loudness["Cold Rope"].width > loudness["Pier Lights"].width + 2.0

    def air(name: str) -> float:
        s = spectrum(made[name].samples, 48_000)
        return float(np.interp(9000, s.freqs, s.levels) - np.interp(1000, s.freqs, s.levels))

    assert air("Cold Rope") > air("Pier Lights") + 0.7


@pytest.mark.thorough
def test_the_faults(demo: Path) -> None:
    stems = {name: read_sound(demo.parent / "stems" / f"{name}.wav").samples for name in STEMS}

    def level(name: str, freq: float, fraction: int = 12) -> float:
        s = spectrum(stems[name], 48_000, "left", fraction, low=12.0)
        return float(np.interp(freq, s.freqs, s.levels))

    power = np.abs(np.fft.rfft(stems["Upright bass"].mean(axis=1))) ** 2
    hertz = len(stems["Upright bass"]) / 48_000
    rumble, above = power[int(17 * hertz) : int(19 * hertz)].mean(), power[int(21 * hertz) : int(26 * hertz)].mean()
    assert 10 * np.log10(rumble / above) > 12
    assert stereo_bands(stems["Accordion"], 48_000, [(40, 180)])[0].correlation < -0.3
    assert level("Voice high", 4500, 6) > level("Voice high", 3200, 6) + 2
    hiss = spectrum(stems["Voice high"], 48_000, "mid", 3)
    assert np.interp(7500, hiss.freqs, hiss.levels) > np.interp(5000, hiss.freqs, hiss.levels) - 12


@pytest.mark.thorough
def test_the_kit_has_been_through_the_simulated_unit(demo: Path) -> None:
    session = read_session(demo).session
    item = outboard_of(session, "outboard-1")
    assert not item.on and item.back is not None and item.back.drift == pytest.approx(12.0, abs=0.05)
    renderer = Renderer(read_material(session, demo.parent))
    assert stale(renderer, session, "outboard-1", demo.parent) is None


@pytest.mark.thorough
def test_making_it_again_changes_nothing(demo: Path) -> None:
    before = {p: p.stat().st_mtime_ns for p in demo.parent.rglob("*") if p.is_file()}
    assert demo_session(demo.parent) == demo
    assert before == {p: p.stat().st_mtime_ns for p in demo.parent.rglob("*") if p.is_file()}


def test_it_is_deterministic() -> None:
    part = (ScoreSection("Bar", "Am F", 1.0, "0:2:64:sa 2:1:67:to"),)
    first, second = (performed(part, 0.3, 5, faults=True, progress=no_progress) for _ in range(2))
    assert all(np.array_equal(first[name], second[name]) for name in STEMS)
