"""Held settings, and how loud what can be heard is: through their public functions."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.advise.hold import held_chain
from gluvo.compare.match import CHANGE, RESULT, STEP_OUT, UNTOUCHED, matched_gains
from gluvo.compare.readings import hear_readings
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.session.media import Sound
from gluvo.steps import AnyStep, Glue, Limiter, Trim

from .conftest import RATE, music

SPAN = Span(8.0, 13.0)


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(Sound(music(14.0).astype(np.float32), RATE), "music")


def reduction(renderer: Renderer, chain: tuple[AnyStep, ...], step: str) -> float:
    joint = renderer.song(chain).joint(step)
    assert joint is not None
    return joint.mean_reduction(SPAN)


def test_two_held_compressors_in_a_row_both_keep_their_aim(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Trim(id="t", gain=-4.0),
        Glue(id="a", ratio=2.0, aim=1.5, hold_aim=True),
        Glue(id="b", ratio=4.0, aim=3.0, hold_aim=True, attack=5.0),
    )
    held = held_chain(renderer, chain, SPAN)
    assert reduction(renderer, held, "a") == pytest.approx(1.5, abs=0.05)
    assert reduction(renderer, held, "b") == pytest.approx(3.0, abs=0.05)
    louder = held_chain(renderer, (Trim(id="t", gain=2.0), *held[1:]), SPAN)
    assert reduction(renderer, louder, "b") == pytest.approx(3.0, abs=0.05)
    assert louder[1].threshold == pytest.approx(held[1].threshold + 6.0, abs=0.1)  # type: ignore[union-attr]


def test_a_held_chain_comes_to_rest(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (Glue(id="a", ratio=3.0, aim=2.0, hold_aim=True, hold_loudness=True),)
    once = held_chain(renderer, chain, SPAN)
    assert once != chain and held_chain(renderer, once, SPAN) == once


def test_what_is_not_held_is_left_alone(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Glue(id="a", ratio=3.0, threshold=-30.0), Glue(id="b", ratio=1.0, hold_aim=True),
        Glue(id="c", ratio=3.0, hold_aim=True, on=False), Limiter(id="l"),
    )  # fmt: skip
    assert held_chain(renderer, chain, None) == chain


def test_readings_are_those_of_the_sound(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Trim(id="t", gain=-3.0),
        Glue(id="g", ratio=4.0, threshold=-30.0),
        Limiter(id="l", drive=9.0, ceiling=-1.0),
    )
    song = renderer.song(chain)
    readings = hear_readings(renderer, chain, "g", SPAN, song)
    x = renderer.sound.samples
    before, after = run_chain(chain[:1], x, RATE), run_chain(chain[:2], x, RATE)
    whole = {
        RESULT: run_chain(chain, x, RATE), UNTOUCHED: x, STEP_OUT: run_chain([chain[0], chain[2]], x, RATE),
        CHANGE: after - before,
    }  # fmt: skip
    for path, sound in whole.items():
        f = figures_of(trace_of(sound, RATE), SPAN)
        assert readings[path].loudness == pytest.approx(f.integrated, abs=0.03), path
        assert readings[path].true_peak == pytest.approx(f.true_peak, abs=0.05), path
    gains = matched_gains(readings)
    played = {path: figures_of(trace_of(sound * 10 ** (gains[path] / 20), RATE), SPAN) for path, sound in whole.items()}
    assert max(f.integrated for f in played.values()) - min(f.integrated for f in played.values()) < 0.1
    assert max(f.true_peak for f in played.values()) <= 0.06


def test_a_neutral_step_changes_nothing_that_can_be_heard(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (Trim(id="t", gain=-3.0), Glue(id="g"))
    readings = hear_readings(renderer, chain, "g", SPAN, renderer.song(chain))
    assert readings[CHANGE].loudness < -150 and matched_gains(readings)[CHANGE] == 0.0
    assert readings[STEP_OUT].loudness == pytest.approx(readings[RESULT].loudness, abs=1e-6)
    gone = hear_readings(renderer, chain, "", None, renderer.song(chain))
    assert CHANGE not in gone and gone[RESULT] == gone[STEP_OUT]


def test_the_aim_moves_with_the_level(renderer: Renderer) -> None:
    """A louder input wants a higher threshold by as much: the curve has no memory of level."""
    from gluvo.advise.aim import find_threshold

    glue = Glue(id="g", ratio=2.0, aim=2.0)
    soft = find_threshold(glue, renderer.song([Trim(id="t", gain=-12.0)]).result, SPAN).value
    loud = find_threshold(glue, renderer.song([Trim(id="t", gain=-6.0)]).result, SPAN).value
    assert loud - soft == pytest.approx(6.0, abs=0.02)
    gentle = find_threshold(msgspec.structs.replace(glue, aim=1.0), renderer.source(), SPAN).value
    assert gentle > find_threshold(glue, renderer.source(), SPAN).value
