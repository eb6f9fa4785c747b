"""The graph of buses: exact against plain sums, live equal to offline, every path in step, only what changed rendered."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.advise.hold import gentle_and_crushed
from gluvo.compare.hearables import hearables, nodes_of
from gluvo.compare.match import STEP_OUT, UP_TO, WET
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.play.device import BLOCK
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.fades import Guard
from gluvo.render.chain import run_chain
from gluvo.render.machine import Machine, filler, play_through, played
from gluvo.render.plan import Plan, steps_heard
from gluvo.render.reduction import mean_along
from gluvo.render.song import Renderer
from gluvo.session import marks
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Media, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.steps import Glue, Lane, Limiter, Trim

from .conftest import FADED, RATE, hold, music, noise, one
from .conftest import material as one_stem

SPAN = Span(3.0, 5.5)
NAMES = ("kick", "snare", "cymbals", "bass")


@pytest.fixture(scope="module")
def material() -> Material:
    sounds = {name: Sound((music(6.0, seed=n) * 0.4).astype(np.float32), RATE) for n, name in enumerate(NAMES)}
    return Material(RATE, sounds, 6 * RATE + 4800)


def band() -> Session:
    """Buses in buses, a key, two lanes, and a latency of its own on every branch."""

    def stem(n: int, into: str, **more: object) -> Stem:
        media = Media(path=f"{n}.wav", size=1, sha256=str(n) * 64)
        return Stem(id=NAMES[n], name=NAMES[n], into=into, media=media, **more)

    crush = Lane(id="crush", since="", level=-8.0, steps=(Glue(id="g5", ratio=10.0, threshold=-34.0, look_ahead=1.5),))
    return Session(
        rate=RATE,
        strips=(
            Bus(
                id=MIX,
                name="Mix bus",
                into="",
                fader=-1.0,
                chain=(
                    Trim(id="t", gain=-4.0),
                    Glue(id="g1", ratio=2.0, threshold=-24.0, look_ahead=2.0, low_cut=90.0),
                    Lane(
                        id="lane",
                        since="t",
                        level=-12.0,
                        blend=-0.7,
                        steps=(Limiter(id="l2", drive=6.0, ceiling=-6.0),),
                    ),
                    Limiter(id="l", drive=8.0, ceiling=-1.0),
                ),
            ),
            stem(0, "shells", chain=(Glue(id="g2", ratio=3.0, threshold=-20.0, look_ahead=0.7),)),
            stem(1, "shells", fader=-3.0, pan=30.0, offset=0.1),
            Bus(
                id="shells",
                name="Shells",
                into="drums",
                chain=(
                    Glue(id="g3", ratio=4.0, threshold=-26.0, look_ahead=3.1, feed_back=True),
                    crush,
                ),
            ),
            stem(2, "drums", invert=True, mono=True, pan=-50.0),
            Bus(id="drums", name="Drums", fader=1.0),
            stem(3, MIX, chain=(Glue(id="g4", key="kick", ratio=5.0, threshold=-22.0, look_ahead=5.0),)),
        ),
    )


def strip(session: Session, id: str, **changes: object) -> Stem | Bus:
    """A strip with some of it changed."""
    return msgspec.structs.replace(next(s for s in session.strips if s.id == id), **changes)


def pulled(engine: Engine, frames: int) -> np.ndarray:
    out = np.zeros((frames, 2))
    for at in range(0, frames, BLOCK):
        engine.pull(out[at : at + BLOCK])
    return out


def by_hand(material: Material) -> np.ndarray:
    """The same band, strip by strip, each step run over the whole song on its own."""
    x = {name: np.zeros((material.frames, 2)) for name in NAMES}
    for name in NAMES:
        offset = 4800 if name == "snare" else 0
        x[name][offset : offset + 6 * RATE] = material.sounds[name].samples
    session = band()

    def step(id: str, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        found = session.step(id)
        assert found is not None
        if key is None:
            return run_chain([found], x, RATE)
        processor, out = found.make(RATE), np.zeros_like(x)
        padded = [np.concatenate([s, np.zeros((processor.latency, 2))]) for s in (x, key)]
        for at in range(0, len(padded[0]), 4096):
            processor.keys = (padded[1][at : at + 4096],)
            block = np.zeros_like(processor.keys[0])
            processor.process(padded[0][at : at + 4096], block)
            first = max(0, at - processor.latency)
            part = block[first + processor.latency - at :]
            out[first : first + len(part)] = part
        return out

    def faded(id: str, x: np.ndarray) -> np.ndarray:
        strip = session.strip(id)
        assert strip is not None
        return x * np.array(strip.gains)

    kick = step("g2", x["kick"])
    shells = faded("kick", kick) + faded("snare", x["snare"])
    shells = step("g3", shells) + 10 ** (-8 / 20) * step("g5", shells)
    drums = faded("shells", shells) + faded("cymbals", x["cymbals"])
    total = step("t", faded("drums", drums) + faded("bass", step("g4", x["bass"], kick)))
    total = (step("g1", total) + 10 ** (-12 / 20) * step("l2", total)) * 10 ** (-0.7 / 20)
    return faded(MIX, step("l", total))


def test_the_graph_is_what_it_says(material: Material) -> None:
    result = play_through(Plan(band()).result, material)
    assert np.abs(result - by_hand(material)).max() < 1e-9
    assert np.abs(Renderer(material).song(band()).result.audio - result).max() < 3e-6


@pytest.mark.sampled(5)
@pytest.mark.parametrize("chosen", ["g3", "g5", "lane", "g4", "l", ""])
@pytest.mark.parametrize("marked", [(), ("shells", "lane", "g4"), ("l2", "gone", "g1")])
def test_what_is_out_and_how_far_is_live_as_offline(material: Material, chosen: str, marked: tuple[str, ...]) -> None:
    """Out, up to here and wet alone: with later steps off, and with Mix at 100 % or the lane alone."""
    owner = band().strip_with(chosen)
    session = band().looking(step=chosen, strip=owner.id if owner is not None else "shells", marks=marked)
    if isinstance(glue := session.step(chosen), Glue):
        session = session.with_step(msgspec.structs.replace(glue, mix=35.0))

    def off(*ids: str) -> Session:
        made = session
        for id in ids:
            made = made.with_step(msgspec.structs.replace(made.item(id), on=False))
        return made

    after = {"g3": ("crush",), "g5": (), "lane": ("l",), "g4": (), "l": (), "": ("g3", "crush")}[chosen]
    out = {(): (chosen,) * bool(chosen), ("shells", "lane", "g4"): ("g3", "crush", "lane", "g4")}.get(
        marked, ("l2", "g1")
    )
    wanted = {STEP_OUT: off(*out), UP_TO: off(*after)}
    if isinstance(glue, Glue):
        wanted[WET] = session.with_step(msgspec.structs.replace(glue, mix=100.0))
    assert ("wet" in {h.id for h in hearables(session, ())}) is (isinstance(glue, Glue) or chosen == "lane")
    for path, other in wanted.items():
        heard = session.looking(hear=path)
        node = nodes_of(heard, Plan(heard))[path]
        offline = play_through(node, material)
        assert np.abs(offline - play_through(Plan(other).result, material)).max() < 1e-12, path
        engine = Engine(material, {}, heard)
        engine.listen(Monitoring(path=path))
        engine.play()
        live, late = pulled(engine, 2 * RATE), engine.late
        assert np.abs(live[late + FADED :] - offline[FADED : len(live) - late]).max() < 1e-9, path


def test_of_a_lane_only_what_it_makes_goes_on(material: Material) -> None:
    session = band().looking(step="lane", hear=WET)
    alone = Plan(session, solo=("lane",)).result
    assert nodes_of(session, Plan(session))[WET].key == alone.key


@pytest.mark.sampled(3)
@pytest.mark.parametrize("chosen", ["g3", "lane", "g4", "l"])
def test_live_is_offline_with_nesting_lanes_a_key_and_latency_everywhere(material: Material, chosen: str) -> None:
    session = band().looking(step=chosen)
    offline = {
        "result": play_through(Plan(session).result, material),
        "step_out": play_through(Plan(marks.without(session, (chosen,))).result, material),
        "untouched": play_through(Plan(session).untouched, material),
    }
    plan = Plan(session)
    ends = [play_through(node[chosen], material) for node in (plan.after, plan.before)]
    offline["change"] = ends[0] - ends[1]
    for path, wanted in offline.items():
        engine = Engine(material, {}, session)
        engine.listen(Monitoring(path=path))
        engine.play()
        live, late = pulled(engine, 3 * RATE), engine.late
        faded_in = FADED
        assert late > 400
        quiet = np.abs(wanted).max() <= 1.0
        assert quiet and np.abs(live[late + faded_in :] - wanted[faded_in : len(live) - late]).max() < 1e-9, path


def test_edits_during_play_end_where_a_render_does(material: Material) -> None:
    session = band()
    engine = Engine(material, {}, session)
    engine.listen(Monitoring())
    engine.play()
    pulled(engine, RATE)
    for edit in (
        lambda s: s.with_step(msgspec.structs.replace(s.step("g3"), threshold=-18.0)),
        lambda s: s.with_strip(strip(s, "snare", mute=True)),
        lambda s: s.with_step(msgspec.structs.replace(s.item("lane"), level=-6.0)),
        lambda s: s.with_step(msgspec.structs.replace(s.step("g4"), look_ahead=1.0)),
    ):
        session = edit(session)
        engine.change(session)
        pulled(engine, 20 * BLOCK)
    at = RATE + 80 * BLOCK
    live, late = pulled(engine, 2 * RATE), engine.late
    wanted = play_through(Plan(session).result, material)
    shown = wanted[at - late + RATE : at - late + 2 * RATE]
    assert np.abs(live[RATE : 2 * RATE] - shown).max() < 2e-3


def test_an_edit_makes_only_what_it_changes(material: Material) -> None:
    engine = Engine(material, {}, band())
    before = engine._swap.graph
    engine.change(band().with_step(msgspec.structs.replace(band().step("l"), drive=7.0)))
    shared = [key for key, part in engine._latest.runners.items() if before.runners.get(key) is part]
    assert len(engine._latest.runners) - len(shared) <= 3


@pytest.mark.parametrize("change", [{"level": -72.0}, {"mute": True}])
def test_a_lane_at_nothing_nulls_bit_for_bit(material: Material, change: dict[str, object]) -> None:
    session = band().with_step(msgspec.structs.replace(band().item("lane"), blend=0.0, **change))
    without = play_through(Plan(marks.without(session, ("lane",))).result, material)
    assert np.array_equal(play_through(Plan(session).result, material), without)


@pytest.mark.parametrize("gain", [-48.0, -0.01, 0.0, 7.3, 24.0])
@pytest.mark.parametrize(
    "more",
    [
        {},
        {"invert_left": True},
        {"invert_left": True, "invert_right": True},
        {"swap": True},
        {"remove_dc": True},
    ],
)
def test_a_trim_that_is_only_a_gain_is_not_run_and_does_what_a_run_does(
    gain: float, more: dict[str, bool], material: Material
) -> None:
    trim = Trim(id="t", gain=gain, **more)
    session = one([trim])
    x = material.sounds[NAMES[0]]
    material = one_stem(x.samples)
    assert ("t" in Plan(session).at_work) == bool(more)
    wanted = run_chain([trim], x.samples, RATE)
    joint = Renderer(material).song(session).joint("t")
    assert joint is not None
    # rounded to float32 once, or twice where the level is put on what was kept of a run: by 2⁻²⁴ of itself each time
    roundings = 2 if more else 1
    assert (np.abs(np.asarray(joint.audio) - wanted) <= roundings * 1.001 * 2.0**-24 * np.abs(wanted)).all()
    assert np.array_equal(play_through(Plan(session).result, material), wanted)


@pytest.mark.parametrize("makeup", [0.0, 3.0])
@pytest.mark.parametrize("gain", [0.0, 3.0, -6.0])
def test_what_a_step_takes_is_not_told_of_the_trim_after_it(gain: float, makeup: float, material: Material) -> None:
    glue = Glue(id="g", ratio=4.0, threshold=-30.0, makeup=makeup)
    session = one([glue, Trim(id="t", gain=gain)])
    renderer = Renderer(one_stem(material.sounds[NAMES[0]].samples))
    rendered = renderer.song(session)
    taken, trimmed = rendered.joint("g"), rendered.joint("t")
    assert taken is not None and taken.mean_reduction() > 1.0
    assert trimmed is not None and trimmed.reduction is None and trimmed.mean_reduction() == 0.0
    assert mean_along(rendered, MIX) == taken.mean_reduction()
    # nor where the Glue has made up what the Trim would add, so that both sound alike
    both = renderer.song(one([msgspec.structs.replace(glue, makeup=makeup + gain), Trim(id="t")]))
    assert mean_along(both, MIX) == both.joint("g").mean_reduction() > 1.0
    assert both.joint("t").reduction is None


def test_a_lane_is_in_step_to_the_sample() -> None:
    x = noise(0.5, 0.2)
    lane = Lane(id="lane", level=0.0, steps=(Limiter(id="l", ceiling=0.0), Glue(id="g", look_ahead=4.0)))
    out = play_through(Plan(one([Trim(id="t"), lane])).result, one_stem(x))
    assert np.abs(out - 2.0 * x.astype(np.float32)).max() < 1e-9  # late limiter and all: exactly twice the sound


def test_a_held_lane_keeps_the_loudness(material: Material) -> None:
    renderer = Renderer(material)
    session = band().with_step(msgspec.structs.replace(band().item("crush"), hold_loudness=True))
    for level in (-20.0, -6.0, 6.0):
        raised = session.with_step(msgspec.structs.replace(session.item("crush"), level=level))
        held = hold(renderer, raised, SPAN)
        song = renderer.song(held)
        main, side = held.item("crush"), song.plan.parts["crush", 0]
        before, after = song.at(side[0]).figures(SPAN).integrated, song.joint("crush").figures(SPAN).integrated
        assert after == pytest.approx(before, abs=0.03) and main.blend < 0.0
    assert hold(renderer, held, SPAN) == held


def test_gentle_and_crushed_meets_its_aims(material: Material) -> None:
    renderer = Renderer(material)
    session = gentle_and_crushed(band(), "drums")
    gentle, lane = session.strip("drums").chain
    assert isinstance(gentle, Glue) and isinstance(lane, Lane) and (lane.level, lane.since) == (-14.0, "")
    held = hold(renderer, session, SPAN)
    song = renderer.section(held, SPAN)
    assert song.joint(gentle.id).reduced(SPAN).peaks == pytest.approx(2.0, abs=0.05)
    assert song.joint(lane.steps[0].id).reduced(SPAN).peaks == pytest.approx(12.0, abs=0.05)


def test_hold_follows_what_feeds_the_bus(material: Material) -> None:
    renderer = Renderer(material)
    glue = msgspec.structs.replace(band().step("g3"), hold_aim=True, aim=3.0)
    session = hold(renderer, band().with_step(glue), SPAN)
    for edit in (
        lambda s: s.with_strip(strip(s, "kick", fader=-9.0)),
        lambda s: s.with_step(msgspec.structs.replace(s.step("g2"), threshold=-30.0)),
        lambda s: s.with_step(msgspec.structs.replace(s.step("g3"), low_cut=150.0, ratio=2.0, attack=2.0)),
    ):
        held = hold(renderer, edit(session), SPAN)
        joint = renderer.section(held, SPAN).joint("g3")
        assert joint is not None and joint.reduced(SPAN).peaks == pytest.approx(3.0, abs=0.05)
        assert held.step("g3").threshold != session.step("g3").threshold


def test_only_what_lies_below_an_edit_is_rendered_again(material: Material) -> None:
    renderer = Renderer(material)
    first = renderer.song(band())
    edited = band().with_step(msgspec.structs.replace(band().step("g3"), threshold=-20.0))
    second = renderer.song(edited)
    same = {"g2", "g4", "g5"}  # the lane leaves the chain before the Glue
    for id in steps_heard(band()):
        assert (first.joint(id) is second.joint(id)) is (id in same), id
    assert first.untouched is second.untouched
    fader = renderer.song(band().with_strip(strip(band(), "bass", fader=-2.0)))
    assert fader.joint("g3") is first.joint("g3") and fader.result is not first.result
    muted = renderer.song(band().with_strip(strip(band(), "bass", mute=True)))
    assert muted.joint("g4") is first.joint("g4")  # it is still measured, and a key may still want it


def test_figures_of_strips_are_those_of_their_sound(material: Material) -> None:
    song = Renderer(material).song(band())
    for id in ("kick", "snare", "cymbals", "drums"):
        strip = band().strip(id)
        assert strip is not None
        sound = song.end(id).audio * np.array(strip.gains)
        wanted = figures_of(trace_of(sound, RATE), SPAN)
        sent = song.sent(id, SPAN)
        assert sent is not None
        assert sent.integrated == pytest.approx(wanted.integrated, abs=1e-3)
        assert sent.true_peak == pytest.approx(wanted.true_peak, abs=0.01)
    assert mean_along(song, "shells", SPAN) == song.joint("g3").mean_reduction(SPAN)


def test_what_is_heard_alone_stays_out_of_figures_and_files(material: Material) -> None:
    session = band().looking(solo=("bass",))
    alone = Plan(session, solo=session.view.solo)
    assert alone.result.key != Plan(session).result.key == Plan(band()).result.key
    engine = Engine(material, {}, session)
    engine.listen(Monitoring())
    engine.play()
    live, late = pulled(engine, RATE), engine.late
    wanted = play_through(alone.result, material)
    assert np.abs(live[late + FADED :] - wanted[FADED : RATE - late]).max() < 1e-9
    lane = Plan(band(), solo=("crush",))
    assert lane.after["crush"].inputs == (lane.parts["crush", 0][1],)


def test_a_key_that_is_gone_is_its_own_signal(material: Material) -> None:
    session = band().with_step(msgspec.structs.replace(band().step("g4"), key="gone"))
    plain = band().with_step(msgspec.structs.replace(band().step("g4"), key=""))
    a, b = (play_through(Plan(s).result, material) for s in (session, plain))
    assert np.array_equal(a, b) and "g4" not in Plan(session).keys


def test_missing_stems_are_silent(material: Material) -> None:
    there = {key: sound for key, sound in material.sounds.items() if key != "bass"}
    part = Material(RATE, there, material.frames)
    song = Renderer(part).song(band())
    assert not song.end("bass").audio.any() and np.asarray(song.result.audio).any()
    engine = Engine(part, {}, band())
    engine.listen(Monitoring())
    engine.play()
    assert np.abs(pulled(engine, RATE)).max() > 0.01


def test_any_split_into_blocks_is_the_same(material: Material) -> None:
    whole = play_through(Plan(band()).result, material)[:RATE]
    machine, fill = Machine({"out": Plan(band()).result}, RATE), filler(material)
    parts = []
    for count, start in enumerate(range(0, 2 * RATE, 333)):
        for part in machine.sources:
            fill(part.node, start, part.out[:333])
        machine.process(333, count)
        parts.append(machine.paths["out"][:333].copy())
    out = np.concatenate(parts)[machine.latency :]
    assert np.abs(out[:RATE] - whole).max() < 1e-9
    assert next(iter(played(machine, "out", 10, fill)))[0] == 0


def test_branches_side_by_side_stop_together(material: Material) -> None:
    from gluvo.errors import Cancelled

    renderer, calls = Renderer(material), 0

    def progress(done: float) -> None:
        nonlocal calls
        calls += 1
        if calls > 40:
            raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        renderer.song(band(), progress)
    assert not renderer.known(band())
    assert np.asarray(renderer.song(band()).result.audio).any()


def test_what_is_heard_alone_is_as_loud_as_in_the_song_and_the_song_as_before_after_it(material: Material) -> None:
    session, gain = band(), 10 ** (-6.0 / 20)
    engine = Engine(material, {}, session)
    engine.listen(Monitoring(gains={"result": -6.0}))
    engine.play()
    pulled(engine, RATE // 2)
    at = RATE // 2
    for solo in (("snare",), ()):
        engine.change(session.looking(solo=solo))
        wanted = gain * play_through(Plan(session, solo=solo).result, material)
        live, late = pulled(engine, RATE), engine.late
        shown = wanted[at - late : at - late + RATE]
        assert np.abs(shown).max() > 0.01
        assert np.abs(live[RATE // 2 :] - shown[RATE // 2 :]).max() < 2e-3, solo
        at += RATE


def test_the_guard_tells_nothing_once_it_has_let_go() -> None:
    guard = Guard(RATE)
    blocks = np.repeat(np.concatenate([[2.0], np.full(400, 0.2)]), BLOCK)[:, None] * np.ones((1, 2))
    told = [guard.run(blocks[n : n + BLOCK].copy(), 1.0) for n in range(0, len(blocks), BLOCK)]
    seconds = BLOCK / RATE
    assert any(told[:20]) and not any(told[round(2.0 / seconds) :])
