"""The same samples from a render, a file and live sound: wherever a step stands, whatever is late before it."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest

from gluvo.dsp.delay import Delay
from gluvo.dsp.kernel import Audio
from gluvo.measure.trace import Span
from gluvo.play.engine import Engine
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.records import Session
from gluvo.steps import (
    STEP_KINDS,
    Clipper,
    DeEsser,
    Glue,
    Limiter,
    MidSideEq,
    Outboard,
    Processor,
    ResonanceTamer,
    Saturation,
    Split,
    Step,
    TransientShaper,
    Trim,
    Width,
)

from .conftest import FADED, material, music, one
from .test_play import playing, pulled


class Late(Step, tag="late", frozen=True, kw_only=True):
    """Nothing but late."""

    frames: int = 0

    def make(self, rate: int) -> Processor:
        return LateProcessor(self.frames)


class LateProcessor(Processor):
    def __init__(self, frames: int) -> None:
        super().__init__()
        self.latency, self._delay = frames, Delay(frames)

    def process(self, x: Audio, out: Audio) -> None:
        self._delay.run(x, out)


AT_WORK: dict[type[Step], Step] = {
    Trim: Trim(gain=-3.0, remove_dc=True),
    Glue: Glue(threshold=-30.0, ratio=4.0, look_ahead=3.0, low_cut=90.0),
    MidSideEq: next(step for step in MidSideEq.examples() if isinstance(step, MidSideEq)),
    DeEsser: DeEsser(threshold=-50.0),
    Saturation: Saturation(mid=40.0, side=40.0, tilt=2.0),
    Width: Width(mono_below=120.0),
    TransientShaper: TransientShaper(attack=4.0, sustain=-3.0),
    ResonanceTamer: ResonanceTamer(at_most=12.0, stands_out=4.0, at_least=40.0),
    Clipper: Clipper(),
    Limiter: Limiter(drive=9.0, ceiling=-1.0, auto_release=100.0),
}
RATES = (44_100, 48_000, 96_000, 192_000)


def behind(step: Step, late: int) -> Session:
    return one([Late(id="late", frames=late), msgspec.structs.replace(step, id="s")])


def song(rate: int, seconds: float = 2.5) -> np.ndarray:
    """Begins and ends in the middle of sound."""
    return music(seconds + 0.3, rate, seed=5)[round(0.213 * rate) : round((seconds + 0.213) * rate)] * 1.4


def test_each_kind_of_step_is_looked_at() -> None:
    assert {kind for kind in STEP_KINDS if kind not in AT_WORK} <= {Split, Outboard} | {
        k for k in STEP_KINDS if k().contains_steps
    }


@pytest.mark.sampled(3)
@pytest.mark.parametrize("kind", AT_WORK, ids=lambda kind: kind.__name__)
@pytest.mark.parametrize("rate", RATES)
def test_render_and_file_are_the_same_samples_from_the_first_to_the_last(kind: type[Step], rate: int) -> None:
    sound = material(song(rate), rate)
    for late in (1, 37, 4097):
        plan = Plan(behind(AT_WORK[kind], late))
        whole = Renderer(sound).joint(plan.result).audio[:]
        assert np.abs(play_through(plan.result, sound) - whole).max() < 1e-6, late


@pytest.mark.sampled(2)
@pytest.mark.parametrize("kind", AT_WORK, ids=lambda kind: kind.__name__)
def test_live_from_the_beginning_is_the_file_to_its_end(kind: type[Step]) -> None:
    for rate, late in itertools.product((44_100, 96_000), (1, 4097)):
        session, sound = behind(AT_WORK[kind], late), material(song(rate, 1.0) * 0.5, rate)
        engine, wanted = playing(Engine(sound, {}, session)), play_through(Plan(session).result, sound)
        live = pulled(engine, len(wanted) + engine.late, 441)[engine.late :]
        faded = round(FADED * rate / 48_000)
        assert np.abs(live[faded:] - wanted[faded:]).max() < 1e-9


@pytest.mark.sampled(2)
@pytest.mark.parametrize("step", [AT_WORK[ResonanceTamer], AT_WORK[Limiter]], ids=["tamer", "limiter"])
@pytest.mark.parametrize("rate", RATES)
def test_from_any_place_and_in_a_section_a_grid_is_where_it_is_in_the_song(step: Step, rate: int) -> None:
    """What is remembered from before is forgotten after two seconds; the grid would never come right."""
    session, sound = behind(step, 37), material(song(rate, 9.0) * 0.5, rate)
    wanted = play_through(Plan(session).result, sound)
    engine = Engine(sound, {}, session)
    engine.seek(3.01234)
    live = pulled(playing(engine), 5 * rate, 512)
    at = round(3.01234 * rate) - engine.late
    settled = slice(3 * rate, 5 * rate)
    assert np.abs(live[settled] - wanted[at + settled.start : at + settled.stop]).max() < 2e-6
    section = Renderer(sound).section(session, Span(7.00321, 8.5)).result
    first = round(section.start * rate)
    place = slice(round(7.1 * rate), round(8.4 * rate))
    found = section.audio[place.start - first : place.stop - first]
    assert np.abs(found - wanted[place]).max() < 2e-6
