"""Renders: exact, cached by content, stoppable; targets reached."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.advise.loudness_target import driven, reach_target
from gluvo.compare.match import Reading, matched_gains
from gluvo.dsp.db import gain_of
from gluvo.errors import Cancelled, GluvoError
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.progress import Stopper
from gluvo.render.cache import Cache
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint, cut
from gluvo.render.machine import play_through
from gluvo.render.scaled import Scaled
from gluvo.render.song import Rendered, Renderer
from gluvo.session.records import MIX, Target
from gluvo.steps import Glue, Limiter, Step, Trim

from .conftest import RATE, material, music, one

CHAIN: list[Step] = [
    Trim(id="t", gain=-3.0),
    Glue(id="g", ratio=3.0, threshold=-26.0, look_ahead=2.0, auto_release=40.0),
    Limiter(id="l", drive=6.0, ceiling=-1.0),
]


@pytest.fixture(scope="module")
def x() -> np.ndarray:
    return music(20.0).astype(np.float32)


def chained(joints: Rendered) -> list[Joint]:
    """What comes into the mix bus's chain, and what comes out of each of its steps."""
    return [joints.start("mix"), *(joints.joint(id) for id in joints.plan.strips["mix"].along)]


def test_joints_are_the_chain_up_to_there(x: np.ndarray) -> None:
    song = Renderer(material(x)).song(one(CHAIN))
    for n, joint in enumerate(chained(song)):
        assert np.abs(joint.audio - run_chain(CHAIN[:n], x, RATE)).max() < 2e-6
    assert song.before("g") is song.joint("t") and song.result is song.joint("l")


def test_only_what_changed_is_rendered_again(x: np.ndarray) -> None:
    renderer = Renderer(material(x))
    first = renderer.song(one(CHAIN))
    later = renderer.song(one([*CHAIN[:2], msgspec.structs.replace(CHAIN[2], drive=7.0)]))
    assert all(a.audio is b.audio for a, b in zip(chained(first)[:3], chained(later)[:3], strict=True))
    assert renderer.known(one(CHAIN)) and not renderer.known(one(CHAIN[1:]))
    same_sound = [CHAIN[0], msgspec.structs.replace(CHAIN[1], aim=9.0, hold_aim=True), CHAIN[2]]
    assert renderer.known(one(same_sound))
    off = msgspec.structs.replace(CHAIN[1], on=False)
    assert renderer.plan(one([CHAIN[0], off])).strips["mix"].along == ("t",)


def test_the_cache_keeps_to_its_budget(x: np.ndarray) -> None:
    cache = Cache(budget=3 * x.nbytes)
    renderer = Renderer(material(x), cache)
    for drive in range(6):
        renderer.song(one([Trim(id="t", gain=float(-drive))]))
    assert cache.bytes == sum(j.bytes for j in cache._joints.values()) <= 3 * x.nbytes


def test_a_section_reads_like_the_song(x: np.ndarray) -> None:
    span = Span(12.0, 18.0)
    section = Renderer(material(x)).section(one(CHAIN), span)
    song = Renderer(material(x)).song(one(CHAIN))
    for quick, whole in zip(chained(section), chained(song), strict=True):
        assert quick.figures(span).integrated == pytest.approx(whole.figures(span).integrated, abs=0.02)
        assert quick.mean_reduction(span) == pytest.approx(whole.mean_reduction(span), abs=0.02)
        assert quick.largest_reduction(span) == pytest.approx(whole.largest_reduction(span), abs=0.05)


def test_a_render_can_be_stopped_and_goes_on_later(x: np.ndarray) -> None:
    renderer, stopper = Renderer(material(x)), Stopper()
    calls = 0

    def progress(done: float) -> None:
        nonlocal calls
        calls += 1
        if done > 0.5:
            stopper.stop()
        stopper.check(done)

    with pytest.raises(Cancelled):
        renderer.song(one(CHAIN), progress)
    assert calls > 3 and not renderer.known(one(CHAIN))
    assert np.asarray(renderer.song(one(CHAIN)).result.audio).any()


@pytest.mark.parametrize("loudness", [-31.0, -20.0, -14.0, -11.0])
def test_the_target_is_reached(x: np.ndarray, loudness: float) -> None:
    renderer = Renderer(material(x))
    target = Target(name="t", loudness=loudness, true_peak=-1.5)
    session = one([Trim(id="q", gain=-6.0), *CHAIN]).replace(target=target)
    reached = reach_target(renderer, session)
    figures = renderer.song(driven(session, "l", reached.drive, reached.ceiling)).result.figures()
    assert reached.met and figures.integrated == pytest.approx(loudness, abs=0.05)
    assert figures.true_peak <= -1.5 + 0.05
    assert reached.cost.largest >= reached.cost.mean >= 0.0


def test_steps_after_the_limiter_count(x: np.ndarray) -> None:
    chain = [*CHAIN, Trim(id="after", gain=-2.0)]
    target = Target(name="t", loudness=-15.0, true_peak=-1.0)
    assert reach_target(Renderer(material(x)), one(chain).replace(target=target)).met


