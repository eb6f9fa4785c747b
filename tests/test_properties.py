"""Properties of trees, graphs and sections, over many that nobody thought of."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.errors import SessionError
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan, ordered, steps_heard
from gluvo.render.song import Renderer
from gluvo.session import sections, tree
from gluvo.session.media import Material
from gluvo.session.records import MIX, AnyStrip, Bus, Media, Section, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.steps import ChainItem, Glue, Lane, Limiter, Step, Trim

from .conftest import FADED, RATE, music, noise

FRAMES = 6000
SOUNDS = {f"stem-{n}": Sound(noise(FRAMES / RATE, 0.2, seed=n).astype(np.float32), RATE) for n in range(5)}
SONG = FRAMES + 480
"""To the end of the stem that begins last."""
MATERIAL = Material(RATE, SOUNDS, SONG)


@st.composite
def trees(draw: st.DrawFn, chains: bool = False) -> Session:
    """Sessions of up to five stems in up to four buses, with anything set on their strips."""
    buses = [f"bus-{n}" for n in range(draw(st.integers(0, 4)))]
    strips: list[AnyStrip] = [Bus(id=MIX, name="Mix bus", into="")]
    numbers = iter(range(1000))

    def chain() -> tuple[ChainItem, ...]:
        return draw(a_chain(numbers)) if chains else ()

    def strip(kind: type[Stem] | type[Bus], id: str, into: str, **more: object) -> AnyStrip:
        return kind(
            id=id,
            name=id,
            into=into,
            fader=draw(st.sampled_from([0.0, -72.0, -6.0, 3.5])),
            chain=chain(),
            pan=draw(st.sampled_from([0.0, -100.0, 30.0])),
            invert=draw(st.booleans()),
            amount=draw(st.sampled_from([100.0, 100.0, 0.0, 70.0, 150.0])),
            mute=draw(st.integers(0, 5)) == 0,
            **more,
        )

    for n, bus in enumerate(buses):  # each flows into an earlier one, so that there is no ring
        strips.append(strip(Bus, bus, draw(st.sampled_from([MIX, *buses[:n]]))))
    for n in range(draw(st.integers(1, 5))):
        media = Media(path=f"{n}.wav", size=1, sha256=f"{n:064x}")
        strips.append(
            strip(
                Stem,
                f"stem-{n}",
                draw(st.sampled_from([MIX, *buses])),
                media=media,
                mono=draw(st.booleans()),
                offset=draw(st.sampled_from([0.0, 0.01])),
            )
        )
    return Session(strips=tuple(draw(st.permutations(strips))), rate=RATE)


@st.composite
def a_chain(draw: st.DrawFn, numbers: object) -> tuple[ChainItem, ...]:
    """A few steps that do something, some in lanes."""

    def step() -> Step:
        id = f"step-{next(numbers)}"
        return draw(
            st.sampled_from(
                [
                    Trim(id=id, gain=-3.0, swap=True),
                    Glue(id=id, ratio=4.0, threshold=-20.0, look_ahead=1.0),
                    Glue(id=id, ratio=3.0, threshold=-18.0, feed_back=True),
                    Limiter(id=id, drive=3.0, ceiling=-2.0, true_peak=False),
                    Trim(id=id, gain=6.0, on=False),
                ]
            )
        )

    items: list[Step] = [step() for _ in range(draw(st.integers(0, 2)))]
    if draw(st.booleans()):
        since = draw(st.sampled_from(["", *(i.id for i in items)]))
        items.append(Lane(id=f"lane-{next(numbers)}", since=since, level=-6.0, steps=(step(),)))
    return tuple(items)


def summed(session: Session, id: str = MIX) -> np.ndarray:
    """What flows out of a strip, added up the plain way. Without steps."""
    strip = session.strip(id)
    assert strip is not None
    x = np.zeros((SONG, 2))
    if isinstance(strip, Stem):
        offset = round(strip.offset * RATE)
        x[offset : offset + FRAMES] = SOUNDS[id].samples
    else:
        for child in session.strips:
            if child.into == id and not child.mute:
                x += summed(session, child.id)
    return x * np.array(strip.gains)


@settings(max_examples=60, deadline=None)
@given(trees())
def test_without_steps_the_mix_is_the_plain_sum(session: Session) -> None:
    wanted = summed(session)
    plan = Plan(session)
    result = play_through(plan.result, MATERIAL)
    assert np.abs(result - wanted).max() < 1e-12
    assert np.abs(play_through(plan.untouched, MATERIAL) - wanted).max() < 1e-12
    assert np.abs(Renderer(MATERIAL).song(session).result.audio - wanted).max() < 1e-6


@settings(max_examples=25, deadline=None)
@given(trees(chains=True), st.data())
def test_live_is_offline_for_any_tree(session: Session, data: st.DataObject) -> None:
    ids = steps_heard(session)
    session = session.looking(step=data.draw(st.sampled_from(["", *ids])))
    engine = Engine(MATERIAL, {}, session)
    engine.listen(Monitoring())
    engine.play()
    out = np.zeros((FRAMES, 2))
    for at in range(0, FRAMES, 512):
        engine.pull(out[at : at + 512])
    late, wanted = engine.late, play_through(Plan(session).result, MATERIAL)
    if np.abs(wanted).max() <= 1.0:  # past full scale only the ears are guarded
        assert np.abs(out[late + FADED :] - wanted[FADED : FRAMES - late]).max() < 1e-9
    assert np.abs(Renderer(MATERIAL).song(session).result.audio - wanted).max() < 1e-4 * max(1.0, np.abs(wanted).max())


@settings(max_examples=60, deadline=None)
@given(trees(chains=True))
def test_the_same_sound_has_the_same_key_and_another_sound_another(session: Session) -> None:
    plan = Plan(session)
    again = Plan(msgspec.json.decode(msgspec.json.encode(session), type=Session).looking(page="deliver"))
    assert [n.key for n in plan.nodes()] == [n.key for n in again.nodes()]
    seen: set[str] = set()
    for node in ordered([plan.result]):
        assert all(before.key in seen for before in node.inputs)
        seen.add(node.key)
    for strip in session.strips:
        louder = msgspec.structs.replace(strip, fader=strip.fader + 1.0)
        heard = not strip.mute and strip.fader > -72.0
        changed = Plan(session.with_strip(louder)).result.key != plan.result.key
        if strip.id == MIX or (strip.into == MIX and heard):
            assert changed == (strip.id == MIX or not strip.mute)


@settings(max_examples=80, deadline=None)
@given(
    trees(),
    st.lists(st.tuples(st.integers(0, 9), st.integers(0, 9), st.integers(0, 9), st.integers(0, 3)), max_size=10),
)
def test_whatever_is_moved_the_tree_stays_a_tree(session: Session, moves: list[tuple[int, int, int, int]]) -> None:
    stems = {s.id for s in session.stems}
    for a, b, c, kind in moves:
        ids = [s.id for s in session.strips]
        one, into, before = (ids[n % len(ids)] for n in (a, b, c))
        before_it = session
        try:
            if kind == 0:
                session = tree.moved(session, one, into, before)
            elif kind == 1:
                session = tree.with_bus(session, "New", [one, into])
            else:
                session = tree.dissolved(session, one)
            tree.check(session)
        except SessionError:  # only into itself, or into a stem, is there no way
            assert kind == 0 and (into in tree.below(session, one) or isinstance(session.strip(into), Stem))
            session = before_it
        assert {s.id for s in session.stems} == stems
        shown = tree.rows(session)
        assert sorted(s.id for s, _ in shown) == sorted(s.id for s in session.strips) and shown[-1][0].id == MIX


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.floats(0.1, 5.0), min_size=1, max_size=6),
    st.lists(st.tuples(st.integers(0, 5), st.sampled_from(["start", "end"]), st.floats(-2.0, 40.0)), max_size=6),
)
def test_dragged_edges_never_cross(lengths: list[float], drags: list[tuple[int, str, float]]) -> None:
    edges = np.concatenate([[0.0], np.cumsum(lengths)])
    made = tuple(
        Section(id=str(n), name=str(n), start=float(a), end=float(b))
        for n, (a, b) in enumerate(itertools.pairwise(edges))
    )
    session = Session(sections=made)
    for n, edge, at in drags:
        session = sections.with_edge(session, str(n % len(made)), edge, at, float(edges[-1]))
    for section in session.sections:
        assert 0.0 <= section.start < section.end <= edges[-1] + 1e-6
        assert section.end - section.start >= min(sections.SHORTEST, *lengths) - 1e-5


@settings(max_examples=30, deadline=None)
@given(st.floats(-40.0, 12.0), st.sampled_from([None, Span(0.5, 2.0)]))
def test_a_scaled_trace_is_that_of_the_scaled_sound(db: float, span: Span | None) -> None:
    x, gain = music(3.0), 10 ** (db / 20)
    quick = figures_of(trace_of(x, RATE).cut(span).scaled(-gain))
    plain = figures_of(trace_of(x * gain, RATE).cut(span))
    for name in ("integrated", "true_peak", "sample_peak", "rms", "crest", "correlation", "width", "mono_loss"):
        assert getattr(quick, name) == pytest.approx(getattr(plain, name), abs=0.01), name
