"""The demo's four tonal faults: each found with what the desk shows, and mended with a step, through public functions."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from gluvo.advise.tone import cut_for, low_cut_cost, movements
from gluvo.compare.tones import Frozen, difference
from gluvo.measure.figures import figures_of
from gluvo.measure.spectrum import octaves, tone_of
from gluvo.measure.stereo import bands_of_tone
from gluvo.measure.trace import Span, trace_of
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.media import place_of, read_material
from gluvo.session.records import Session
from gluvo.session.sounds import read_sound
from gluvo.session.store import read_session
from gluvo.steps import Band, MidSideEq, Step, Width

from .conftest import hold


class Demo:
    """The demo without its steps, and what is done to it."""

    def __init__(self, path: Path) -> None:
        loaded, folder = read_session(path).session, path.parent
        self.session = Session(
            name=loaded.name,
            rate=loaded.rate,
            references=loaded.references,
            sections=loaded.sections,
            strips=tuple(
                type(s)(**{f: getattr(s, f) for f in s.__struct_fields__ if f != "chain"}) for s in loaded.strips
            ),
        )
        chorus = next(s for s in loaded.sections if s.name == "Last chorus")
        self.span = Span(chorus.start, chorus.end)
        self.folder = folder
        self.renderer = Renderer(read_material(self.session, folder))

    @property
    def rate(self) -> int:
        return self.renderer.rate

    def end(self, strip: str, step: Step | None = None, *, whole: bool = False) -> Joint:
        """What comes out of a strip in the last chorus, or in the whole song, with a step in its chain."""
        session = self.session if step is None else self.session.with_new_step(step, strip)
        span = None if whole else self.span
        session = hold(self.renderer, session, span)
        return self.renderer.joint(self.renderer.plan(session).strips[strip].end, span)

    def frozen(self, joint: Joint) -> Frozen:
        return Frozen("", joint.tone(), joint.figures().integrated)

    def references(self) -> list[Frozen]:
        sounds = [read_sound(place_of(r.media, self.folder)) for r in self.session.references]
        return [
            Frozen("", tone_of(s.samples, s.rate), figures_of(trace_of(s.samples, s.rate)).integrated) for s in sounds
        ]


@pytest.fixture(scope="module")
def bare(demo: Path) -> Demo:
    return Demo(demo)


def test_the_rumble_stands_in_the_spectrum_and_a_low_cut_takes_it_alone(bare: Demo) -> None:
    before = bare.end("mix")
    tone, lows = before.tone(), octaves(bare.rate, 12.0, 12)
    lows = lows[lows < 30.0]
    levels = tone.smoothed("stereo", 12, lows)
    place = lows[int(np.argmax(levels))]
    assert place == pytest.approx(18.0, abs=1.5)  # a hill where nobody plays
    assert levels.max() > levels[-1] + 10.0
    band = Band(id=1, shape="low_cut", freq=26.0, slope=24, q=0.71)
    step = MidSideEq(bands=(band,))
    truth = low_cut_cost(step, band, tone, tone, bare.rate)
    assert (
        truth.song < -0.02 and truth.lowest_hurt == "" and 35.0 < truth.lowest_played < 65.0
    )  # the bass keeps its notes
    after = bare.end("mix", step)
    gone = 10 * np.log10(rumble(tone) / rumble(after.tone()))
    assert gone > 12.0
    bass = [float(np.mean(t.power("mid")[(t.freqs > 50) & (t.freqs < 110)])) for t in (tone, after.tone())]
    assert abs(10 * np.log10(bass[1] / bass[0])) < 0.1


def rumble(tone) -> float:  # type: ignore[no-untyped-def]
    return float(np.mean(tone.power("mid")[(tone.freqs > 15.0) & (tone.freqs < 21.0)]))


def test_the_build_up_stands_out_against_both_references_and_is_cut(bare: Demo) -> None:
    centres = octaves(bare.rate, 100.0, 6)
    centres = centres[centres < 400.0]
    mix, references = bare.frozen(bare.end("mix", whole=True)), bare.references()
    excess = [difference(mix, r, part, 3, centres) for r in references for part in ("mid", "side")]
    for curve in excess[::2]:
        assert 190.0 < centres[int(np.argmax(curve))] < 270.0 and curve.max() > 2.0
    mend = MidSideEq(
        bands=(
            Band(id=1, target="mid", freq=225.0, gain=-4.5, q=1.6),
            Band(id=2, target="side", freq=215.0, gain=-7.0, q=1.6),
        )
    )
    mended = bare.frozen(bare.end("mix", mend, whole=True))
    place = (centres > 180.0) & (centres < 270.0)
    for n, (r, part) in enumerate((r, part) for r in references for part in ("mid", "side")):
        left = difference(mended, r, part, 3, centres)
        assert left[place].max() < excess[n][place].max() - 3.0


def test_the_harsh_place_rings_on_its_buses_and_is_calmed_when_loud(bare: Demo) -> None:
    for bus in ("mallets", "voices"):
        before = bare.end(bus)
        rings = [r for part in ("mid", "side") for r in before.resonances(None, part) if 4000.0 < r.freq < 5000.0]
        if bus == "mallets":
            assert rings, bus
        for found in rings:
            assert found.freq == pytest.approx(4500.0, rel=0.04) and found.steady > 0.5
    found = next(r for r in bare.end("mallets").resonances(None, "mid") if 4000.0 < r.freq < 5000.0)
    cut = cut_for(found, depth=6.0)
    still, _ = MidSideEq().with_new_band(cut)
    left = [r for r in bare.end("mallets", still).resonances(None, "mid") if 4000.0 < r.freq < 5000.0]
    assert not left or left[0].prominence < found.prominence - 1.5
    moving = MidSideEq(bands=(Band(id=1, freq=4500.0, q=4.0, dynamic=True, threshold=-42.0, ratio=3.0, range=6.0),))
    moved = movements(moving, bare.end("mallets").audio, bare.rate)[1]
    assert -6.0 <= moved.most < -2.0 and 0.02 < moved.share < 0.95  # only when it is loud


def test_the_low_end_that_is_turned_over_shows_in_the_image_and_is_made_mono(bare: Demo) -> None:
    before = bare.end("stem-accordion")
    low, high = bands_of_tone(before.tone(), ((60.0, 230.0), (1000.0, 8000.0)))
    assert low.correlation < 0.0 < high.correlation and low.mono_loss > 6.0
    mallets = bands_of_tone(bare.end("mallets").tone(), ((60.0, 160.0),))[0]
    assert mallets.correlation < 0.5 and mallets.mono_loss > 1.5
    step = Width(mono_below=230.0, hold_loudness=True)
    after = bands_of_tone(bare.end("mallets", step).tone(), ((60.0, 160.0), (1000.0, 8000.0)))
    assert after[0].correlation > 0.95 and after[0].mono_loss < 0.1
    untouched = bands_of_tone(bare.end("mallets").tone(), ((1000.0, 8000.0),))[0]
    assert after[1].correlation == pytest.approx(untouched.correlation, abs=0.01)
