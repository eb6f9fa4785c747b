"""The demo's faults: each found with what the desk shows, and mended with a step, through public functions."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from gluvo.advise.shelf import BUILT_IN
from gluvo.advise.step_analysis import analysed_step
from gluvo.advise.tone import cut_for, low_cut_cost, movements
from gluvo.compare.tones import Frozen, difference
from gluvo.measure.figures import figures_of
from gluvo.measure.spectrum import octaves, tone_of
from gluvo.measure.stereo import bands_of_tone
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered, Renderer
from gluvo.session.media import place_of, read_material
from gluvo.session.presets import put_in
from gluvo.session.records import Session
from gluvo.session.sounds import read_sound
from gluvo.session.store import read_session
from gluvo.steps import Band, DeEsser, MidSideEq, Split, SplitBand, Step, TransientShaper, Width
from gluvo.steps.split import Cut

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


# --- by band ---------------------------------------------------------------------------------------------------------


def in_span(bare: Demo, joint: Joint) -> np.ndarray:
    return np.asarray(joint.heard_in(bare.span), dtype=np.float64)


def levels(x: np.ndarray, rate: int) -> np.ndarray:
    """Mean level of every 10 ms, dB."""
    hop = round(rate * 0.01)
    power = np.square(x[: len(x) // hop * hop]).sum(axis=1).reshape(-1, hop).mean(axis=1)
    return np.asarray(10.0 * np.log10(power + 1e-14))


def applied(bare: Demo, name: str, strip: str) -> tuple[Session, Rendered]:
    """A strip with a preset, its aims found in the last chorus."""
    preset = next(p for p in BUILT_IN if p.name == name)
    session = hold(bare.renderer, put_in(bare.session, preset, strip), bare.span)
    return session, bare.renderer.section(session, bare.span)


def test_uneven_bass_notes_come_out_alike(bare: Demo) -> None:
    first = levels(in_span(bare, bare.end("stem-upright-bass")), bare.rate)
    begins = [n for n in range(4, len(first) - 16) if first[n] - first[n - 3] > 4.0 and first[n] > first[n - 1]]
    places = [n for k, n in enumerate(begins) if k == 0 or n - begins[k - 1] > 15]

    def notes(found: np.ndarray) -> np.ndarray:
        """The highest level of each note's first 150 ms."""
        return np.array([found[n : n + 15].max() for n in places])

    before = notes(first)
    assert len(before) > 12 and before.std() > 2.5  # that they are uneven is seen
    session, render = applied(bare, "Tighten the lows", "stem-upright-bass")
    after = notes(levels(in_span(bare, render.end("stem-upright-bass")), bare.rate))
    assert after.std() < 0.8 * before.std()
    split = next(item for item in session.items if isinstance(item, Split))
    came, gives = (render.at(node) for node in render.plan.parts[split.id, 2])
    assert came is gives  # the other band is as it came


def test_sibilant_voices_lose_what_is_set_and_nothing_else(bare: Demo) -> None:
    session = bare.session.with_new_step(DeEsser(range=3.0, threshold=-14.0), "voices")
    render = bare.renderer.section(session, bare.span)
    id = next(item.id for item in session.items)
    before, after = render.before(id), render.joint(id)
    assert before is not None and after is not None and after.reduction is not None
    worked = analysed_step(session.item(id), before, after, bare.span).worked
    assert worked is not None and len(worked.places) > 5 and worked.taken.most == pytest.approx(3.0, abs=0.05)
    sharp = [
        run_chain([Cut(crossovers=(5000.0,), place=1, slope=48)], in_span(bare, j), bare.rate) for j in (before, after)
    ]
    lost = levels(sharp[0], bare.rate) - levels(sharp[1], bare.rate)
    inner = after.within(bare.span)
    taken = after.reduction.mean[round(inner.start * 100) :][: len(lost)]
    full, none = taken > 2.95, taken < 0.005
    assert full.sum() > 30 and lost[full].mean() == pytest.approx(3.0, abs=0.3)
    whole = levels(in_span(bare, before), bare.rate) - levels(in_span(bare, after), bare.rate)
    assert none.sum() > 200 and np.abs(whole[none]).max() < 0.1
    lows = [
        run_chain([Cut(crossovers=(1000.0,), place=0, slope=48)], in_span(bare, j), bare.rate) for j in (before, after)
    ]
    audible = levels(lows[0], bare.rate) > -50.0
    assert np.abs(levels(lows[0], bare.rate) - levels(lows[1], bare.rate))[audible].max() < 0.1


def test_sibilants_are_softened_by_an_aim_alone(bare: Demo) -> None:
    session, render = applied(bare, "Soften sharp words", "voices")
    step = next(item for item in session.items if isinstance(item, DeEsser))
    worked = analysed_step(step, render.before(step.id), render.joint(step.id), bare.span).worked
    assert worked is not None and worked.taken.peaks == pytest.approx(4.0, abs=0.05) and worked.share < 0.4


def test_harsh_marimba_hits_are_tamed_and_rounded(bare: Demo) -> None:
    def harsh(joint: Joint, low: float, high: float) -> float:
        tone = joint.tone(bare.span)
        inside = (tone.freqs > low) & (tone.freqs < high)
        return float(10.0 * np.log10((tone.left + tone.right)[inside].sum()))

    before = bare.end("mallets")
    _, render = applied(bare, "Smooth harsh highs", "mallets")
    after = render.end("mallets")
    assert after is not None
    assert harsh(after, 4300.0, 4700.0) - harsh(before, 4300.0, 4700.0) < -2.0
    assert abs(harsh(after, 200.0, 1500.0) - harsh(before, 200.0, 1500.0)) < 0.1
    assert abs(harsh(after, 7000.0, 14_000.0) - harsh(before, 7000.0, 14_000.0)) < 0.6
    shaper = TransientShaper(attack=-6.0, length=25.0)
    split = Split(bands=(SplitBand(id=1), SplitBand(id=2, steps=(shaper,))), crossovers=(3000.0,))
    session = bare.session.with_new_step(split, "stem-marimba")
    rounded = bare.renderer.section(session, bare.span)
    sides = [bare.end("stem-marimba"), rounded.end("stem-marimba")]
    highs = [run_chain([Cut(crossovers=(3000.0,), place=1)], in_span(bare, j), bare.rate) for j in sides]
    peaks = [np.percentile(np.abs(x).max(axis=1), 99.9) for x in highs]
    assert 20.0 * np.log10(peaks[1] / peaks[0]) < -2.0
    lows = [run_chain([Cut(crossovers=(1000.0,), place=0)], in_span(bare, j), bare.rate) for j in sides]
    assert abs(20.0 * np.log10(np.std(lows[1]) / np.std(lows[0]))) < 0.1
