"""Held settings, and how loud what can be heard is: through their public functions."""

from __future__ import annotations

import msgspec
import pytest

from gluvo.compare.match import CHANGE, DETECTOR, RESULT, STEP_OUT, UNTOUCHED, matched_gains
from gluvo.compare.readings import hear_readings
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.steps import AnyStep, Glue, Limiter, Trim

from .conftest import RATE, hold, material, music, one

SPAN = Span(8.0, 13.0)


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(material(music(14.0)))


def held(renderer: Renderer, chain: tuple[AnyStep, ...]) -> tuple[AnyStep, ...]:
    return hold(renderer, one(chain), SPAN).chain  # type: ignore[return-value]


def reduction(renderer: Renderer, chain: tuple[AnyStep, ...], step: str) -> float:
    joint = renderer.song(one(chain)).joint(step)
    assert joint is not None
    return joint.reduced(SPAN).peaks


def test_two_held_compressors_in_a_row_both_keep_their_aim(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Trim(id="t", gain=-4.0),
        Glue(id="a", ratio=2.0, aim=1.5, hold_aim=True),
        Glue(id="b", ratio=4.0, aim=3.0, hold_aim=True, attack=5.0),
    )
    first = held(renderer, chain)
    assert reduction(renderer, first, "a") == pytest.approx(1.5, abs=0.05)
    assert reduction(renderer, first, "b") == pytest.approx(3.0, abs=0.05)
    louder = held(renderer, (Trim(id="t", gain=2.0), *first[1:]))
    assert reduction(renderer, louder, "b") == pytest.approx(3.0, abs=0.05)
    assert louder[1].threshold == pytest.approx(first[1].threshold + 6.0, abs=0.1)


def test_a_held_chain_comes_to_rest(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (Glue(id="a", ratio=3.0, aim=2.0, hold_aim=True, hold_loudness=True),)
    once = held(renderer, chain)
    assert once != chain and held(renderer, once) == once


def test_what_is_not_held_is_left_alone(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Glue(id="a", ratio=3.0, threshold=-30.0),
        Glue(id="b", ratio=1.0, hold_aim=True),
        Glue(id="c", ratio=3.0, hold_aim=True, on=False),
        Limiter(id="l"),
    )
    assert hold(renderer, one(chain), None) == one(chain)


def test_readings_are_those_of_the_sound(renderer: Renderer) -> None:
    chain: tuple[AnyStep, ...] = (
        Trim(id="t", gain=-3.0),
        Glue(id="g", ratio=4.0, threshold=-30.0),
        Limiter(id="l", drive=9.0, ceiling=-1.0),
    )
    readings = hear_readings(renderer, one(chain, step="g"), SPAN)
    x = renderer.material.sounds["stem-1"].samples
    before, after = run_chain(chain[:1], x, RATE), run_chain(chain[:2], x, RATE)
    whole = {
        RESULT: run_chain(chain, x, RATE),
        UNTOUCHED: x,
        STEP_OUT: run_chain([chain[0], chain[2]], x, RATE),
        CHANGE: after - before,
        DETECTOR: before,
    }
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
    readings = hear_readings(renderer, one(chain, step="g"), SPAN)
    assert readings[CHANGE].loudness < -150 and matched_gains(readings)[CHANGE] == 0.0
    assert readings[STEP_OUT].loudness == pytest.approx(readings[RESULT].loudness, abs=1e-6)
    gone = hear_readings(renderer, one(chain), None)
    assert gone[CHANGE].loudness < -150 and gone[RESULT] == gone[STEP_OUT] and DETECTOR not in gone


def test_the_aim_moves_with_the_level(renderer: Renderer) -> None:
    """A louder input wants a higher threshold by as much: the curve has no memory of level."""
    from gluvo.advise.aim import find_threshold

    glue = Glue(id="g", ratio=2.0, aim=2.0)
    soft = find_threshold(glue, renderer.song(one([Trim(id="t", gain=-12.0)])).result, SPAN).value
    loud = find_threshold(glue, renderer.song(one([Trim(id="t", gain=-6.0)])).result, SPAN).value
    assert loud - soft == pytest.approx(6.0, abs=0.02)
    gentle = find_threshold(msgspec.structs.replace(glue, aim=1.0), renderer.song(one([])).result, SPAN).value
    assert gentle > find_threshold(glue, renderer.song(one([])).result, SPAN).value