def test_targets_that_cannot_be_reached_say_so(x: np.ndarray) -> None:
    renderer = Renderer(material(x))
    with pytest.raises(GluvoError, match="no limiter"):
        reach_target(renderer, one(CHAIN[:2]))
    with pytest.raises(GluvoError, match="silent"):
        reach_target(Renderer(material(np.zeros((RATE * 4, 2)))), one(CHAIN))
    loud = Target(name="t", loudness=-5.0, true_peak=-1.0)
    far = reach_target(renderer, one([Trim(id="q", gain=-48.0), CHAIN[2]]).replace(target=loud))
    assert not far.met and far.drive == 48.0 and "only be denser" in far.why_not
    hot = one([Trim(id="h", gain=12.0), Trim(id="q", gain=12.0), CHAIN[2]])
    assert reach_target(renderer, hot.replace(target=Target(name="t", loudness=-40.0, true_peak=-1.0))).met


def test_less_gain_goes_into_the_limiter_where_there_is_no_drive_to_take_away() -> None:
    limiter = Limiter(id="l", drive=5.0, ceiling=0.0, output=1.0, hold_loudness=True)
    alone = driven(one([limiter]), "l", -3.2, -1.0)
    assert [(type(s).__name__, getattr(s, "gain", None)) for s in alone.mix.chain] == [
        ("Trim", -3.2),
        ("Limiter", None),
    ]
    last = alone.mix.chain[-1]
    assert isinstance(last, Limiter)
    assert (last.drive, last.ceiling, last.output, last.hold_loudness) == (0.0, -1.0, 0.0, False)
    behind = driven(one([Trim(id="q", gain=-6.0), limiter]), "l", -3.2, -1.0)
    assert [getattr(s, "gain", None) for s in behind.mix.chain] == [-9.2, None]
    more = driven(one([Trim(id="q", gain=-34.0), limiter]), "l", 30.0, -1.0)
    assert [(getattr(s, "gain", None), getattr(s, "drive", None)) for s in more.mix.chain] == [
        (-28.0, None),
        (None, 24.0),
    ]
    off = driven(one([Trim(id="q", gain=-6.0, on=False), limiter]), "l", -3.2, -1.0)
    assert [getattr(s, "gain", None) for s in off.mix.chain] == [-6.0, -3.2, None]


def test_level_match_makes_all_equally_loud_without_clipping() -> None:
    readings = {
        "untouched": Reading(-18.0, -0.3),
        "result": Reading(-14.0, -1.0),
        "soft": Reading(-30.0, -2.0),
        "change": Reading(-45.0, -30.0, quiet_by_nature=True),
        "nothing": Reading(-200.0, -200.0),
    }
    gains = matched_gains(readings)
    levels = {k: r.loudness + gains[k] for k, r in readings.items() if k != "nothing"}
    assert len({round(v, 9) for v in levels.values()}) == 1
    assert all(readings[k].true_peak + g <= 1e-9 for k, g in gains.items())
    assert gains["nothing"] == 0.0


@pytest.mark.parametrize("fader", [-60.0, -3.0, 12.0])
def test_a_plain_level_is_what_it_would_be_as_a_render_of_its_own(fader: float) -> None:
    x = music(6.0)
    plain = one(CHAIN)
    session = plain.with_strip(msgspec.structs.replace(plain.strip(MIX), fader=fader))
    renderer = Renderer(material(x))
    before, after = renderer.song(plain).result, renderer.song(session).result
    assert isinstance(before.audio, np.ndarray) and isinstance(after.audio, Scaled)  # it took no room
    wanted = (np.asarray(before.audio, dtype=np.float64) * gain_of(fader)).astype(np.float32)
    assert np.array_equal(np.asarray(after.audio), wanted) and len(after.audio) == len(wanted)
    assert np.array_equal(after.audio[1000:1100], wanted[1000:1100])
    span = Span(2.0, 4.0)
    assert np.array_equal(after.heard_in(span), wanted[2 * RATE : 4 * RATE])
    stretch = cut(after, slice(RATE, 5 * RATE), 1.0)
    assert isinstance(stretch.audio, Scaled) and np.array_equal(np.asarray(stretch.audio), wanted[RATE : 5 * RATE])
    assert np.array_equal(stretch.heard_in(span), wanted[2 * RATE : 4 * RATE])
    own, told = figures_of(trace_of(wanted, RATE)), after.figures()
    assert told.integrated == pytest.approx(own.integrated, abs=1e-4) and told.true_peak == pytest.approx(
        own.true_peak, abs=1e-4
    )
    assert np.abs(np.asarray(after.audio) - play_through(renderer.plan(session).result, renderer.material)).max() < 1e-5
    section = renderer.section(session, span).result
    assert np.array_equal(section.heard_in(span), wanted[2 * RATE : 4 * RATE])  # of the whole, since it is there
