"""The Split: bands that add up, band by band at work, in chains and lanes, live as offline."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.compare.hearables import nodes_of
from gluvo.dsp.crossover import band_sections, linear_bands
from gluvo.dsp.filters import response
from gluvo.errors import SessionError
from gluvo.measure.trace import Span
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.chain import run_chain
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.reduction import mean_along
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import Bus, Media, Session, Stem
from gluvo.session.store import checked, loaded_from
from gluvo.steps import (
    STEP_KINDS,
    ChainItem,
    Glue,
    Lane,
    Limiter,
    Outboard,
    ResonanceTamer,
    Saturation,
    Split,
    SplitBand,
    Step,
    Trim,
)
from gluvo.steps.split import APART, HIGHEST, LOWEST, Cut

from .conftest import FADED, RATE, hold, material, music, noise, one
from .test_eq_live import pulled

RATES = [44_100, 48_000, 96_000, 192_000]
SLOPES = [12, 24, 48]
IDLE = Limiter(id="idle")
"""Does nothing to what is under full scale, but counts as at work."""


def split(*rows: Sequence[Step], crossovers: Sequence[float] = (), **more: object) -> Split:
    """A Split `s` with these steps in its bands."""
    bands = tuple(SplitBand(id=n, steps=tuple(row)) for n, row in enumerate(rows, start=1))
    freqs = tuple(crossovers) or (160.0, 1200.0, 4000.0, 9000.0)[: len(rows) - 1]
    return Split(**{"id": "s", "bands": bands, "crossovers": freqs, **more})


def exactly(chain: Sequence[ChainItem], x: np.ndarray, rate: int = RATE) -> np.ndarray:
    """What a chain on the mix bus gives, as it is written into files."""
    session = checked(one(chain).replace(rate=rate))
    return play_through(Plan(session).result, material(x, rate))


rising = st.lists(st.floats(LOWEST, HIGHEST), min_size=1, max_size=4, unique=True).map(sorted)


@settings(max_examples=60, deadline=None)
@given(rising, st.sampled_from(SLOPES), st.sampled_from(RATES))
def test_bands_sum_flat_at_any_crossovers(freqs: list[float], slope: int, rate: int) -> None:
    f = np.geomspace(5.0, 0.49 * rate, 2000)
    total = sum(response(band_sections(freqs, n, rate, slope), f, rate) for n in range(len(freqs) + 1))
    assert np.abs(20.0 * np.log10(np.abs(total))).max() < 0.01


@settings(max_examples=12, deadline=None)
@given(rising, st.sampled_from(SLOPES), st.sampled_from(RATES))
def test_linear_bands_sum_to_one_tap(freqs: list[float], slope: int, rate: int) -> None:
    taps = linear_bands(tuple(freqs), rate, slope)
    total, half = np.sum(taps, axis=0), len(taps[0]) // 2
    assert abs(total[half] - 1.0) < 1e-14 and np.abs(np.delete(total, half)).max() < 1e-14
    for band in taps:
        assert np.abs(band - band[::-1]).max() < 1e-12  # no phase but the delay


@pytest.mark.parametrize("slope", SLOPES)
def test_each_side_falls_as_steeply_as_is_said(slope: int) -> None:
    f = np.array([500.0, 1000.0, 2000.0, 4000.0, 250.0])
    low, high = (np.abs(response(band_sections([1000.0], n, RATE, slope), f, RATE)) for n in range(2))
    assert 20 * np.log10(low[1]) == pytest.approx(-6.02, abs=0.01) == 20 * np.log10(high[1])
    assert 20 * np.log10(low[3] / low[2]) == pytest.approx(-slope, abs=0.12 * slope)
    assert 20 * np.log10(high[4] / high[0]) == pytest.approx(-slope, abs=0.12 * slope)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_neutral_bands_give_the_sound_back(rate: int, phase: str) -> None:
    click = np.zeros((rate, 2))
    click[rate // 3] = 0.5, -0.25
    made = split([IDLE], [], [], phase=phase)
    y = exactly([made], click, rate)
    if phase == "linear":
        assert np.abs(y - click).max() < 1e-12
    spectra = np.abs(np.fft.rfft(y[:, 0])), np.abs(np.fft.rfft(click[:, 0]))
    inside = slice(30, round(20_000 * len(click) / rate))
    assert np.abs(20 * np.log10(spectra[0][inside] / spectra[1][inside])).max() < 0.01


@pytest.mark.parametrize(
    "made",
    [
        Split(id="s"),
        split([Glue(id="g")], [Trim(id="t")], [Saturation(id="a")], phase="linear"),
        split([Trim(id="t", gain=6.0, on=False)], [], slope=48),
        msgspec.structs.replace(
            split([IDLE], []), bands=(SplitBand(id=1, on=False, gain=3.0, steps=(IDLE,)), SplitBand(id=2))
        ),
        msgspec.structs.replace(split([IDLE], []), bands=(SplitBand(id=1, mix=0.0, steps=(IDLE,)), SplitBand(id=2))),
    ],
)
def test_while_no_band_does_anything_it_passes_bit_for_bit_and_costs_nothing(made: Split) -> None:
    x = music(2.0)
    session = one([made])
    plan = Plan(session)
    assert plan.result is Plan(one([])).result or plan.result.key == Plan(one([])).result.key
    assert np.array_equal(exactly([made], x), x.astype(np.float32).astype(np.float64))


def test_a_step_in_a_band_works_on_that_band_alone() -> None:
    x = noise(3.0)
    y = exactly([split([], [Trim(id="t", gain=-12.0)], [], slope=48)], x)
    spectra = [np.abs(np.fft.rfft(s[:, 0])) for s in (x, y)]
    freqs = np.fft.rfftfreq(len(x), 1 / RATE)

    def change(low: float, high: float) -> float:
        rows = (freqs > low) & (freqs < high)
        return float(10 * np.log10((spectra[1][rows] ** 2).sum() / (spectra[0][rows] ** 2).sum()))

    assert change(400.0, 500.0) == pytest.approx(-12.0, abs=0.15)
    assert abs(change(20.0, 40.0)) < 0.1 and abs(change(12_000.0, 20_000.0)) < 0.1


@pytest.mark.parametrize("target", ["mid", "side"])
def test_a_band_can_work_in_mid_or_side_only(target: str) -> None:
    x = music(2.0)
    made = msgspec.structs.replace(
        split([Trim(id="t", gain=-30.0)], [], phase="linear", crossovers=(8000.0,)),
        bands=(SplitBand(id=1, target=target, steps=(Trim(id="t", gain=-30.0),)), SplitBand(id=2)),
    )
    y = exactly([made], x)
    kept = (lambda s: s[:, 0] - s[:, 1]) if target == "mid" else (lambda s: s[:, 0] + s[:, 1])
    lost = (lambda s: s[:, 0] + s[:, 1]) if target == "mid" else (lambda s: s[:, 0] - s[:, 1])
    assert np.abs(kept(y) - kept(x)).max() < 1e-6  # what comes in has been kept as float32
    assert np.std(lost(y)) < 0.3 * np.std(lost(x))


@settings(max_examples=10, deadline=None)
@given(st.floats(0.0, 100.0), st.floats(-24.0, 24.0), st.floats(0.1, 10.0))
def test_dry_and_wet_of_a_band_are_in_step(mix: float, gain: float, look_ahead: float) -> None:
    """A limiter that is late and does nothing: at any mix the band is as it came, times its gain."""
    x = noise(0.6, 0.05)
    band = SplitBand(id=1, steps=(Limiter(id="l", look_ahead=look_ahead),), mix=mix, gain=gain)
    made = split([], [], phase="linear")
    y = exactly([msgspec.structs.replace(made, bands=(band, SplitBand(id=2)))], x)
    bare = exactly(
        [msgspec.structs.replace(made, bands=(SplitBand(id=1, steps=(Trim(id="t", gain=gain),)), SplitBand(id=2)))], x
    )
    assert np.abs(y - bare).max() < 1e-9


@pytest.mark.thorough
@settings(max_examples=12, deadline=None)
@given(st.data())
def test_live_is_offline_with_anything_in_the_bands(data: st.DataObject) -> None:
    """Splits with steps of every kind, alone and in a lane in a nested bus; heard as they are written."""
    examples = [e for kind in STEP_KINDS if kind is not Outboard for e in kind.examples()]  # it plays a recording
    count = data.draw(st.integers(2, 5))
    numbers = itertools.count(1)

    def row() -> list[Step]:
        found = data.draw(st.lists(st.sampled_from(examples), max_size=2))
        return [msgspec.structs.replace(step, id=f"x{next(numbers)}") for step in found]

    made = split(*(row() for _ in range(count)), slope=data.draw(st.sampled_from(SLOPES)))
    bands = tuple(
        msgspec.structs.replace(
            band,
            mix=data.draw(st.sampled_from([0.0, 40.0, 100.0])),
            gain=data.draw(st.sampled_from([-6.0, 0.0, 3.0])),
            target=data.draw(st.sampled_from(["stereo", "mid", "side"])),
            on=data.draw(st.booleans()),
        )
        for band in made.bands
    )
    amounts = st.sampled_from([0.0, 60.0, 100.0, 150.0])
    side: dict[str, object] = {}
    if data.draw(st.booleans()):
        more = tuple(SplitBand(id=20 + n, steps=tuple(row()), gain=-2.0) for n in range(2))
        side = {"side_bands": more, "side_crossovers": (700.0,)}
    made = msgspec.structs.replace(
        made,
        bands=bands,
        phase=data.draw(st.sampled_from(["minimum", "linear"])),
        amount=data.draw(amounts),
        **side,
    )
    inner = msgspec.structs.replace(made, id="s2")
    inner = inner.with_rows(
        [[msgspec.structs.replace(step, id=f"y{next(numbers)}") for step in row] for row in inner.rows]
    )
    lane = Lane(id="lane", level=-6.0, steps=(inner,), amount=data.draw(amounts))
    media = Media(path="x.wav", size=1, sha256="0" * 64)
    session = Session(
        rate=RATE,
        strips=(
            Bus(id="mix", name="Mix", into="", chain=(made,), amount=data.draw(amounts)),
            Bus(id="b", name="B", into="mix", chain=(lane,), amount=data.draw(amounts)),
            Stem(id="stem-1", name="S", into="b", media=media),
        ),
    )
    silence = np.zeros((round(0.7 * RATE), 2))  # linear phase begins before the sound does, and ends after it
    x = np.concatenate([silence, silence, music(0.6), silence])
    song = material(x)
    wanted = play_through(Plan(session).result, song)
    engine = Engine(song, {}, session)
    engine.listen(Monitoring())
    engine.play()
    late = engine.late
    live = pulled(engine, len(x) // 2 + late)
    assert np.abs(live[late + FADED :] - wanted[FADED : len(live) - late]).max() < 1e-9
    if any(isinstance(item, ResonanceTamer) for item in session.items):
        return  # its frames lie elsewhere where it begins elsewhere
    rendered = Renderer(song).song(session).result.audio
    assert np.abs(rendered - wanted).max() < 2e-4 * max(1.0, np.abs(wanted).max())  # float32 between nodes


def test_a_part_alone_and_what_it_changes_can_be_heard() -> None:
    x = music(2.0)
    made = split([Trim(id="t", gain=-6.0)], [], [], phase="linear")
    session = one([made], step="s", band=1, hear="band")
    plan = Plan(session)
    change = play_through(nodes_of(session, plan)["band"], material(x))
    lows = play_through(plan.parts["s", 1][0], material(x))
    assert np.abs(change - lows * (10 ** (-6 / 20) - 1.0)).max() < 1e-9
    alone = Plan(session, solo=("s/1", "s/3"))
    parts = [play_through(alone.parts["s", n][1], material(x)) for n in (1, 3)]
    assert np.abs(play_through(alone.result, material(x)) - sum(parts)).max() < 1e-9
    assert np.abs(play_through(plan.result, material(x)) - play_through(alone.result, material(x))).max() > 1e-3


def test_a_band_listens_to_the_same_range_of_another_strip() -> None:
    """The key's lows duck the lows; its highs, which are far louder, do not."""
    t = np.arange(2 * RATE) / RATE
    tone = np.repeat((0.2 * np.sin(2 * np.pi * 80 * t))[:, None], 2, axis=1)
    low = np.where(t > 1.0, 0.5, 0.0)[:, None] * np.repeat(np.sin(2 * np.pi * 60 * t)[:, None], 2, axis=1)
    high = np.where(t > 1.0, 0.9, 0.0)[:, None] * np.repeat(np.sin(2 * np.pi * 9000 * t)[:, None], 2, axis=1)
    duck = Glue(id="g", ratio=4.0, threshold=-30.0, release=20.0)
    made = split([duck], [], crossovers=(300.0,))
    made = msgspec.structs.replace(made, bands=(msgspec.structs.replace(made.bands[0], key="k"), made.bands[1]))
    media = Media(path="x.wav", size=1, sha256="0" * 64)

    def lost(key: np.ndarray) -> float:
        session = checked(
            Session(
                rate=RATE,
                strips=(
                    Bus(id="mix", name="Mix", into=""),
                    Bus(id="b", name="B", into="mix", chain=(made,)),
                    Stem(id="stem-1", name="S", into="b", media=media),
                    Stem(
                        id="k", name="K", into="mix", mute=True, media=msgspec.structs.replace(media, sha256="1" * 64)
                    ),
                ),
            )
        )
        y = play_through(Plan(session).result, material(tone, k=key))
        return float(20 * np.log10(np.std(y[round(1.5 * RATE) :]) / np.std(y[RATE // 2 : RATE])))

    assert lost(low) < -10.0 and abs(lost(high)) < 0.1


def test_a_glue_that_feeds_back_follows_the_key_of_its_band() -> None:
    x, key = noise(1.0, 0.02), noise(1.0, 0.4, seed=7)
    taken = []
    for keys in ((), (np.ascontiguousarray(key[:4096]),)):
        processor = Glue(ratio=4.0, threshold=-30.0, feed_back=True, attack=1.0).make(RATE)
        processor.keys = keys
        processor.run(np.ascontiguousarray(x[:4096]), np.zeros((4096, 2)))
        taken.append(processor.reduction.max())
    assert taken[1] > taken[0] + 5.0


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_no_click_when_bands_come_go_move_and_merge_while_it_plays(phase: str) -> None:
    """On a steady tone every jump would be heard as energy far above it."""
    t = np.arange(12 * RATE) / RATE
    x = np.repeat((0.3 * np.sin(2 * np.pi * 220.0 * t))[:, None], 2, axis=1)
    steps: list[Split] = [split([IDLE], [], [], phase=phase)]
    steps.append(steps[-1].divided(2))
    steps.append(steps[-1].with_crossover(0, 400.0))
    steps.append(steps[-1].with_band(1, gain=-3.0))
    steps.append(steps[-1].merged(1))
    steps.append(steps[-1].with_band(steps[-1].bands[-1].id, target="side"))
    steps.append(steps[-1].without_part(steps[-1].bands[-1].id))
    steps.append(msgspec.structs.replace(steps[-1], slope=48))
    engine = Engine(material(x), {}, one([steps[0]]))
    engine.listen(Monitoring())
    engine.play()
    heard = [pulled(engine, RATE)]
    for made in steps[1:]:
        engine.change(one([made]))
        heard.append(pulled(engine, RATE))
    y = np.concatenate(heard)[RATE // 2 :]
    high = run_chain([Cut(crossovers=(4000.0,), place=1, slope=48)], y, RATE)
    assert np.abs(high[RATE // 4 :]).max() < 10 ** (-66 / 20)  # of a tone at −10 dBFS
    assert np.abs(y).max() < 0.3 * 10 ** (3.0 / 20)


# --- amounts -------------------------------------------------------------------------------------------------------


HEAVY = Glue(id="g", ratio=8.0, threshold=-40.0, attack=1.0)


@pytest.mark.parametrize("amount", [0.0, 35.0, 100.0, 150.0])
@pytest.mark.parametrize("look_ahead", [0.0, 3.0])
def test_the_amount_of_a_chain_lies_between_what_came_and_what_was_made_of_it(amount: float, look_ahead: float) -> None:
    x = music(1.5)
    chain = (msgspec.structs.replace(HEAVY, look_ahead=look_ahead), Saturation(id="t", drive=9.0, low=200.0))
    session = one(chain)
    whole = play_through(Plan(session).result, material(x))
    some = session.with_strip(msgspec.structs.replace(session.mix, amount=amount))
    got = play_through(Plan(some).result, material(x))
    came = x.astype(np.float32)
    assert np.abs(got - (came + amount / 100.0 * (whole - came))).max() < 1e-9
    if amount in (0.0, 100.0):
        assert np.abs(got - (came if amount == 0.0 else whole)).max() == 0.0


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_the_amount_of_a_split_is_of_all_that_its_bands_do(phase: str) -> None:
    x = music(1.5)
    made = split([HEAVY], [Trim(id="t", gain=3.0)], [], phase=phase, id="s")
    made = made.with_band(2, gain=-4.0, mix=70.0, target="mid").with_band(3, gain=2.0)
    got = {a: exactly([msgspec.structs.replace(made, amount=a)], x) for a in (0.0, 1.0, 50.0, 100.0, 150.0)}
    assert np.array_equal(got[0.0], x.astype(np.float32).astype(np.float64))  # past the crossovers
    assert np.array_equal(got[100.0], exactly([made], x))
    slope = (got[100.0] - got[50.0]) / 50.0
    for amount in (1.0, 150.0):
        assert np.abs(got[amount] - (got[100.0] + (amount - 100.0) * slope)).max() < 1e-9
    if phase == "linear":
        assert np.abs(got[50.0] - 0.5 * (got[0.0] + got[100.0])).max() < 1e-9


def test_the_amount_of_a_lane_is_of_what_its_steps_do() -> None:
    x = music(1.5)
    lane = Lane(id="l", level=-6.0, steps=(msgspec.structs.replace(HEAVY, look_ahead=2.0),))
    got = {a: exactly([msgspec.structs.replace(lane, amount=a)], x) for a in (0.0, 40.0, 100.0, 150.0)}
    empty = exactly([msgspec.structs.replace(lane, steps=())], x)
    assert np.abs(got[0.0] - empty).max() < 1e-12
    for amount in (40.0, 150.0):
        assert np.abs(got[amount] - (got[0.0] + amount / 100.0 * (got[100.0] - got[0.0]))).max() < 1e-9
    assert np.array_equal(exactly([msgspec.structs.replace(lane, steps=(), amount=20.0)], x), empty)


def test_reduction_is_told_as_it_arrives_by_the_amount() -> None:
    session = one([HEAVY])
    renderer = Renderer(material(music(3.0)))
    told = {}
    for amount in (0.0, 50.0, 100.0, 150.0):
        some = session.with_strip(msgspec.structs.replace(session.mix, amount=amount))
        told[amount] = mean_along(renderer.song(some), "mix")
    assert told[0.0] == 0.0 < told[50.0] < told[100.0] < told[150.0]


def test_an_amount_moves_no_threshold() -> None:
    session = hold(Renderer(material(music(3.0))), one([msgspec.structs.replace(HEAVY, hold_aim=True, aim=3.0)]), None)
    more = session.with_strip(msgspec.structs.replace(session.mix, amount=140.0))
    again = hold(Renderer(material(music(3.0))), more, None)
    assert again.step("g") == session.step("g")


@pytest.mark.parametrize("what", ["chain", "split", "lane"])
def test_an_amount_is_moved_while_it_plays_without_a_click(what: str) -> None:
    t = np.arange(9 * RATE) / RATE
    x = np.repeat((0.3 * np.sin(2 * np.pi * 220.0 * t))[:, None], 2, axis=1)
    lowered = Trim(id="t", gain=-6.0)

    def with_amount(amount: float) -> Session:
        if what == "chain":
            session = one([lowered])
            return session.with_strip(msgspec.structs.replace(session.mix, amount=amount))
        if what == "split":
            return one([split([lowered], [IDLE], amount=amount)])
        return one([Lane(id="l", level=-6.0, steps=(lowered,), amount=amount)])

    engine = Engine(material(x), {}, with_amount(100.0))
    engine.listen(Monitoring())
    engine.play()
    heard = [pulled(engine, RATE)]
    for amount in (60.0, 100.0, 150.0, 0.0, 100.0):
        engine.change(with_amount(amount))
        heard.append(pulled(engine, RATE))
    y = np.concatenate(heard)[RATE // 2 :]
    high = run_chain([Cut(crossovers=(4000.0,), place=1, slope=48)], y, RATE)
    assert np.abs(high[RATE // 4 :]).max() < 10 ** (-66 / 20)
    levels = [np.abs(part[RATE // 2 :]).max() for part in heard]
    assert len({round(float(level), 4) for level in levels}) == 4  # each is heard, and the first again


# --- mid and side apart --------------------------------------------------------------------------------------------


def apart(*steps: Step, phase: str = "minimum") -> Split:
    """A Split with three bands of mid and two of side, other crossovers, and steps in the lowest of the side."""
    made = split([IDLE], [], [], crossovers=(200.0, 3000.0), phase=phase).with_side(True)
    lowest = msgspec.structs.replace(made.side_bands[0], steps=steps)
    return msgspec.structs.replace(made, side_bands=(lowest, made.side_bands[-1]), side_crossovers=(700.0,))


@pytest.mark.parametrize("phase", ["minimum", "linear"])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_mid_and_side_apart_add_up_flat_and_stay_in_step(phase: str, rate: int) -> None:
    """A click on the left alone stays there: both parts are turned alike."""
    click = np.zeros((rate, 2))
    click[rate // 3, 0] = 0.5
    y = exactly([apart(phase=phase)], click, rate)
    spectra = np.abs(np.fft.rfft(y[:, 0])), np.abs(np.fft.rfft(click[:, 0]))
    inside = slice(30, 20_000)
    assert np.abs(20 * np.log10(spectra[0][inside] / spectra[1][inside])).max() < 0.01
    assert np.abs(y[:, 1]).max() < 1e-12


def test_a_step_on_the_sides_lows_leaves_the_mid_and_the_sides_highs() -> None:
    x = music(1.0)
    bare, with_gain = exactly([apart()], x), exactly([apart(Trim(id="t", gain=-12.0))], x)
    mid, side = (lambda v: v[:, 0] + v[:, 1]), (lambda v: v[:, 0] - v[:, 1])
    assert np.abs(mid(with_gain) - mid(bare)).max() < 1e-12
    spectra = [np.abs(np.fft.rfft(side(v))) for v in (with_gain, bare)]
    ratio = spectra[0] / np.maximum(spectra[1], 1e-9)
    assert ratio[50:150].mean() == pytest.approx(10 ** (-12 / 20), rel=0.05)
    assert ratio[6000:9000].mean() == pytest.approx(1.0, rel=0.01)


def test_bands_of_both_are_told_apart_and_edited_each_in_its_set() -> None:
    made = apart(Trim(id="t"))
    assert made.names == ("Mid lows", "Mid mids", "Mid highs", "Side lows", "Side highs")
    assert len({band.id for band in made.all_bands}) == 5 and len(made.edges) == len(made.row_ids) == 5
    assert made.told_rows[3].words == "20 Hz – 700 Hz" and made.told_rows[3].steps == (Trim(id="t"),)
    more = made.divided(made.side_bands[1].id)
    assert len(more.side_bands) == 3 and more.bands == made.bands and more.crossovers == made.crossovers
    assert more.merged(more.side_bands[0].id).side_bands[0].steps == (Trim(id="t"),)
    assert made.without_part(made.side_bands[0].id) is made  # two there must be
    assert made.with_crossover(0, 500.0, 1).side_crossovers == (500.0,)
    assert made.with_crossover(0, 100.0).crossovers[0] == 100.0 and made.divided(99) is made is made.merged(99)
    assert made.with_rows(made.rows) == made
    assert made.with_side(True) is made and made.with_side(False).side_bands == ()
    assert "3 bands of mid, 2 of side" in made.describe() and "crossovers of the side" in made.in_words


# --- bands as values -----------------------------------------------------------------------------------------------


@settings(max_examples=80, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["divide", "merge", "remove", "move"]), st.integers(0, 4), st.floats(20.0, 20_000.0))
    )
)
def test_whatever_is_done_to_bands_they_stay_in_order(deeds: list[tuple[str, int, float]]) -> None:
    made = split([IDLE], [Trim(id="t")], [])
    for deed, n, freq in deeds:
        band = made.bands[n % len(made.bands)].id
        if deed == "divide":
            made = made.divided(band)
        elif deed == "merge":
            made = made.merged(band)
        elif deed == "remove":
            made = made.without_part(band)
        else:
            made = made.with_crossover(n % len(made.crossovers), freq)
        assert made.problem() == "" and 2 <= len(made.bands) <= 5
        assert all(LOWEST <= f <= HIGHEST for f in made.crossovers)
        assert all(b / a >= APART * 0.999 for a, b in itertools.pairwise(made.crossovers))
        checked(one([made]))


def test_a_split_in_two_keeps_the_lower_chain_and_merging_keeps_what_there_is() -> None:
    made = split([], [Trim(id="t")], [Glue(id="g")])
    more = made.divided(2)
    assert [len(band.steps) for band in more.bands] == [0, 1, 0, 1] and more.names[1] == "Low mids"
    assert 160.0 < more.crossovers[1] < 1200.0
    fewer = made.merged(1)
    assert [band.id for band in fewer.bands] == [1, 3] and fewer.bands[0].steps == (Trim(id="t"),)
    assert made.merged(3) == made and made.merged(1).merged(1) == made.merged(1)


def nested() -> tuple[ChainItem, ...]:
    inner = split([Trim(id="p")], [Trim(id="q")], crossovers=(300.0,), id="s2")
    return (
        Trim(id="a"),
        split([Trim(id="x")], [], [Trim(id="y")]),
        Lane(id="lane", since="a", steps=(Trim(id="m"), inner)),
        Trim(id="z"),
    )


def ids(chain: Sequence[Step]) -> str:
    return " ".join(chains.listed(chain))


def test_the_ledger_lists_containers_in_containers_with_their_bands() -> None:
    assert ids(nested()) == "a s s/1 x s/2 s/3 y lane m s2 s2/1 p s2/2 q z"
    assert [i.id for i in chains.containers_of(nested(), "q")] == ["lane", "s2"]
    assert [i.id for i in chains.containers_of(nested(), "s2/2")] == ["lane", "s2"]


def test_steps_go_through_bands_and_lanes_and_out_again() -> None:
    chain, seen = nested(), []
    for _ in range(12):
        chain = chains.moved(chain, "a", 1)
        seen.append(ids(chain))
        assert sorted(i.id for i in chains.flat(chain)) == sorted(i.id for i in chains.flat(nested()))
    assert (
        seen[0].startswith("s s/1 a x") and seen[1].startswith("s s/1 x a s/2") and seen[2].startswith("s s/1 x s/2 a")
    )
    back = chain
    for _ in range(12):
        back = chains.moved(back, "a", -1)
    assert ids(back).startswith("a s s/1 x")
    down = chains.moved(nested(), "s", 1)
    assert "lane s s/1" in ids(down) and chains.container_of(down, "s").id == "lane"
    lane = nested()
    for _ in range(5):
        lane = chains.moved(lane, "lane", -1)
    assert ids(lane).startswith("lane") and chains.container_of(lane, "lane") is None  # never inside another container


def test_drops_and_insertions_find_their_band() -> None:
    chain, new = nested(), Trim(id="n")
    assert "s/2 n s/3" in ids(chains.inserted(chain, new, inside="s/2"))
    assert "s/1 x n s/2" in ids(chains.inserted(chain, new, "x"))
    assert "s2/2 q n z" in ids(chains.inserted(chain, new, "q"))
    assert ids(chains.inserted(chain, Lane(id="l2"), "q")).endswith(
        "s2/2 q l2 z"
    )  # a lane goes behind what it may not be in
    assert "y s3 s3/1" in ids(chains.inserted(chain, split([], [], id="s3"), "y"))
    assert "s/2 z s/3" in ids(chains.dropped(chain, "z", "s/3", "s/2"))
    assert "s/1 x z s/2" in ids(chains.dropped(chain, "z", "s/2", "x"))
    assert "s/3 z y" in ids(chains.dropped(chain, "z", "y", "s/3"))
    assert ids(chains.dropped(chain, "x", "", "z")).endswith("z x")
    assert ids(chains.dropped(chain, "s", "p", "s2/1")).find("s2/1 p") > 0  # no Split in a Split
    assert "x" not in ids(chains.without(chain, "x")).split()


def test_a_pasted_split_gets_ids_of_its_own() -> None:
    session = one(nested())
    more = session.with_new_step(session.item("s"), "mix", "z")
    assert len({item.id for item in more.items}) == len(more.items) == len(session.items) + 3
    checked(more)


def test_held_settings_are_found_in_bands() -> None:
    made = split(
        [Glue(id="g1", ratio=3.0, threshold=0.0, aim=2.0, hold_aim=True)],
        [],
        [Glue(id="g2", ratio=2.0, threshold=0.0, aim=1.0, hold_aim=True)],
    )
    renderer = Renderer(material(music(6.0)))
    span = Span(2.0, 5.0)
    session = hold(renderer, one([made]), span)
    render = renderer.section(session, span)
    for id, aim in (("g1", 2.0), ("g2", 1.0)):
        joint = render.joint(id)
        assert joint is not None and joint.reduced(span).peaks == pytest.approx(aim, abs=0.05)
    assert not session.item("s").is_transparent


# --- what cannot be ------------------------------------------------------------------------------------------------


def raw(**changes: object) -> dict[str, object]:
    session = one([split([Trim(id="t")], [], [])])
    plain = msgspec.to_builtins(session)
    plain["strips"][0]["chain"][0].update(changes)
    return plain


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"crossovers": [4000.0, 160.0]}, "crossovers that do not rise"),
        ({"crossovers": [500.0, 500.0]}, "crossovers that do not rise"),
        ({"crossovers": [500.0]}, "3 bands and 1 crossovers"),
        ({"crossovers": [10.0, 500.0]}, "makes no sense"),
        ({"bands": [{"id": n} for n in range(1, 9)]}, "makes no sense"),
        ({"bands": [{"id": 1}, {"id": 1}, {"id": 2}]}, "two bands with the same id"),
        ({"bands": [{"id": 0}, {"id": 1}, {"id": 2}]}, "makes no sense"),
        ({"bands": [{"id": 1, "steps": [{"step": "lane", "id": "l"}]}, {"id": 2}, {"id": 3}]}, "makes no sense"),
        ({"bands": [{"id": 1, "steps": [{"step": "split", "id": "l"}]}, {"id": 2}, {"id": 3}]}, "makes no sense"),
        ({"slope": 18}, "makes no sense"),
        ({"amount": 151.0}, "makes no sense"),
        ({"side_bands": [{"id": 9}]}, "1 side bands; there may be 2 to 5"),
        ({"side_bands": [{"id": 8}, {"id": 9}]}, "2 side bands and 0 crossovers"),
        ({"side_bands": [{"id": 1}, {"id": 9}], "side_crossovers": [500.0]}, "two bands with the same id"),
        ({"side_crossovers": [500.0]}, "crossovers of the side, which has no bands"),
    ],
)
def test_a_split_that_makes_no_sense_is_refused_with_a_sentence(changes: dict[str, object], words: str) -> None:
    with pytest.raises(SessionError, match=words) as told:
        loaded_from(raw(**changes), "Song.gluvo")
    assert str(told.value).startswith("Song.gluvo") and str(told.value).endswith(".")


def test_a_lane_cannot_begin_inside_a_split_and_edits_are_refused_alike() -> None:
    with pytest.raises(SessionError, match="would come back before it leaves"):
        checked(one([split([Trim(id="t")], []), Lane(id="lane", since="t")]))
    with pytest.raises(SessionError, match="crossovers that do not rise"):
        checked(one([msgspec.structs.replace(split([], [], []), crossovers=(900.0, 900.0))]))


def test_a_band_never_listens_to_itself() -> None:
    """Neither a band nor a step in it: through whatever strips the circle goes."""
    band = SplitBand(id=1, key="b", steps=(Glue(id="g", ratio=2.0),))
    own = Split(id="s", bands=(band, SplitBand(id=2)), crossovers=(300.0,))
    step = Split(id="s", bands=(SplitBand(id=1, steps=(Glue(id="g", key="b"),)), SplitBand(id=2)), crossovers=(300.0,))
    media = Media(path="x.wav", size=1, sha256="0" * 64)
    for made in (own, step):
        session = Session(
            strips=(
                Bus(id="mix", name="Mix", into=""),
                Bus(id="b", name="Lows", into="mix", chain=(made,)),
                Stem(id="stem-1", name="S", into="b", media=media),
            )
        )
        with pytest.raises(SessionError, match="A key in “Lows” already depends on what comes out of there"):
            checked(session)
