"""What goes by sections: lifts and steps that work in some of them, to the sample, in files, live and in figures."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.dsp.envelope import Envelope, cross, ride, smoothed
from gluvo.measure.trace import Span
from gluvo.play.device import BLOCK
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.meters import ROWS, STEPS_AT, WRITTEN
from gluvo.render.machine import Machine, filler, play_through
from gluvo.render.plan import Plan, steps_heard
from gluvo.render.reduction import mean_along, taken_along, taken_by
from gluvo.render.song import Renderer
from gluvo.session import alternatives, by_section, chains, sections
from gluvo.session.by_section import split_off, with_gain, with_sections, working_in
from gluvo.session.media import Material
from gluvo.session.records import MIX, Section, Session
from gluvo.session.sounds import Sound
from gluvo.session.store import read_session, write_session
from gluvo.session.versions import differences
from gluvo.steps import Glue, Lane, Limiter, Saturation, Split, SplitBand, Step, Trim, Width

from .conftest import FADED, RATE, music, one
from .conftest import material as one_stem

SONG = (
    Section(id="verse", name="Verse", start=0.0, end=1.5),
    Section(id="bridge", name="Bridge", start=1.5, end=2.6),
    Section(id="chorus", name="Chorus", start=2.6, end=4.0),
)


def song(chain: list[Step], rate: int = RATE, seconds: float = 4.0) -> tuple[Material, Session]:
    """Four seconds with three sections."""
    session = one(chain).replace(sections=SONG, rate=rate)
    made = one_stem((music(seconds, rate) * 0.5).astype(np.float32), rate)
    stem = session.stems[0]
    media = msgspec.structs.replace(stem.media, seconds=seconds)
    return made, session.with_strip(msgspec.structs.replace(stem, media=media))


def lifted(session: Session, ramp: float = 100.0, *, before: bool = False, **gains: float) -> Session:
    """With the mix bus at some levels by section."""
    for section, gain in gains.items():
        session = with_gain(session, MIX, section, gain)
    return session.with_strip(msgspec.structs.replace(session.mix, ride_ramp=ramp, ride_before=before))


# --- envelopes ---------------------------------------------------------------------------------------------------------

STEPS = st.lists(st.tuples(st.integers(0, 400), st.sampled_from([-3.0, 0.0, 0.1, 0.3, 1.1, 6.0])), max_size=6)


@given(STEPS, st.sampled_from([0.0, 0.5, -2.0]), st.integers(0, 150))
def test_a_smoothed_value_is_the_mean_of_what_is_around(
    steps: list[tuple[int, float]], first: float, ramp: int
) -> None:
    found = sorted({at: value for at, value in steps}.items())
    points = smoothed([(at / 100.0, value) for at, value in found], first, 2 * ramp / 100.0)
    assert [t for t, _ in points] == sorted(t for t, _ in points)
    curve = Envelope.at(points, 1000).read(np.arange(-3000, 8000))
    plain = np.full(11000, first)
    for at, value in found:
        plain[3000 + 10 * at :] = value
    if ramp == 0:
        assert np.array_equal(curve, plain)
        return
    total = np.concatenate([[0.0], np.cumsum(plain)])
    places, half = np.arange(2000, 9000), 10 * ramp
    assert np.allclose(curve[places], (total[places + half] - total[places - half]) / (2 * half), atol=1e-9)
    ramps = np.zeros(11000, bool)
    for at, _ in found:
        ramps[3000 + 10 * at - half : 3000 + 10 * at + half + 1] = True
    assert np.array_equal(curve[~ramps], plain[~ramps])  # to the bit


@settings(deadline=None)  # the first run compiles
@given(st.lists(st.integers(1, 700), min_size=1, max_size=30), st.integers(-500, 500), st.integers(0, 300))
def test_levels_and_shares_depend_on_the_frame_alone(blocks: list[int], first: int, ramp: int) -> None:
    envelope = Envelope.at(smoothed([(0.1, 1.0), (0.25, 0.3), (0.6, 0.0)], 0.0, ramp / 1000.0), 1000)
    x, y = (np.random.default_rng(n).standard_normal((sum(blocks), 2)) for n in (1, 2))
    places = first + np.arange(len(x))
    whole, mixed, parts, mixes = (np.zeros_like(x) for _ in range(4))
    ride(x, first, envelope.places, envelope.values, whole)
    cross(x, y, first, envelope.places, envelope.values, mixed)
    at = 0
    for n in blocks:
        ride(x[at : at + n], first + at, envelope.places, envelope.values, parts[at : at + n])
        cross(x[at : at + n], y[at : at + n], first + at, envelope.places, envelope.values, mixes[at : at + n])
        at += n
    assert np.array_equal(whole, parts) and np.array_equal(mixed, mixes)
    values = envelope.read(places)[:, None]
    assert np.allclose(whole, x * 10 ** (values / 20.0), atol=1e-12)
    assert np.allclose(mixed, x + values * (y - x), atol=1e-12)
    assert np.array_equal(whole[values[:, 0] == 0.0], x[values[:, 0] == 0.0])
    assert np.array_equal(mixed[values[:, 0] == 1.0], y[values[:, 0] == 1.0])


# --- lifts -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [44_100, pytest.param(192_000, marks=pytest.mark.thorough)])
@pytest.mark.parametrize("before", [False, True])
@pytest.mark.parametrize("ramp", [0.0, 100.0, 2000.0])
def test_a_lifted_section_is_louder_by_that_and_nothing_else(rate: int, before: bool, ramp: float) -> None:
    material, session = song([Glue(id="g", ratio=4.0, threshold=-30.0, look_ahead=2.0)], rate)
    plain = play_through(Plan(session).result, material)
    made = lifted(session, ramp, before=before, bridge=3.0, chorus=-4.0)
    out = play_through(Plan(made).result, material)
    curve = Envelope.at(by_section.lifted(made, made.mix), rate).read(np.arange(len(out)))
    if before:
        x = np.asarray(material.sounds[session.stems[0].id].samples, np.float64) * 10 ** (curve[:, None] / 20)
        alone = Material(rate, {session.stems[0].id: Sound(x.astype(np.float32), rate)}, len(x))
        assert np.abs(out - play_through(Plan(session).result, alone)).max() < 1e-5
        return
    assert np.abs(out - plain * 10 ** (curve[:, None] / 20)).max() < 1e-12
    middle = slice(round(2.0 * rate), round(2.1 * rate))
    if ramp <= 100.0:
        assert curve[middle] == pytest.approx(3.0) and curve[-1] == -4.0  # to the song's last sample
        assert np.array_equal(out[:rate], plain[:rate])
    steepest = np.abs(np.diff(curve)).max()
    if ramp:
        assert steepest <= 7.0 / (ramp / 1000.0 * rate) * 1.01  # the edge between +3 and −4 dB


def test_where_lifted_sections_overlap_the_first_counts() -> None:
    over = (Section(id="a", name="A", start=0.5, end=2.5), Section(id="b", name="A", start=2.0, end=3.5))
    _, session = song([])
    made = lifted(session.replace(sections=over), 0.0, a=2.0, b=5.0)
    curve = Envelope.at(by_section.lifted(made, made.mix), 1000)
    assert curve.read([400, 1000, 2400, 2600, 3600]).tolist() == [0.0, 2.0, 2.0, 5.0, 0.0]
    assert lifted(session, gone=3.0).mix.rides == ()  # a section that is not there is not lifted


# --- steps by section --------------------------------------------------------------------------------------------------

KINDS: list[Step] = [
    Glue(id="s", ratio=4.0, threshold=-34.0, look_ahead=3.0, makeup=2.0),
    Saturation(id="s", drive=12.0),
    Limiter(id="s", drive=9.0, ceiling=-6.0),
    Width(id="s", width_1=40.0, width_3=160.0),
    Trim(id="s", gain=-5.0),
    Lane(id="s", level=-3.0, steps=(Glue(id="in", ratio=8.0, threshold=-40.0, look_ahead=1.0),)),
    Split(
        id="s",
        crossovers=(300.0,),
        bands=(SplitBand(id=1, steps=(Glue(id="in", ratio=5.0, threshold=-40.0),)), SplitBand(id=2)),
    ),
]


@pytest.mark.parametrize("step", KINDS, ids=lambda step: step.title)
@pytest.mark.parametrize("ramp", [0.0, 50.0])
def test_outside_of_its_sections_a_step_is_not_there(step: Step, ramp: float) -> None:
    rest = [Glue(id="after", ratio=2.0, threshold=-60.0, release=5.0)]
    material, session = song([step])
    made = working_in(session, "s", ("bridge",))
    made = made.with_step(msgspec.structs.replace(made.item("s"), section_ramp=ramp))
    out, always, never = (
        play_through(Plan(s).result, material)
        for s in (made, session, session.with_step(msgspec.structs.replace(step, on=False)))
    )
    shares = Envelope.at(by_section.working(made, made.item("s")), RATE).read(np.arange(len(out)))
    assert np.array_equal(out[shares == 0.0], never[shares == 0.0])
    assert np.array_equal(out[shares == 1.0], always[shares == 1.0])
    between = (shares > 0.0) & (shares < 1.0)
    wanted = never + shares[:, None] * (always - never)
    assert between.sum() == pytest.approx(2 * ramp / 1000 * RATE, abs=4)
    assert np.abs(out - wanted)[between].max(initial=0.0) < 1e-12
    assert np.abs(Renderer(material).song(made).result.audio - out).max() < 3e-6
    # a step behind it hears only what comes out
    behind = made.with_chain(MIX, [*made.mix.chain, *rest])
    heard = play_through(Plan(behind).before["after"], material)
    assert np.array_equal(heard, out)


def test_another_setting_for_a_section_takes_the_place_of_the_first() -> None:
    first = Glue(id="g", ratio=2.0, threshold=-30.0, look_ahead=1.0)
    material, session = song([Trim(id="t", gain=-2.0), first, Limiter(id="l", ceiling=-3.0, drive=4.0)])
    made, id = split_off(session, "g", "bridge")
    hard = msgspec.structs.replace(made.item(id), ratio=10.0, threshold=-40.0, look_ahead=4.0)
    made = made.with_step(hard)
    assert [item.id for item in made.mix.chain] == ["t", "g", id, "l"] and made.item(id).held_in == "bridge"

    def with_glue(glue: Step) -> np.ndarray:
        there = session.with_chain(
            MIX, [Trim(id="t", gain=-2.0), msgspec.structs.replace(glue, sections=(), instead_of="")]
        )
        return play_through(Plan(there).result, material)

    out = play_through(Plan(made.with_chain(MIX, made.mix.chain[:-1])).result, material)
    shares = Envelope.at(by_section.working(made, hard), RATE).read(np.arange(len(out)))[:, None]
    wanted = with_glue(first) + shares * (with_glue(hard) - with_glue(first))  # never one after the other
    assert np.abs(out - wanted).max() < 1e-12
    render = Renderer(material).song(made)
    taken = [render.joint(i).reduction.mean for i in ("g", id)]
    assert taken[0][165:250].max() == 0.0 < taken[1][165:250].min()  # what it takes is told where it is heard
    assert taken[1][:140].max() == 0.0 < taken[0][20:140].max()
    assert taken_along(render, MIX).most[165:250].max() == pytest.approx(
        sum(render.joint(i).reduction.top for i in (id, "l"))[165:250].max()
    )
    twice, _ = split_off(made, id, "bridge")
    assert twice == made  # it has a setting of its own there already
    third, other = split_off(made, "g", "chorus")
    assert [by_section.replaced_by(third.mix.chain, third.item(i)).id for i in (id, other)] == ["g", "g"]
    alone = made.without_step("g")
    assert by_section.replaced_by(alone.mix.chain, alone.item(id)) is None
    assert np.isfinite(play_through(Plan(alone).result, material)).all()


def test_reduction_is_told_where_it_arrives() -> None:
    material, session = song([Glue(id="g", ratio=8.0, threshold=-40.0, mix=70.0), KINDS[-1]])
    always = Renderer(material).song(session)
    made = Renderer(material).song(working_in(working_in(session, "g", ("bridge",)), "s", ("bridge",)))
    bridge, verse = Span(1.6, 2.5), Span(0.0, 1.4)
    for render, wanted in ((always, None), (made, 0.0)):
        joint = render.joint("g")
        assert joint is not None and joint.wet is not None
        if wanted is not None:
            assert joint.reduced(verse).most == joint.wet_reduced(verse).most == mean_along(render, MIX, verse) == 0.0
            assert taken_by(render, "s").most[:140].max() == taken_along(render, MIX).most[:140].max() == 0.0
            assert joint.hardest(verse) == () and joint.reduction.share_taken(verse) == 0.0
    before, after = (render.joint("g").reduced(bridge) for render in (always, made))
    assert before.most > 3.0 and after == pytest.approx(before, abs=1e-6)
    part = Renderer(material).section(working_in(session, "g", ("bridge",)), bridge).joint("g")
    assert part.reduced(bridge).peaks == pytest.approx(after.peaks, abs=0.02)


# --- live --------------------------------------------------------------------------------------------------------------


def busy_session() -> tuple[Material, Session]:
    """Lifts on the stem and the mix bus, a step by section with latency, another setting of it, a lane by section."""
    glue = Glue(id="g", ratio=4.0, threshold=-34.0, look_ahead=3.0)
    material, session = song([glue, KINDS[-2], Limiter(id="l", drive=3.0, ceiling=-2.0)])
    session, id = split_off(working_in(session, "s", ("chorus",)), "g", "bridge")
    session = session.with_step(msgspec.structs.replace(session.item(id), ratio=9.0, look_ahead=0.5))
    session = with_gain(session, session.stems[0].id, "bridge", -6.0)
    return material, lifted(session, 300.0, bridge=2.0, chorus=4.0)


@pytest.mark.parametrize("start", [0.0, 0.8, 1.49, 1.62, 2.7])
def test_live_is_the_file_from_any_place(start: float) -> None:
    material, session = busy_session()
    wanted = play_through(Plan(session).result, material)
    engine = Engine(material, {}, session)
    engine.listen(Monitoring())
    engine.seek(start)
    engine.play()
    live = np.zeros((RATE, 2))
    for at in range(0, len(live), BLOCK):
        engine.pull(live[at : at + BLOCK])
    first = round(start * RATE)
    late = engine.late
    heard, asked = live[late + FADED :], wanted[first + FADED : first + len(live) - late]
    assert np.abs(heard - asked).max() < (
        1e-9 if start == 0.0 else 2e-4
    )  # a run-in ends where releases are all but over


def test_the_live_reduction_is_what_is_heard() -> None:
    material, session = song([Glue(id="g", ratio=8.0, threshold=-40.0)])
    session, id = split_off(working_in(session, "g", ("verse", "bridge")), "g", "bridge")
    order = steps_heard(session)
    engine = Engine(material, {}, session)
    engine.listen(Monitoring())
    engine.play()
    block, taken = np.zeros((BLOCK, 2)), []
    for _ in range(4 * RATE // BLOCK):
        engine.pull(block)
        row = engine.board.rows[(int(engine.board.state[WRITTEN]) - 1) % ROWS]
        taken.append([float(row[STEPS_AT + order.index(step)]) for step in ("g", id)])
    found = np.array(taken)
    at = np.arange(len(found)) * BLOCK / RATE
    verse, bridge, chorus = ((at > a) & (at < b) for a, b in ((0.5, 1.4), (1.65, 2.5), (2.75, 3.9)))
    assert found[verse, 0].min() > 1.0 and found[verse, 1].max() == 0.0
    assert found[bridge, 1].min() > 1.0 and found[bridge, 0].max() == 0.0 == found[chorus].max()


def test_any_blocks_give_the_same() -> None:
    material, session = busy_session()
    whole = play_through(Plan(session).result, material)
    node = Plan(session).result
    machine, fill = Machine({"out": node}, RATE), filler(material)
    machine.begin(0)
    parts = []
    for count, start in enumerate(range(0, 4 * RATE, 997)):
        for part in machine.sources:
            fill(part.node, start, part.out[:997])
        machine.process(997, count)
        parts.append(machine.paths["out"][:997].copy())
    out = np.concatenate(parts)[machine.latency :]
    assert np.abs(out[: 3 * RATE] - whole[: 3 * RATE]).max() < 1e-9


def test_edits_while_it_plays_step_nowhere() -> None:
    """A tone through lifts and steps that come and go, with edits of them meanwhile: no step but those of the ramps."""
    t = np.arange(8 * RATE) / RATE
    tone = np.repeat((0.2 * np.sin(2 * np.pi * 200.0 * t))[:, None], 2, 1).astype(np.float32)
    _, session = song([Trim(id="s", gain=-4.0)])
    material = one_stem(tone)
    engine = Engine(material, {}, session)
    engine.listen(Monitoring())
    engine.play()
    edits: list[Any] = [
        lambda s: lifted(s, 100.0, verse=6.0),
        lambda s: working_in(s, "s", ("verse",)),
        lambda s: lifted(s, 100.0, verse=-6.0),
        lambda s: s.replace(sections=sections.edge_moved(s.sections, "verse", "end", 2.4, 8.0)),
        lambda s: working_in(s, "s", ("bridge",)),
        lambda s: with_sections(s, s.sections[1:])[0],
        lambda s: working_in(s, "s", ()),
    ]
    heard = []
    for edit in edits:
        session = edit(session)
        engine.change(session)
        out = np.zeros((16 * BLOCK, 2))
        for at in range(0, len(out), BLOCK):
            engine.pull(out[at : at + BLOCK])
        heard.append(out)
    x = np.concatenate(heard)[FADED + 4 * BLOCK :, 0]
    bends = np.abs(np.diff(x, 2)).max() / np.abs(x).max()
    assert bends < 4.0 * (2 * np.pi * 200.0 / RATE) ** 2


# --- the session -------------------------------------------------------------------------------------------------------


def test_what_goes_with_a_section_is_told() -> None:
    _, session = song([Glue(id="g"), Trim(id="t")])
    session = lifted(
        working_in(working_in(session, "g", ("bridge",)), "t", ("bridge", "verse")), bridge=2.0, chorus=1.0
    )
    left, lost = with_sections(session, sections.without(session.sections, "bridge"))
    assert len(lost) == 2 and "+2.0 dB in Bridge" in lost[0] and "Glue" in lost[1] and "off" in lost[1]
    assert not left.item("g").on and left.item("t").sections == ("verse",) and left.item("t").on
    assert [lift.section for lift in left.mix.rides] == ["chorus"]
    several = alternatives.with_another(session, "g")  # one is put away, and goes by the section, too
    left, _ = with_sections(several, sections.without(several.sections, "bridge"))
    put_away = alternatives.choosing(left, "g", 0).item("g")
    assert put_away.sections == () and not put_away.on
    moved = session.replace(sections=sections.edge_moved(session.sections, "bridge", "end", 3.0, 4.0))
    assert by_section.lifted(moved, moved.mix) != by_section.lifted(session, session.mix)
    assert with_sections(session, session.sections) == (session, ())


def test_sections_from_a_file_are_the_same_where_they_are_called_the_same(tmp_path: Path) -> None:
    _, session = song([Glue(id="g")])
    session = lifted(working_in(session, "g", ("bridge",)), bridge=2.0)
    (tmp_path / "s.csv").write_text("Bridge,1.2,2.9\nOut,2.9,4\n")
    made, lost = with_sections(session, sections.read_csv(tmp_path / "s.csv", session))
    assert lost == () and made.mix.rides == session.mix.rides and made.item("g").sections == ("bridge",)
    assert [(s.name, s.start) for s in made.sections] == [("Bridge", 1.2), ("Out", 2.9)]
    (tmp_path / "s.csv").write_text("Bridge,0,1\nBridge,1,2\n")
    _, lost = with_sections(session, sections.read_csv(tmp_path / "s.csv", session))
    assert len(lost) == 2  # which of them was meant cannot be known


def test_lifts_and_places_are_kept_and_told_between_versions(tmp_path: Path) -> None:
    _, session = song([Glue(id="g"), Trim(id="t")])
    made = lifted(working_in(session, "g", ("bridge", "chorus")), 40.0, before=True, bridge=-2.5)
    made, _ = split_off(made, "t", "verse")
    write_session(tmp_path / "s.gluvo", made)
    assert read_session(tmp_path / "s.gluvo").session == made
    told = {(d.what, d.before, d.after) for d in differences(session, made)}
    assert ("works in", "the whole song", "Bridge, Chorus") in told and ("lift in Bridge", "0.0 dB", "−2.5 dB") in told
    assert ("before the chain", "off", "on") in told


@pytest.mark.parametrize("gone", ["verse", ""])
def test_a_session_by_hand_whose_sections_are_gone_is_whole(gone: str) -> None:
    material, session = song([Glue(id="g", ratio=4.0, threshold=-40.0), Limiter(id="l", drive=3.0)])
    mix = msgspec.structs.replace(
        session.mix,
        chain=tuple(
            msgspec.structs.replace(item, sections=("nowhere", gone)[: 1 + bool(gone)], instead_of="nobody")
            for item in session.mix.chain
        ),
    )
    render = Renderer(material).song(session.with_strip(mix))
    off = play_through(Plan(session.with_chain(MIX, [])).result, material)
    if not gone:
        assert np.array_equal(np.asarray(render.result.audio), off.astype(np.float32))
        assert render.joint("g").reduced().most == 0.0
    assert by_section.where(session, mix.chain[0]) == ("Verse" if gone else "no section that there is")


@settings(max_examples=25, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 2), st.floats(-24.0, 12.0)), max_size=12))
def test_any_edits_make_a_session_that_is_whole(
    tmp_path_factory: pytest.TempPathFactory, edits: list[tuple[int, int, float]]
) -> None:
    _, session = song([Glue(id="g"), KINDS[-2], KINDS[1].__class__(id="sat")])
    ids = ["verse", "bridge", "chorus"]
    for what, n, value in edits:
        item = session.items[n % len(session.items)].id if session.items else ""
        if what == 0:
            session = with_gain(session, MIX, ids[n], round(value, 2))
        elif what == 1:
            session = working_in(session, item, ids[: 1 + n])
        elif what == 2:
            session = split_off(session, item, ids[n])[0]
        elif what == 3:
            session = with_sections(session, sections.without(session.sections, ids[n]))[0]
        elif what == 4:
            session = session.without_step(item)
        else:
            session = working_in(session, item, ())
    path = tmp_path_factory.mktemp("edits") / "s.gluvo"
    write_session(path, session)
    assert read_session(path).session == session
    plan = Plan(session)
    assert set(plan.after) == {item.id for strip in session.strips for item in chains.flat_on(strip.chain)}
